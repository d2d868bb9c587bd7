package edge

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEventStreamsAreForOne: never stored nor joined, whatever their headers, and closed
// at the origin when their visitor leaves.
func TestEventStreamsAreForOne(t *testing.T) {
	open, closed := make(chan string, 20), make(chan struct{}, 20)
	s := newRigOf(t, "routes: [{ name: all, match: { path: \"/{x...}\" }, lifetime: { fresh: 1d, source: forced } }]", func(w http.ResponseWriter, r *http.Request) {
		open <- r.Header.Get("X-Who")
		w.Header().Set("Content-Type", "text/event-stream; charset=utf-8")
		w.Header().Set("Cache-Control", "public, max-age=600")
		fmt.Fprintf(w, "data: for %s\n\n", r.Header.Get("X-Who"))
		_ = http.NewResponseController(w).Flush()
		<-r.Context().Done()
		closed <- struct{}{}
	})
	for _, accept := range []string{"text/event-stream", "*/*"} {
		for i := range 3 {
			conn, resp, _ := s.raw(fmt.Sprintf("GET /events HTTP/1.1\r\nHost: x\r\nAccept: %s\r\nX-Who: %d\r\n\r\n", accept, i))
			<-open
			assert.NotContains(t, resp.Header.Get("Cache-Status"), "stored")
			line, err := bufio.NewReader(resp.Body).ReadString('\n')
			require.NoError(t, err)
			if accept == "text/event-stream" {
				assert.Equal(t, fmt.Sprintf("data: for %d\n", i), line)
			}
			conn.Close()
			<-closed
		}
	}
	assert.Zero(t, s.edge.store.Figures().Entries)
}

// TestLateAnswersAreWaitedFor as long as the route says, else the origin.
func TestLateAnswersAreWaitedFor(t *testing.T) {
	s := newRigOf(t, `origins: [{ name: site, url: SITE, timeout: { answer: 100ms, total: 150ms } }]
routes:
  - { name: report, match: { path: "/report" }, timeout: { answer: 20s } }
  - { name: all, match: { path: "/all" } }
`, func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			_, _ = io.Copy(io.Discard, r.Body)
		}
		select {
		case <-time.After(300 * time.Millisecond):
		case <-r.Context().Done():
		}
		_, _ = io.WriteString(w, "late")
	})
	assert.Equal(t, 504, s.get("/all").status)
	assert.Equal(t, 504, s.get("/passed").status)
	assert.Equal(t, 504, s.do("POST", "/all").status)
	assert.Equal(t, "late", s.get("/report").body)
	assert.Equal(t, 504, s.do("POST", "/report").status, "its methods are those of the route")
	assert.Equal(t, 504, s.get("/all", "Cookie: a=1").status)
}

// TestALongAnswerIsNotCutOff once its head is there: what takes too long to be stored is
// still passed on whole, and stored no more.
func TestALongAnswerIsNotCutOff(t *testing.T) {
	for _, control := range []string{"max-age=60", "no-store"} {
		s := newRigOf(t, `origins: [{ name: site, url: SITE, timeout: { answer: 100ms, total: 120ms } }]
routes: [{ name: all, match: { path: "/{x...}" } }]
`, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Cache-Control", control)
			w.Header().Set("Content-Length", "40000")
			for i := range 8 {
				_, _ = io.WriteString(w, strings.Repeat(fmt.Sprint(i), 5000))
				_ = http.NewResponseController(w).Flush()
				select {
				case <-time.After(40 * time.Millisecond):
				case <-r.Context().Done():
					return
				}
			}
		})
		for _, a := range s.together("/long", "X-A: 1", "X-A: 2") {
			assert.Len(t, a.body, 40000, control)
		}
		assert.Zero(t, s.edge.store.Figures().Entries, "it took longer than an answer that is stored may take")
	}
}

// TestAnUploadIsNotTimed: the limit for an answer begins when the request is sent.
func TestAnUploadIsNotTimed(t *testing.T) {
	s := newRigOf(t, `origins: [{ name: site, url: SITE, timeout: { answer: 150ms } }]
routes: []
`, func(w http.ResponseWriter, r *http.Request) {
		n, _ := io.Copy(io.Discard, r.Body)
		fmt.Fprint(w, n)
	})
	body, upload := io.Pipe()
	go func() {
		for range 10 {
			_, _ = io.WriteString(upload, strings.Repeat("x", 1000))
			time.Sleep(40 * time.Millisecond)
		}
		upload.Close()
	}()
	req, err := http.NewRequest("POST", s.url+"/upload", body)
	require.NoError(t, err)
	resp, err := (&http.Transport{DisableKeepAlives: true}).RoundTrip(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	counted, _ := io.ReadAll(resp.Body)
	assert.Equal(t, "10000", string(counted))
}

// TestAShortBodyGoesOutInOnePieceWithItsHead: some servers answer and close as soon as they
// have read what they need; what came later would break the answer off.
func TestAShortBodyGoesOutInOnePieceWithItsHead(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	first := make(chan string, 1)
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			read := make([]byte, 1<<20)
			n, _ := conn.Read(read)
			first <- string(read[:n])
			fmt.Fprint(conn, "HTTP/1.1 403 Forbidden\r\nContent-Length: 6\r\nConnection: close\r\n\r\nforged")
			conn.Close()
		}
	}()
	s := newRigOf(t, "origins: [{ name: site, url: \"http://"+listener.Addr().String()+"\" }]\nroutes: [{ name: all, match: { path: \"/{x...}\" } }]\n", nil)
	for range 50 {
		a := s.post("POST", "/notes", "text=forged", "Content-Type: application/x-www-form-urlencoded")
		assert.Equal(t, "forged", a.body)
		assert.Contains(t, <-first, "\r\n\r\ntext=forged")
	}
}

// TestAPartHoldsNothingOfTheWhole: who asked for a part of what is not for the store does not
// hold on to the whole, nor to its connection, while the part comes.
func TestAPartHoldsNothingOfTheWhole(t *testing.T) {
	left := make(chan struct{})
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		if r.Header.Get("Range") == "" {
			_ = http.NewResponseController(w).Flush()
			<-r.Context().Done()
			close(left)
			return
		}
		w.Header().Set("Content-Range", "bytes 0-3/10")
		w.WriteHeader(http.StatusPartialContent)
		_, _ = io.WriteString(w, "pa")
		_ = http.NewResponseController(w).Flush()
		select {
		case <-left:
		case <-time.After(5 * time.Second):
			return
		}
		_, _ = io.WriteString(w, "rt")
	})
	assert.Equal(t, "part", s.get("/long", "Range: bytes=0-3").body)
}

func TestInterimAnswersAndTrailersArePassedOn(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Link", "</style.css>; rel=preload")
		w.WriteHeader(http.StatusEarlyHints)
		w.Header().Del("Link")
		w.Header().Set("Trailer", "Checksum")
		_, _ = io.WriteString(w, "body")
		w.(http.Flusher).Flush()
		w.Header().Set("Checksum", "abc")
	})
	for _, path := range []string{"/ports/a", "/x"} { // stored, and not stored
		var hints []string
		req, _ := http.NewRequest("GET", s.url+path, nil)
		req = req.WithContext(httptrace.WithClientTrace(req.Context(), &httptrace.ClientTrace{Got1xxResponse: func(code int, h textproto.MIMEHeader) error {
			hints = append(hints, fmt.Sprint(code, h.Get("Link")))
			return nil
		}}))
		resp, err := http.DefaultTransport.RoundTrip(req)
		require.NoError(t, err)
		_, _ = io.ReadAll(resp.Body)
		resp.Body.Close()
		assert.Equal(t, []string{"103</style.css>; rel=preload"}, hints, path)
		assert.Empty(t, resp.Header.Get("Link"))
		assert.Equal(t, "abc", resp.Trailer.Get("Checksum"), path)
	}
}

func TestEventsStreamThroughAsTheyCome(t *testing.T) {
	next := make(chan string)
	s := newRig(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		for event := range next {
			fmt.Fprintf(w, "data: %s\n\n", event)
			w.(http.Flusher).Flush()
		}
	})
	go func() { next <- "one" }()
	req, err := http.NewRequest("GET", s.url+"/ports/a", nil)
	require.NoError(t, err)
	req.Header.Set("Accept", "text/event-stream")
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	room := make([]byte, 100)
	for _, event := range []string{"one", "two"} {
		if event == "two" {
			next <- "two"
		}
		n, err := resp.Body.Read(room)
		require.NoError(t, err)
		assert.Equal(t, "data: "+event+"\n\n", string(room[:n]))
	}
	close(next)
	assert.Zero(t, s.edge.store.Figures().Entries)
}
