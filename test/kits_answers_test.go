package test

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/node"
)

// form writes the head of an answer and its body in one of the ways that RFC 9112 allows, or in a wrong one, and
// reports whether the connection goes on.
type form func(w io.Writer, body []byte) bool

func plain(w io.Writer, body []byte) bool {
	_, err := fmt.Fprintf(w, "HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s", len(body), body)
	return err == nil
}

func chunked(w io.Writer, body []byte) bool {
	_, _ = io.WriteString(w, "HTTP/1.1 200\r\nTRANSFER-ENCODING:chunked \r\nDate: now\r\n\r\n")
	for len(body) > 0 {
		n := min(7, len(body))
		_, _ = fmt.Fprintf(w, "0%X;name=\"value\"\r\n%s\r\n", n, body[:n])
		body = body[n:]
	}
	_, err := io.WriteString(w, "0\r\nDigest: none\r\n\r\n")
	return err == nil
}

func written(format string) form {
	return func(w io.Writer, body []byte) bool {
		_, _ = fmt.Fprintf(w, strings.ReplaceAll(format, "\n", "\r\n"), len(body), body)
		return false
	}
}

// goodForms say the same; whatever serves or carries a node's answers may choose among them.
var goodForms = map[string]form{
	"plain":   plain,
	"chunked": chunked,
	"behind interim answers": func(w io.Writer, body []byte) bool {
		_, _ = io.WriteString(w, "HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 103 Early Hints\r\nLink: </a.css>\r\nContent-Length: 3\r\n\r\n")
		return plain(w, body)
	},
	"in drips": func(w io.Writer, body []byte) bool {
		var all bytes.Buffer
		chunked(&all, body)
		for one := range bytes.SplitSeq(all.Bytes(), nil) {
			_, _ = w.Write(one)
		}
		return true
	},
	"until its close": written("HTTP/1.1 200 OK\nServer: %d\n\n%s"),
	"of HTTP/1.0":     written("HTTP/1.0 200 OK\nContent-Length: %d\n\n%s"),
	"says its close":  written("HTTP/1.1 200 OK\nContent-Length: %d\nconnection: Close\n\n%s"),
	"given up while it rests": func(w io.Writer, body []byte) bool {
		plain(w, body)
		_, _ = io.WriteString(w, "HTTP/1.1 408 Request Timeout\r\nConnection: close\r\nContent-Length: 4\r\n\r\nlate")
		return false
	},
	"closed while it rests": func(w io.Writer, body []byte) bool {
		plain(w, body)
		return false
	},
}

// badForms are no answers.
var badForms = map[string]form{
	"half":                    written("HTTP/1.1 200 OK\nContent-Length: 1%d\n\n%s"),
	"of a length below zero":  written("HTTP/1.1 200 OK\nContent-Length: -%d\n\n%s"),
	"of a length of words":    written("HTTP/1.1 200 OK\nContent-Length: %d bytes\n\n%s"),
	"longer than all memory":  written("HTTP/1.1 200 OK\nContent-Length: 99999999999%d\n\n%s"),
	"a chunk without an end":  written("HTTP/1.1 200 OK\nTransfer-Encoding: chunked\n\nffff%x\n%s"),
	"a chunk of another size": written("HTTP/1.1 200 OK\nTransfer-Encoding: chunked\n\n%.0s1\n%s\n0\n\n"),
	"a chunk of no size":      written("HTTP/1.1 200 OK\nTransfer-Encoding: chunked\n\n%.0s-1\n%s\n0\n\n"),
	"of another protocol":     written("SSH-2.0-%d\n\n%s"),
	"a head that ends early":  written("HTTP/1.1 200 OK\nContent-Length: %d"),
	"a head without an end": func(w io.Writer, _ []byte) bool {
		for range 100 {
			_, _ = fmt.Fprintf(w, "HTTP/1.1 200 OK\r\nX: %s", strings.Repeat("x", 4096))
		}
		return false
	},
	"an end that does not come": func(w io.Writer, body []byte) bool {
		_, _ = fmt.Fprintf(w, "HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n", len(body)+1)
		_, _ = w.Write(body)
		_, _ = io.Copy(io.Discard, w.(net.Conn)) // until the kit gives up
		return false
	},
}

// relay stands before a node and gives its answers in a form.
func relay(t *testing.T, l net.Listener, control string, write form) {
	t.Cleanup(func() { l.Close() })
	serve := func(conn net.Conn) {
		defer conn.Close()
		in := bufio.NewReader(conn)
		for {
			r, err := http.ReadRequest(in)
			if err != nil {
				return
			}
			sent, err := io.ReadAll(r.Body)
			if err != nil {
				return
			}
			onward, err := http.NewRequest(r.Method, control+r.URL.RequestURI(), bytes.NewReader(sent))
			if err != nil {
				return
			}
			onward.Header = r.Header
			answer, err := http.DefaultTransport.RoundTrip(onward)
			if err != nil {
				return
			}
			body, err := io.ReadAll(answer.Body)
			answer.Body.Close()
			if err != nil || !write(conn, body) {
				return
			}
		}
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go serve(conn)
		}
	}()
}

// TestKitsReadAnswersOfEveryForm: what is stored is found, however its answer comes; without a sound answer
// a fragment is made.
func TestKitsReadAnswersOfEveryForm(t *testing.T) {
	dir := t.TempDir()
	file, key := certificate(t, dir, 1)
	for _, name := range []string{"SSL_CERT_FILE", "NODE_EXTRA_CA_CERTS"} { // whom the kits' processes trust
		t.Setenv(name, file)
	}
	pair, err := tls.LoadX509KeyPair(file, key)
	require.NoError(t, err)
	site := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(site.Close)
	n := startNode(t, node.Settings{Name: "a", Data: dir, Origin: site.URL, AdminToken: "answers-of-every-form"})
	made, err := client.New(n.ControlURL(), "answers-of-every-form").CreateToken(ctx, "shop", []string{"fragments"}, "shop")
	require.NoError(t, err)
	listen := func() net.Listener {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		return l
	}
	body := strings.Repeat("Ærø ", 500)
	item := func(name string) told { return told{"name": "card", "parts": []any{name}, "lifetime": "1h"} }
	found := func(t *testing.T, k *kit, name string) {
		for i := range 4 {
			answer := k.does("fill", told{"item": item(name), "body": body})
			assert.Equal(t, body, answer["value"])
			assert.Equal(t, i == 0, answer["filled"] == 1.0)
		}
		assert.Equal(t, 0.0, k.does("counts", nil)["counts"].(told)["failed"])
	}
	for language := range kits {
		if language == "asyncio" {
			continue // its answers are read by the same code
		}
		for name, write := range goodForms {
			t.Run(language+" "+name, func(t *testing.T) {
				t.Parallel()
				l := listen()
				relay(t, l, n.ControlURL(), write)
				found(t, startKit(t, language, "http://"+l.Addr().String(), made.Secret), language+name)
			})
		}
		t.Run(language+" over TLS", func(t *testing.T) {
			l := listen()
			relay(t, tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{pair}}), n.ControlURL(), plain)
			found(t, startKit(t, language, "https://"+l.Addr().String(), made.Secret), language+"TLS")
		})
		for name, write := range badForms {
			t.Run(language+" "+name, func(t *testing.T) {
				t.Parallel()
				l := listen()
				relay(t, l, n.ControlURL(), write)
				k := startKit(t, language, "http://"+l.Addr().String(), made.Secret)
				k.does("counts", nil) // it has started
				began := time.Now()
				answer := k.does("fill", told{"item": item(language + name), "body": body})
				assert.Equal(t, []any{body, 1.0}, []any{answer["value"], answer["filled"]})
				assert.NotZero(t, k.does("counts", nil)["counts"].(told)["failed"])
				assert.Less(t, time.Since(began), 3*time.Second)
			})
		}
	}
}

// TestKitsTrustNoStranger: a certificate that nobody vouches for ends a call.
func TestKitsTrustNoStranger(t *testing.T) {
	dir := t.TempDir()
	file, key := certificate(t, dir, 1)
	pair, err := tls.LoadX509KeyPair(file, key)
	require.NoError(t, err)
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}})
	require.NoError(t, err)
	asked := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("its request, with the token, went out") }))
	defer asked.Close()
	relay(t, l, asked.URL, plain)
	for language := range kits {
		k := startKit(t, language, "https://"+l.Addr().String(), "a token")
		answer := k.does("fill", told{"item": told{"name": "card", "parts": []any{1}, "lifetime": "1h"}, "body": "made"})
		assert.Equal(t, []any{"made", 1.0}, []any{answer["value"], answer["filled"]}, language)
		assert.NotZero(t, k.does("counts", nil)["counts"].(told)["failed"], language)
	}
}
