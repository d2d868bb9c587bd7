package edge

import (
	"bufio"
	"fmt"
	"net"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// raw sends a request as it stands and returns the connection, the answer's head and what
// reads the rest.
func (s *rig) raw(request string) (net.Conn, *http.Response, *bufio.Reader) {
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
	require.NoError(s.t, err)
	s.t.Cleanup(func() { conn.Close() })
	_, err = fmt.Fprint(conn, request)
	require.NoError(s.t, err)
	in := bufio.NewReader(conn)
	resp, err := http.ReadResponse(in, nil)
	require.NoError(s.t, err)
	return conn, resp, in
}

// TestOnlyWebSocketsPass: one row a way to ask for another protocol.
func TestOnlyWebSocketsPass(t *testing.T) {
	for _, c := range []struct {
		name, target, fields string
		passes               bool
	}{
		{"a route that says so", "/sockets/a", "Connection: keep-alive, Upgrade\r\nUpgrade: WebSocket\r\n", true},
		{"no route", "//nobody", "Connection: upgrade\r\nUpgrade: websocket\r\n", true},
		{"a route that does not say so", "/ports/a", "Connection: Upgrade\r\nUpgrade: websocket\r\n", false},
		{"without the token in Connection", "/sockets/a", "Connection: keep-alive\r\nUpgrade: websocket\r\n", false},
		{"cleartext HTTP/2, which would go past all rules", "/sockets/a", "Connection: Upgrade, HTTP2-Settings\r\nUpgrade: h2c\r\nHTTP2-Settings: AAMAAABkAAQAoAAAAAIAAAAA\r\n", false},
		{"two protocols", "/sockets/a", "Connection: Upgrade\r\nUpgrade: websocket, h2c\r\n", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRigOf(t, "routes:"+strings.Replace(routesYAML, `"/{x...}" }`+"\n", `"/x/{x...}" }`+"\n", 1), func(w http.ResponseWriter, r *http.Request) {
				if r.Header.Get("Upgrade") == "" {
					fmt.Fprint(w, "plain")
					return
				}
				conn, rw, err := w.(http.Hijacker).Hijack()
				if err != nil {
					return
				}
				defer conn.Close()
				fmt.Fprintf(rw, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: %s\r\n\r\n", r.Header.Get("Upgrade"))
				rw.Flush()
				line, _ := rw.ReadString('\n')
				fmt.Fprintf(rw, "back: %s", line)
				rw.Flush()
			})
			conn, resp, in := s.raw("GET " + c.target + " HTTP/1.1\r\nHost: x\r\n" + c.fields + "\r\n")
			if !c.passes {
				assert.Equal(t, 200, resp.StatusCode, "the request goes on without it")
				again := s.get(strings.Replace(c.target, "//nobody", "/", 1), "Host: x")
				assert.True(t, again.hit(), "as any request of its route: %s", again.state)
				return
			}
			require.Equal(t, 101, resp.StatusCode)
			fmt.Fprintf(conn, "ahoy\n")
			line, err := in.ReadString('\n')
			require.NoError(t, err)
			assert.Equal(t, "back: ahoy\n", line)
		})
	}
}

// TestAnAnswerThatIsNoneIsA502: a change of protocol that nobody asked for, and a status
// below those of HTTP.
func TestAnAnswerThatIsNoneIsA502(t *testing.T) {
	for _, head := range []string{"101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: websocket", "101 Switching Protocols", "099 What", "000 Nothing"} {
		s := newRig(t, func(w http.ResponseWriter, _ *http.Request) {
			conn, _, err := w.(http.Hijacker).Hijack()
			if err == nil {
				fmt.Fprintf(conn, "HTTP/1.1 %s\r\nContent-Length: 0\r\n\r\n", head)
				conn.Close()
			}
		})
		for _, path := range []string{"/ports/a", "/x/a"} {
			assert.Equal(t, 502, s.get(path).status, "%s: %s", path, head)
		}
		assert.Equal(t, 502, s.do("POST", "/x/a").status, head)
	}
}
