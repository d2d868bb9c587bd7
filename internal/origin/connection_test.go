package origin

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/policy"
)

// server is an origin that answers each request with its number on its connection and the
// length of its body.
type server struct {
	url    string
	fields string // more lines of each answer's head
}

func newServer(t *testing.T, fields string) *server {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &server{url: "http://" + listener.Addr().String(), fields: fields}
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go s.serve(conn)
		}
	}()
	return s
}

func (s *server) serve(conn net.Conn) {
	defer conn.Close()
	in := bufio.NewReader(conn)
	for n := 1; ; n++ {
		r, err := http.ReadRequest(in)
		if err != nil {
			return
		}
		length, err := io.Copy(io.Discard, r.Body)
		if err != nil {
			return
		}
		text := fmt.Sprintf("%d:%d", n, length)
		fmt.Fprintf(conn, "HTTP/1.1 200 OK\r\n%sContent-Length: %d\r\n\r\n%s", s.fields, len(text), text)
	}
}

func clientOf(t *testing.T, s *server, settings string) *Client {
	return newClient(t, fmt.Sprintf("url: %q%s", s.url, settings))
}

// newClient returns the client of an origin of a policy.
func newClient(t *testing.T, settings string) *Client {
	p, err := policy.Outside{}.Parse("t.yaml", []byte("version: 1\norigins: [{ name: site, "+settings+" }]\n"))
	require.NoError(t, err)
	c := NewClient(p.Origins[0])
	t.Cleanup(c.Close)
	return c
}

// ask sends a request with a body that can be read once, as a visitor's.
func ask(t *testing.T, c *Client, method, body string) (string, error) {
	var reader io.Reader
	if body != "" {
		reader = io.MultiReader(strings.NewReader(body))
	}
	r, err := http.NewRequest(method, "http://site/x", reader)
	require.NoError(t, err)
	resp, err := c.Do(r, 5*time.Second)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	return string(text), err
}

func TestConnectionsAreUsedAgainWhileTheyAreFresh(t *testing.T) {
	for _, c := range []struct {
		name, fields, settings string
		rest                   time.Duration
		again                  bool
	}{
		{"at once", "", "", 0, true},
		{"beyond what the policy says", "", ", idle: 20ms", 60 * time.Millisecond, false},
		{"within what the policy says", "", ", idle: 10s", 60 * time.Millisecond, true},
		{"beyond the origin's word", "Keep-Alive: timeout=1\r\n", "", 20 * time.Millisecond, false},
		{"within the origin's word", "Keep-Alive: max=7, timeout=9\r\n", ", idle: 20ms", 60 * time.Millisecond, true},
		{"a word that is none", "Keep-Alive: timeout=soon\r\n", "", 20 * time.Millisecond, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newServer(t, c.fields)
			client := clientOf(t, s, c.settings)
			for i, method := range []string{"GET", "POST", "GET"} {
				time.Sleep(map[bool]time.Duration{false: 0, true: c.rest}[i > 0])
				got, err := ask(t, client, method, map[string]string{"POST": "0123456789"}[method])
				require.NoError(t, err, "whichever connection it was")
				want := map[bool]string{true: fmt.Sprint(i + 1), false: "1"}[c.again]
				assert.Equal(t, want+map[string]string{"POST": ":10", "GET": ":0"}[method], got)
			}
		})
	}
}

// TestPOSTSurvivesAConnectionThatRestedTooLong: what was not sent is sent once more, body
// and all; what was is not.
func TestPOSTSurvivesAConnectionThatRestedTooLong(t *testing.T) {
	s := newServer(t, "")
	client := clientOf(t, s, ", idle: 1ms")
	for i := range 100 {
		got, err := ask(t, client, "POST", strings.Repeat("x", 1+i*1000)) // up to 100 kB
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf("1:%d", 1+i*1000), got)
		time.Sleep(2 * time.Millisecond)
	}
	var reached atomic.Int64
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			if _, err := http.ReadRequest(bufio.NewReader(conn)); err == nil {
				reached.Add(1)
			}
			conn.Close()
		}
	}()
	_, err = ask(t, clientOf(t, &server{url: "http://" + listener.Addr().String()}, ""), "POST", "pay")
	assert.Error(t, err)
	assert.EqualValues(t, 1, reached.Load(), "what may have been carried out is not sent twice")
}

func TestAnOriginShowsThatItKeepsConnections(t *testing.T) {
	h := &habits{}
	h.stated.Store(statesNothing)
	assert.Equal(t, defaultIdle, h.limit())
	assert.Equal(t, unprovenIdle, h.limitOnce(), "what cannot be sent twice goes on one that hardly rested")
	h.hear(http.Header{"Keep-Alive": {"timeout=7"}})
	assert.Equal(t, 6*time.Second, h.limitOnce(), "unless the origin says how long it keeps them")
	h.stated.Store(statesNothing)
	ours, theirs := net.Pipe()
	defer theirs.Close()
	c := &connection{Conn: ours, habits: h}
	c.rests.Store(time.Now().Add(-provenIdle - time.Second).UnixNano())
	require.NoError(t, c.Close())
	assert.Equal(t, provenIdle, h.limit(), "it kept one for that long")
	assert.Equal(t, provenIdle, h.limitOnce())
	for rested, limit := range map[time.Duration]time.Duration{2 * time.Second: time.Second, 30 * time.Second: defaultIdle, 10 * time.Millisecond: provenIdle} {
		h.keeps.Store(true)
		h.closes.Store(0)
		ours, theirs = net.Pipe()
		c = &connection{Conn: ours, habits: h}
		c.rests.Store(time.Now().Add(-rested).UnixNano())
		theirs.Close()
		_, err := c.Read(make([]byte, 1))
		assert.ErrorIs(t, err, io.EOF)
		assert.Equal(t, limit, h.limit().Round(100*time.Millisecond), "it closed one after %v", rested)
	}
}
