package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// callable is a server that counts its connections, and connections to it.
func callable(t *testing.T, secure bool, do http.HandlerFunc) (*httptest.Server, *conns, *atomic.Int64) {
	opened := new(atomic.Int64)
	s := httptest.NewUnstartedServer(do)
	s.Config.ConnState = func(_ net.Conn, state http.ConnState) {
		if state == http.StateNew {
			opened.Add(1)
		}
	}
	if s.Start(); secure {
		s.Close()
		s = httptest.NewTLSServer(do)
	}
	t.Cleanup(s.Close)
	base, err := url.Parse(s.URL)
	require.NoError(t, err)
	c := newConns(base, "a token")
	if secure {
		c.tls.RootCAs = s.Client().Transport.(*http.Transport).TLSClientConfig.RootCAs
	}
	t.Cleanup(c.closeIdle)
	return s, c, opened
}

// exchanged makes a call and reads its answer.
func exchanged(ctx context.Context, c *conns, body string, within time.Duration) (string, error) {
	r, err := c.post(ctx, "/v1/fragments/lookup", []byte(body), within)
	if err != nil {
		return "", err
	}
	defer r.end()
	text, err := io.ReadAll(r)
	return string(text), err
}

func echo(w http.ResponseWriter, r *http.Request) {
	text, _ := io.ReadAll(r.Body)
	fmt.Fprintf(w, "%s %s", r.Header.Get("Authorization"), text)
}

// TestAnswersOfEveryForm come whole, over as many connections as they need.
func TestAnswersOfEveryForm(t *testing.T) {
	large := bytes.Repeat([]byte("0123456789abcdef"), 64<<10)
	for name, form := range map[string]struct {
		secure bool
		do     http.HandlerFunc
		opens  int64
		want   string
	}{
		"short":    {do: echo, opens: 1, want: "Bearer a token hello"},
		"over TLS": {do: echo, secure: true, want: "Bearer a token hello"},
		"in pieces": {opens: 1, want: "onetwo", do: func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write([]byte("one"))
			_ = http.NewResponseController(w).Flush()
			_, _ = w.Write([]byte("two"))
		}},
		"behind hints": {opens: 1, want: "late", do: func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(http.StatusEarlyHints)
			_, _ = w.Write([]byte("late"))
		}},
		"large": {opens: 1, want: string(large), do: func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(large) }},
		"empty": {opens: 1, do: func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) }},
		"the last of a connection": {opens: 5, want: "bye", do: func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Connection", "close")
			_, _ = w.Write([]byte("bye"))
		}},
	} {
		t.Run(name, func(t *testing.T) {
			_, c, opened := callable(t, form.secure, form.do)
			for range 5 {
				text, err := exchanged(t.Context(), c, "hello", time.Minute)
				require.NoError(t, err)
				require.Equal(t, form.want, text)
			}
			if !form.secure {
				assert.Equal(t, form.opens, opened.Load(), "connections")
			}
		})
	}
	_, c, _ := callable(t, true, echo)
	c.tls = &tls.Config{ServerName: "127.0.0.1"}
	_, err := exchanged(t.Context(), c, "", time.Minute)
	assert.ErrorContains(t, err, "certificate", "nobody vouches for it")
}

// TestAConnectionThatRested for too long is replaced by another, without a word.
func TestAConnectionThatRested(t *testing.T) {
	s, c, opened := callable(t, false, echo)
	var together sync.WaitGroup
	for range 8 {
		together.Go(func() {
			_, err := exchanged(t.Context(), c, "x", time.Minute)
			assert.NoError(t, err)
		})
	}
	together.Wait()
	s.CloseClientConnections()
	before := opened.Load()
	_, err := exchanged(t.Context(), c, "x", time.Minute)
	require.NoError(t, err)
	assert.Equal(t, before+1, opened.Load())
	c.mu.Lock()
	assert.Len(t, c.idle, 1, "those that were closed with it are not tried")
	c.idle[0].lastUsed = time.Now().Add(-time.Hour)
	first := c.idle[0]
	c.mu.Unlock()
	raw, err := net.Dial("tcp", c.address)
	require.NoError(t, err)
	c.give(&conn{Conn: raw})
	_, err = first.Write([]byte("x"))
	assert.ErrorIs(t, err, net.ErrClosed, "it rested for an hour")
}

// TestAConnectionThatIsGivenUp while it rests: what is said to nobody is nobody's answer.
func TestAConnectionThatIsGivenUp(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	rests, said := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(said)
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = http.ReadRequest(bufio.NewReader(conn))
			_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
			<-rests
			_, _ = io.WriteString(conn, "HTTP/1.1 408 Request Timeout\r\nContent-Length: 4\r\nConnection: close\r\n\r\nlate")
			said <- struct{}{}
			_, _ = io.Copy(io.Discard, conn) // what the caller sends then is nobody's question
			_ = conn.Close()
		}
	}()
	c := newConns(&url.URL{Scheme: "http", Host: l.Addr().String()}, "a token")
	for range 5 {
		text, err := exchanged(t.Context(), c, "x", time.Minute)
		require.NoError(t, err)
		assert.Equal(t, "ok", text)
		rests <- struct{}{}
		<-said
	}
	c.closeIdle()
	l.Close()
	<-said
}

// TestCallsEnd when their time is up or their caller leaves, and what comes later is nobody's answer.
func TestCallsEnd(t *testing.T) {
	var late atomic.Bool
	release := make(chan struct{})
	_, c, _ := callable(t, false, func(w http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		if late.Load() {
			<-release
		}
		_, _ = w.Write(text)
	})
	defer close(release)
	left := errors.New("the caller left")
	for _, begin := range []string{"on a connection that was used", "on a new one"} {
		late.Store(false)
		text, err := exchanged(t.Context(), c, begin, time.Minute)
		require.NoError(t, err)
		require.Equal(t, begin, text)
		late.Store(true)
		_, err = exchanged(t.Context(), c, "never", 10*time.Millisecond)
		assert.ErrorIs(t, err, context.DeadlineExceeded)
		assert.ErrorIs(t, err, errTooLate)
		assert.Empty(t, c.idle, "its answer may still come")
		ctx, cancel := context.WithCancelCause(t.Context())
		time.AfterFunc(10*time.Millisecond, func() { cancel(left) })
		_, err = exchanged(ctx, c, "never", time.Minute)
		assert.ErrorIs(t, err, left)
		_, err = exchanged(ctx, c, "never", time.Minute)
		assert.ErrorIs(t, err, left, "already")
	}
	c.address = "127.0.0.1:1"
	_, err := exchanged(t.Context(), c, "", time.Minute)
	assert.ErrorContains(t, err, "refused")
	assert.NotErrorIs(t, err, context.DeadlineExceeded)
}

// TestAnswersThatAreNone are errors, and their connections are not used again.
func TestAnswersThatAreNone(t *testing.T) {
	for name, bytes := range map[string]string{
		"no HTTP": "hello\r\n\r\n", "half a head": "HTTP/1.1 200 OK\r\nContent-", "half a body": "HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\nhalf",
		"half a chunk": "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n9\r\nhalf", "nothing": "",
	} {
		_, c, opened := callable(t, false, func(w http.ResponseWriter, r *http.Request) {
			_, _ = io.Copy(io.Discard, r.Body)
			raw, _, _ := w.(http.Hijacker).Hijack()
			_, _ = raw.Write([]byte(bytes))
			raw.Close()
		})
		for i := range 2 {
			_, err := exchanged(t.Context(), c, "x", time.Minute)
			assert.Error(t, err, name)
			assert.EqualValues(t, i+1, opened.Load(), "%s: it is not asked twice", name)
		}
	}
	two := "HTTP/1.1 200 OK\r\nContent-Length: 1\r\n\r\naHTTP/1.1 200 OK\r\nContent-Length: 1\r\n\r\nb"
	_, c, _ := callable(t, false, func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		raw, _, _ := w.(http.Hijacker).Hijack()
		_, _ = raw.Write([]byte(two))
		time.AfterFunc(time.Second, func() { raw.Close() })
	})
	for range 3 {
		text, err := exchanged(t.Context(), c, "x", time.Minute)
		require.NoError(t, err)
		assert.Equal(t, "a", text, "what nobody asked for is nobody's answer")
	}
}
