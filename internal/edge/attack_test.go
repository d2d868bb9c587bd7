package edge

import (
	"bufio"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/store"
)

// open sends the beginning of a request, and reads nothing.
func (s *rig) open(text string) net.Conn {
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
	require.NoError(s.t, err)
	s.t.Cleanup(func() { conn.Close() })
	_ = conn.(*net.TCPConn).SetReadBuffer(4 << 10)
	_, err = io.WriteString(conn, text)
	require.NoError(s.t, err)
	return conn
}

// heard reads the answer on a connection, if it comes within a time; else it is one of
// status 0.
func heard(conn net.Conn, within time.Duration) *http.Response {
	_ = conn.SetReadDeadline(time.Now().Add(within))
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil {
		return &http.Response{}
	}
	return resp
}

// siege is a policy whose origin takes eight requests at a time.
const siege = `origins: [{ name: site, url: SITE, max_connections: 8, timeout: { answer: 5s } }]
routes: [{ name: all, match: { path: "/{x...}" } }]
`

// calm asks for pages that nobody asked for before, and holds the edge to answering each.
func (s *rig) calm() {
	for i := range 20 {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		r, err := http.NewRequestWithContext(ctx, "GET", fmt.Sprintf("%s/calm/%d", s.url, i), nil)
		require.NoError(s.t, err)
		resp, err := http.DefaultTransport.RoundTrip(r)
		if assert.NoError(s.t, err, "an ordinary page must be answered meanwhile") {
			assert.Equal(s.t, 200, resp.StatusCode)
			resp.Body.Close()
		}
		cancel()
	}
	http.DefaultTransport.(*http.Transport).CloseIdleConnections()
}

// TestSlowVisitorsLeaveRoomForOthers: of an origin's connections half at most go at the pace
// of visitors, however these hold theirs; the next one is told to come again.
func TestSlowVisitorsLeaveRoomForOthers(t *testing.T) {
	long := strings.Repeat("x", 64<<10)
	answer := func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		switch {
		case strings.HasPrefix(r.URL.Path, "/calm"):
			w.Header().Set("Cache-Control", "max-age=60")
			_, _ = io.WriteString(w, "calm")
		case r.URL.Path == "/events":
			w.Header().Set("Content-Type", "text/event-stream")
			_ = http.NewResponseController(w).Flush()
			<-r.Context().Done()
		case r.Method == "POST" && r.URL.Path == "/upload":
			_, _ = io.WriteString(w, "taken")
		default:
			w.Header().Set("Cache-Control", "no-store")
			for range 128 { // 8 MiB
				if _, err := io.WriteString(w, long); err != nil {
					return
				}
			}
		}
	}
	for name, request := range map[string]string{
		"uploads":                     "POST /upload HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\n\r\nbegun",
		"uploads in chunks":           "POST /upload HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nbegun\r\n",
		"uploads that wait to be let": "POST /upload HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\nExpect: 100-continue\r\n\r\n",
		"readers":                     "GET /long HTTP/1.1\r\nHost: x\r\n\r\n",
		"readers of what passes":      "GET //long HTTP/1.1\r\nHost: x\r\n\r\n",
		"readers of event streams":    "GET /events HTTP/1.1\r\nHost: x\r\nAccept: text/event-stream\r\n\r\n",
	} {
		t.Run(name, func(t *testing.T) {
			s := newRigOf(t, siege, answer)
			var conns []net.Conn
			for range 20 {
				conns = append(conns, s.open(request))
			}
			refused := 0
			assert.Eventually(t, func() bool {
				for i, conn := range conns {
					if conn == nil {
						continue
					}
					if resp := heard(conn, 10*time.Millisecond); resp.StatusCode == 503 {
						assert.Equal(t, "1", resp.Header.Get("Retry-After"))
						conns[i] = nil
						refused++
					}
				}
				return refused >= 16
			}, 10*time.Second, time.Millisecond, "those beyond half of the connections are told to come again")
			assert.Equal(t, 16, refused)
			s.calm()
		})
	}
}

// TestWhatWasCarriedOutIsNotRefused: the answer to a write is kept when there is no place for
// its slow reader; their connections are not held all the same.
func TestWhatWasCarriedOutIsNotRefused(t *testing.T) {
	s := newRigOf(t, siege, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/calm") {
			w.Header().Set("Cache-Control", "max-age=60")
			return
		}
		_, _ = io.WriteString(w, strings.Repeat("x", 300<<10))
	})
	var conns []net.Conn
	for range 12 {
		conns = append(conns, s.open("POST /order HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\n\r\n"))
	}
	assert.Eventually(t, func() bool { return s.asked.Load() == 12 }, 5*time.Second, time.Millisecond)
	s.calm()
	for _, conn := range conns {
		resp := heard(conn, 5*time.Second)
		assert.Equal(t, 200, resp.StatusCode)
		conn.Close()
	}
}

// TestClosedWindowsLeaveRoomForOthers: the same for streams of one HTTP/2 connection.
func TestClosedWindowsLeaveRoomForOthers(t *testing.T) {
	s := newRigOf(t, siege, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/calm") {
			w.Header().Set("Cache-Control", "max-age=60")
			return
		}
		w.Header().Set("Cache-Control", "no-store")
		_, _ = io.WriteString(w, strings.Repeat("x", 4<<20))
	})
	conn := s.open("PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n" + frame(4, 0, 0, "\x00\x04\x00\x00\x00\x00")) // SETTINGS: windows of nothing
	for i := range 20 {
		_, err := io.WriteString(conn, frame(1, 5, uint32(2*i+1), "\x82\x86"+literal(4, fmt.Sprintf("/long/%d", i))+literal(1, "x")))
		require.NoError(t, err)
	}
	assert.Eventually(t, func() bool { return s.asked.Load() >= 4 }, 5*time.Second, time.Millisecond)
	s.calm()
}

// frame is one of HTTP/2 (RFC 9113 §4.1).
func frame(kind, flags byte, stream uint32, payload string) string {
	head := binary.BigEndian.AppendUint32(nil, uint32(len(payload))<<8|uint32(kind))
	head = binary.BigEndian.AppendUint32(append(head, flags), stream)
	return string(head) + payload
}

// literal is a field with a name of the static table (RFC 7541 §6.2.2).
func literal(name byte, value string) string {
	return string([]byte{name, byte(len(value))}) + value
}

// TestWhoNeverEndsABodyIsCutOff, and everybody else is answered meanwhile.
func TestWhoNeverEndsABodyIsCutOff(t *testing.T) {
	s := newRig(t, text("page", "Cache-Control: max-age=60"))
	var wg sync.WaitGroup
	for name, request := range map[string]string{
		"that the key holds":      "POST /ask HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{",
		"that the key holds, h10": "POST /ask HTTP/1.0\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{",
		"that passes":             "POST /any HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\n{",
		"in chunks":               "POST /any HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n",
		"that nobody wants":       "GET /any HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\n{",
	} {
		for range 10 {
			conn := s.open(request)
			wg.Go(func() {
				began := time.Now()
				stop := make(chan struct{})
				defer close(stop)
				go func() { // a byte now and then is no body
					for {
						select {
						case <-stop:
							return
						case <-time.After(500 * time.Millisecond):
							_, _ = conn.Write([]byte(" "))
						}
					}
				}()
				resp := heard(conn, 20*time.Second)
				want := 408
				if strings.HasPrefix(name, "that nobody") {
					want = 200
				}
				assert.Equal(t, want, resp.StatusCode, name)
				assert.True(t, resp.Close, "where the next request begins nobody knows")
				assert.Less(t, time.Since(began), 11*time.Second, name)
			})
		}
	}
	s.get("/any/1")
	began := time.Now()
	assert.Equal(t, 200, s.get("/any/2").status)
	assert.Equal(t, 200, s.post("POST", "/any/2", "a body").status)
	assert.Less(t, time.Since(began), 2*time.Second)
	wg.Wait()
}

// TestABrokenRequestIsNotTheOriginsFailure: it is told so, and the breaker stays closed.
func TestABrokenRequestIsNotTheOriginsFailure(t *testing.T) {
	s := newRigOf(t, "origins: [{ name: site, url: SITE, breaker: { after: 3, retry: 1h } }]\nroutes: [{ name: all, match: { path: \"/{x...}\" } }]\n", func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
	})
	rest := strings.Repeat("x", 100<<10)
	for range 8 {
		_, resp, _ := s.raw("POST /a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\nnone\r\n")
		assert.Equal(t, 400, resp.StatusCode)
		_, resp, _ = s.raw("POST /a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n19000\r\n" + rest + "\r\nnone\r\n") // after what is read ahead
		assert.Equal(t, 400, resp.StatusCode)
		s.open("POST /a HTTP/1.1\r\nHost: x\r\nContent-Length: 200000\r\n\r\n" + rest).Close()
		_ = s.open("PUT /a HTTP/1.1\r\nHost: x\r\nContent-Length: 200000\r\n\r\n" + rest).(*net.TCPConn).CloseWrite()
	}
	for range 5 {
		assert.Equal(t, 200, s.post("POST", "/a", "in order").status)
	}
}

// TestConnectionsEndWhereRequestsMayBeReadInTwoWays (RFC 9112 §6.1, §6.3): what follows is
// never taken for a request.
func TestConnectionsEndWhereRequestsMayBeReadInTwoWays(t *testing.T) {
	s := newRig(t, text("page", "Cache-Control: max-age=60"))
	for _, c := range []struct{ name, head, body string }{
		{"both lengths", "POST /a HTTP/1.1\r\nContent-Length: 3\r\nTransfer-Encoding: chunked\r\n", "0\r\n\r\n"},
		{"both lengths, on a page that is stored", "GET /a HTTP/1.1\r\nContent-Length: 3\r\nTransfer-Encoding: chunked\r\n", "0\r\n\r\n"},
		{"chunks", "POST /a HTTP/1.1\r\nTransfer-Encoding: chunked\r\n", "0\r\n\r\n"},
		{"chunks in HTTP/1.0", "POST /a HTTP/1.0\r\nConnection: keep-alive\r\nTransfer-Encoding: chunked\r\n", "0\r\n\r\n"},
		{"HTTP/1.0", "GET /a HTTP/1.0\r\nConnection: keep-alive\r\n", ""},
		{"a body that is not read", "GET /a HTTP/1.1\r\nContent-Length: 400000\r\n", "x"},
	} {
		for range 2 { // a miss and a hit
			conn, resp, in := s.raw(c.head + "Host: x\r\n\r\n" + c.body)
			_, _ = io.Copy(io.Discard, resp.Body)
			assert.True(t, resp.Close, c.name)
			_, _ = io.WriteString(conn, "GET /second HTTP/1.1\r\nHost: x\r\n\r\n")
			_ = conn.SetReadDeadline(time.Now().Add(5 * time.Second))
			_, err := http.ReadResponse(in, nil)
			assert.Error(t, err, c.name)
		}
	}
	conn, resp, in := s.raw("POST /a HTTP/1.1\r\nHost: x\r\nContent-Length: 4\r\n\r\nbody")
	_, _ = io.Copy(io.Discard, resp.Body)
	_, err := io.WriteString(conn, "GET /second HTTP/1.1\r\nHost: x\r\n\r\n")
	require.NoError(t, err)
	_, err = http.ReadResponse(in, nil)
	assert.NoError(t, err, "a body of known length, read to its end, leaves no doubt")
}

// TestWhatIsConfirmedGetsItsCodings: an entry renewed before they were made gets them, too.
func TestWhatIsConfirmedGetsItsCodings(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Etag", `"v1"`)
		w.Header().Set("Cache-Control", "no-cache")
		w.Header().Set("Content-Type", "text/html")
		if r.Header.Get("If-None-Match") == `"v1"` {
			w.WriteHeader(304)
			return
		}
		_, _ = io.WriteString(w, strings.Repeat("hello ", 2000))
	})
	s.get("/x")
	first := s.edge.store.Some("", "any", "", 1)[0]
	for range 3 { // each renews it
		s.get("/x")
	}
	assert.False(t, first.Is(s.edge.store.Some("", "any", "", 1)[0]))
	assert.Eventually(t, func() bool {
		return s.get("/x", "Accept-Encoding: br").header.Get("Content-Encoding") == "br"
	}, 5*time.Second, time.Millisecond)
}

// TestPromise6NothingIsKeptOfLongRequests: keys that are not stored, and the lines that short
// keys were cut from.
func TestPromise6NothingIsKeptOfLongRequests(t *testing.T) {
	junk := strings.Repeat("j", 60_000)
	for control, path := range map[string]string{"no-store": "/x?q=%d%s", "max-age=600": "/ports/p%d?junk=%s"} {
		s := newRig(t, text("x", "Cache-Control: "+control))
		before := heap()
		conn := s.open("")
		in := bufio.NewReader(conn)
		for i := range 500 {
			_, _ = io.WriteString(conn, "GET "+fmt.Sprintf(path, i, junk)+" HTTP/1.1\r\nHost: x\r\n\r\n")
			resp, err := http.ReadResponse(in, nil)
			require.NoError(t, err)
			_, _ = io.Copy(io.Discard, resp.Body)
		}
		assert.Less(t, heap()-before, int64(10<<20), control)
		runtime.KeepAlive(s)
	}
}

// TestPromise6SlowReadersAreInTheAccount: what they still read of entries that left counts,
// and makes no room for more.
func TestPromise6SlowReadersAreInTheAccount(t *testing.T) {
	const size = 6 << 20
	piece := make([]byte, 1<<20)
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=600")
		w.Header().Set("Content-Type", "application/octet-stream")
		w.Header().Set("Content-Length", fmt.Sprint(size))
		for range size / len(piece) {
			if _, err := w.Write(piece); err != nil {
				return
			}
		}
	})
	before := heap()
	var conns []net.Conn
	for i := range 40 {
		conns = append(conns, s.open(fmt.Sprintf("GET /x/%d HTTP/1.1\r\nHost: x\r\n\r\n", i)))
	}
	var f store.Figures
	var most int64
	watched := func(until func() bool) func() bool {
		return func() bool {
			f = s.edge.store.Figures()
			most = max(most, f.Used)
			return until()
		}
	}
	assert.Eventually(t, watched(func() bool { return s.asked.Load() >= 20 }), 40*time.Second, time.Millisecond, "some may wait for a place until others are cut off")
	assert.Less(t, heap()-before, 3*f.Limit, "40 visitors who do not read, of an answer of 6 MiB each")
	assert.Eventually(t, watched(func() bool { return s.gate.Figures().Slow > 0 }), 40*time.Second, time.Millisecond, "who reads nothing is cut off")
	assert.LessOrEqual(t, most, f.Limit+8<<10, "but for the header of what is not stored after all, and is read")
	for _, conn := range conns {
		conn.Close()
	}
	assert.Eventually(t, func() bool { return s.edge.store.Figures().Pinned == 0 }, 5*time.Second, time.Millisecond)
}

func heap() int64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapInuse)
}

// TestWhatIsNotStoredReservesNothing: an answer that grew too long to be stored gives its room
// back while somebody still reads it.
func TestWhatIsNotStoredReservesNothing(t *testing.T) {
	piece := make([]byte, 64<<10)
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=600")
		for range 12 << 20 / len(piece) {
			if _, err := w.Write(piece); err != nil {
				return
			}
		}
	})
	for i := range 3 {
		s.open(fmt.Sprintf("GET /x/%d HTTP/1.1\r\nHost: x\r\n\r\n", i))
	}
	assert.Eventually(t, func() bool {
		f := s.edge.store.Figures()
		return s.asked.Load() == 3 && s.edge.fetch.Flights.Aloft() == 3 && s.edge.fetch.Flights.Len() == 0 && f.Reserved < 1<<20
	}, 5*time.Second, time.Millisecond, "all three are under way, and are not kept any more")
	s.answer(text("page", "Cache-Control: max-age=600"))
	s.get("/small")
	assert.Contains(t, s.get("/small").state, "hit")
}

// TestWaitingForAConnectionCounts against the time for an answer, and the line has an end.
func TestWaitingForAConnectionCounts(t *testing.T) {
	s := newRigOf(t, "origins: [{ name: site, url: SITE, max_connections: 2, breaker: off, timeout: { answer: 400ms } }]\nroutes: [{ name: all, match: { path: \"/{x...}\" } }]\n", func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		<-r.Context().Done()
	})
	var wg sync.WaitGroup
	var mu sync.Mutex
	seen := map[int]int{}
	for i := range 60 {
		method, body := "GET", ""
		if i%2 == 0 {
			method, body = "POST", "a body"
		}
		wg.Go(func() {
			began := time.Now()
			a, err := s.send(method, fmt.Sprintf("/x/%d", i), body)
			assert.NoError(t, err)
			assert.Less(t, time.Since(began), 3*time.Second)
			mu.Lock()
			defer mu.Unlock()
			seen[a.status]++
		})
	}
	wg.Wait()
	assert.Equal(t, 60, seen[504]+seen[503])
	assert.NotZero(t, seen[503], "no more wait than eight for each connection")
	assert.GreaterOrEqual(t, seen[504], 16)
}

// TestWhatIsTurnedAway: requests that their origin would read otherwise than the edge, that
// open a way past its rules, and that end here. None of them reaches the origin.
func TestWhatIsTurnedAway(t *testing.T) {
	s := newRig(t, text("page"))
	for _, c := range []struct {
		request string
		status  int
	}{
		{"CONNECT site.example:443 HTTP/1.1\r\nHost: site.example:443\r\n\r\nGET /x HTTP/1.1\r\nHost: x\r\n\r\n", 405},
		{"TRACE /ports/a HTTP/1.1\r\nHost: x\r\n\r\n", 405},
		{"OPTIONS /ports/a HTTP/1.1\r\nHost: x\r\nMax-Forwards: 0\r\n\r\n", 200},
		{"GET /a HTTP/1.1\r\nHost: a\"b\r\n\r\n", 400},
		{"GET /a HTTP/1.1\r\nHost: a,b\r\n\r\n", 400},
		{"GET http://u@x/a HTTP/1.1\r\nHost: x\r\n\r\n", 200}, // who a visitor says they are goes no further
	} {
		conn, resp, _ := s.raw(c.request)
		assert.Equal(t, c.status, resp.StatusCode, c.request)
		if c.status == 405 {
			assert.Contains(t, resp.Header.Get("Allow"), "GET")
		}
		conn.Close()
	}
	assert.EqualValues(t, 1, s.asked.Load())
	var seen []string
	s.answer(func(w http.ResponseWriter, r *http.Request) { seen = r.Header["Max-Forwards"] })
	s.do("OPTIONS", "/a", "Max-Forwards: 3")
	assert.Equal(t, []string{"2"}, seen)
	s.do("OPTIONS", "/a", "Max-Forwards: many")
	assert.Equal(t, []string{"many"}, seen, "what is not a number says nothing")

	asked := s.asked.Load()
	for _, fields := range []string{
		"\x82\x86" + literal(4, "/a b") + literal(1, "x"),
		"\x82\x86" + literal(4, "/a?b=c d") + literal(1, "x"),
		"\x82\x86" + literal(4, "/a?b HTTP/1.1\r\nX: y") + literal(1, "x"),
		"\x82\x86\x84" + literal(1, `x";for="10.0.0.1`),
		"\x86\x84" + literal(1, "x") + literal(2, "GET /b"),
		"\x82\x86\x84" + literal(1, "x\x7fy"),
	} {
		conn := s.open("PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n" + frame(4, 0, 0, "") + frame(1, 5, 1, fields))
		head := make([]byte, 9)
		for { // to the answer, or to what says that there will be none
			_, err := io.ReadFull(conn, head)
			require.NoError(t, err)
			payload := make([]byte, binary.BigEndian.Uint32(append([]byte{0}, head[:3]...)))
			_, err = io.ReadFull(conn, payload)
			require.NoError(t, err)
			if head[3] == 1 || head[3] == 3 || head[3] == 7 { // HEADERS, RST_STREAM, GOAWAY
				if head[3] == 1 {
					assert.Equal(t, byte(0x8c), payload[0], "status 400, of the static table: %q", fields)
				}
				break
			}
		}
		conn.Close()
	}
	assert.Equal(t, asked, s.asked.Load(), "none of them came to the origin")
}

// TestStreamsThatStandStillEnd: one whose window stays closed, and one whose body does not come,
// while the connection that they share goes on.
func TestStreamsThatStandStillEnd(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=60")
		_, _ = io.WriteString(w, strings.Repeat("x", 100<<10))
	})
	s.get("/x")
	conn := s.open("PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n" + frame(4, 0, 0, "\x00\x04\x00\x00\x00\x00"))
	_, err := io.WriteString(conn, frame(1, 5, 1, "\x82\x86"+literal(4, "/x")+literal(1, "x"))+ // GET, and no window
		frame(1, 4, 3, "\x83\x86"+literal(4, "/ask")+literal(1, "x")+"\x0f"+literal(16, "application/json"))) // POST, and no body
	require.NoError(t, err)
	_ = conn.SetReadDeadline(time.Now().Add(40 * time.Second))
	ended := map[uint32]bool{}
	head := make([]byte, 9)
	for len(ended) < 2 {
		if _, err = io.ReadFull(conn, head); !assert.NoError(t, err, "ended: %v", ended) {
			return
		}
		payload := make([]byte, binary.BigEndian.Uint32(append([]byte{0}, head[:3]...)))
		_, err = io.ReadFull(conn, payload)
		require.NoError(t, err)
		stream := binary.BigEndian.Uint32(head[5:])
		if head[3] == 3 || head[3] == 1 && stream == 3 { // RST_STREAM, or the answer 408
			ended[stream] = true
		}
	}
	_, err = io.WriteString(conn, frame(6, 0, 0, "12345678")) // PING
	require.NoError(t, err)
	for {
		_, err = io.ReadFull(conn, head)
		require.NoError(t, err, "the connection goes on")
		payload := make([]byte, binary.BigEndian.Uint32(append([]byte{0}, head[:3]...)))
		_, _ = io.ReadFull(conn, payload)
		if head[3] == 6 {
			break
		}
	}
}
