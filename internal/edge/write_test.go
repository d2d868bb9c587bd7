package edge

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/meter"
)

// TestPromise2WritesWithoutAnAnswer: an origin that has a request may carry it out, whatever
// becomes of its answer.
func TestPromise2WritesWithoutAnAnswer(t *testing.T) {
	for _, c := range []struct {
		name  string
		host  string
		post  func(w http.ResponseWriter, r *http.Request, leave func()) // leave returns when the visitor has left
		stays bool                                                       // what is stored of the page
	}{
		{"the visitor leaves", "x", func(_ http.ResponseWriter, _ *http.Request, leave func()) { leave() }, false}, // and only then it is carried out
		{"it comes too late", "slow.example", func(_ http.ResponseWriter, r *http.Request, _ func()) { <-r.Context().Done() }, false},
		{"it breaks off", "x", func(http.ResponseWriter, *http.Request, func()) { panic(http.ErrAbortHandler) }, false},
		{"its origin fails", "x", func(w http.ResponseWriter, _ *http.Request, _ func()) { w.WriteHeader(500) }, false},
		{"it is refused", "x", func(w http.ResponseWriter, _ *http.Request, _ func()) { w.WriteHeader(409) }, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRig(t, nil)
			ended, leave := make(chan struct{}), make(chan struct{})
			s.answer(func(w http.ResponseWriter, r *http.Request) {
				if r.Method == "POST" {
					defer close(ended)
					c.post(w, r, func() {
						close(leave)
						assert.Eventually(t, func() bool { return s.gone.Load() == 1 }, 5*time.Second, time.Millisecond)
					})
					return
				}
				text("x", "Cache-Control: max-age=60")(w, r)
			})
			host := "Host: " + c.host
			s.get("/page", host)
			conn := s.open("POST /page HTTP/1.1\r\n" + host + "\r\nContent-Length: 0\r\n\r\n")
			select {
			case <-leave:
				conn.Close()
			case <-ended:
			}
			<-ended
			require.Eventually(t, func() bool { return s.get("/page", host).hit() == c.stays }, 5*time.Second, 10*time.Millisecond)
			assert.Equal(t, c.stays, len(s.purged) == 0)
		})
	}
	t.Run("its origin was never reached", func(t *testing.T) {
		s := newRig(t, text("x", "Cache-Control: max-age=60"))
		s.get("/page")
		s.app.Listener.Close()
		s.app.CloseClientConnections()
		for _, o := range s.edge.Policy().Origins {
			s.edge.inForce.Load().origins.To(o).Close() // none is left that has not noticed
		}
		assert.Equal(t, 502, s.do("POST", "/page").status)
		assert.True(t, s.get("/page").hit())
	})
}

// TestWhoLeavesInLineLeavesIt: a write that its origin has not got yet ends with its visitor.
func TestWhoLeavesInLineLeavesIt(t *testing.T) {
	begun, wait := make(chan struct{}, 9), make(chan struct{})
	s := newRigOf(t, "origins: [{ name: site, url: SITE, max_connections: 1 }]\nroutes: [{ name: all, match: { path: \"/{x...}\" } }]\n", func(http.ResponseWriter, *http.Request) { begun <- struct{}{}; <-wait })
	first := s.open("POST /a HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\n\r\n")
	<-begun
	second := s.open("POST /b HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\n\r\n")
	require.Eventually(t, func() bool { return s.inside.Load() == 2 }, 5*time.Second, time.Millisecond, "it is in line; if not, it leaves even sooner")
	second.Close()
	require.Eventually(t, func() bool { return outcomes(s)[meter.Error] == 1 }, 5*time.Second, time.Millisecond, "while the first is under way")
	close(wait)
	assert.NotNil(t, heard(first, 5*time.Second))
	assert.EqualValues(t, 1, s.asked.Load())
}

// TestDoubtsAreBounded: what is not known of many writes costs the ledger one order a second,
// and none of them is forgotten.
func TestDoubtsAreBounded(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Method == "POST" {
			w.WriteHeader(503)
			return
		}
		text("x", "Cache-Control: max-age=60")(w, r)
	})
	orders := func() int { s.purges.Lock(); defer s.purges.Unlock(); return len(s.purged) }
	began := time.Now()
	for round := range 3 {
		s.get("/page")
		require.True(t, s.get("/page").hit())
		for range 25 {
			s.do("POST", "/page")
		}
		require.Eventually(t, func() bool { return orders() == round+1 }, 5*time.Second, time.Millisecond)
		require.Eventually(t, func() bool { return !s.get("/page").hit() || orders() > round+1 }, 5*time.Second, time.Millisecond, "the last of them may have changed it")
		assert.Equal(t, round+1, orders())
	}
	assert.GreaterOrEqual(t, time.Since(began), 2*time.Second, "three orders, a second apart")
}

// TestQuestionsInvalidateGroupsAlone: a POST that the route caches asks, and changes nothing of
// its own target; what its answer says of groups holds.
func TestQuestionsInvalidateGroupsAlone(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/ask" {
			w.Header().Set("Cache-Group-Invalidation", `"port:a"`)
		}
		_, _ = io.WriteString(w, "x")
	})
	for _, question := range []string{`{"q":1}`, `{"q":2}`} {
		s.get("/ports/a")
		s.get("/ports/b")
		require.True(t, s.get("/ports/a").hit())
		s.post("POST", "/ask", question, "Content-Type: application/json")
		assert.False(t, s.get("/ports/a").hit(), "RFC 9875 §3")
		assert.True(t, s.get("/ports/b").hit())
	}
	assert.True(t, s.post("POST", "/ask", `{"q":1}`, "Content-Type: application/json").hit(), "a question changes nothing of its own")
}

// TestAWriteReachesWhatAnswersOtherQueries also on a node that has not seen the answers.
func TestAWriteReachesWhatAnswersOtherQueries(t *testing.T) {
	var content atomic.Value
	content.Store("old")
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Method == "POST" {
			content.Store("new")
			return
		}
		text(content.Load().(string), "Cache-Control: max-age=60", `No-Vary-Search: params=("utm")`)(w, r)
	})
	config := emptyConfig(s.now)
	config.Purge = s.edge.fetch.Purge
	other := New(config)
	other.Apply(s.edge.Policy())
	s.get("/x?a=1&utm=1")
	s.get("/y?a=1")
	require.True(t, s.get("/x?a=1&utm=7").hit())
	r := httptest.NewRequest("POST", "/x?a=1&utm=7", nil)
	r.Host = strings.TrimPrefix(s.url, "http://")
	other.ServeHTTP(httptest.NewRecorder(), r)
	require.NoError(t, other.Shutdown(t.Context()))
	assert.Equal(t, "new", s.get("/x?a=1&utm=7").body)
	assert.True(t, s.get("/y?a=1").hit(), "another path")
}

// TestFiguresCountWhatReallyHappened: what the breaker held back is no origin request, what was
// tried again is one more, and nobody is said to have been answered who was not.
func TestFiguresCountWhatReallyHappened(t *testing.T) {
	t.Run("the breaker", func(t *testing.T) {
		s := newRigOf(t, "origins: [{ name: site, url: SITE, breaker: { after: 3, retry: 1h } }]\nroutes: [{ name: all, match: { path: \"/x/{x...}\" } }]\n", func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) })
		for _, path := range []string{"/x/a", "/passed"} {
			for range 10 {
				assert.GreaterOrEqual(t, s.get(path).status, 502)
			}
		}
		sums := ratio(s)
		assert.Equal(t, s.asked.Load(), sums.OriginRequests, "those that came there, and no others")
		saved, _ := sums.Offload()
		assert.LessOrEqual(t, saved, 0.0, "nothing was found for anybody")
	})
	t.Run("without a policy", func(t *testing.T) {
		e := New(emptyConfig(time.Now))
		e.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", "/", nil))
		require.NoError(t, e.Shutdown(t.Context()))
		saved, _ := ratioOf(e).Offload()
		assert.Zero(t, saved)
	})
	t.Run("who leaves", func(t *testing.T) {
		s := newRig(t, nil)
		for i, path := range []string{"/ports/a", "/passed"} {
			begun, wait := make(chan struct{}), make(chan struct{})
			s.answer(func(http.ResponseWriter, *http.Request) { close(begun); <-wait })
			conn := s.open("GET " + path + " HTTP/1.1\r\nHost: x\r\nAuthorization: Basic eA==\r\n\r\n")
			<-begun
			conn.Close()
			require.Eventually(t, func() bool { return outcomes(s)[meter.Error] > int64(i) }, 5*time.Second, time.Millisecond)
			close(wait)
		}
		for k := range s.edge.meter.Totals() {
			assert.Zero(t, k.Status, "%v", k)
		}
	})
}

func ratio(s *rig) *meter.Ratio { return ratioOf(s.edge) }

func ratioOf(e *Edge) *meter.Ratio {
	sums := &meter.Ratio{}
	for k, c := range e.meter.Totals() {
		sums.Count(k, c)
	}
	return sums
}
