package edge

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
)

func TestAnswersAreServedFromTheStoreWhileFresh(t *testing.T) {
	s := newRig(t, text("tholm", "Content-Type: text/plain"))
	first := s.get("/ports/tholm")
	assert.Equal(t, "tholm", first.body)
	assert.Contains(t, first.state, "fwd=uri-miss; stored")
	s.pass(20 * time.Second)
	second := s.get("/ports/tholm")
	assert.Equal(t, "tholm", second.body)
	assert.Equal(t, "hit; ttl=40", second.state)
	assert.Equal(t, "20", second.header.Get("Age"))
	assert.Equal(t, "text/plain", second.header.Get("Content-Type"))
	assert.EqualValues(t, 1, s.asked.Load())
	s.pass(41 * time.Second)
	assert.Contains(t, s.get("/ports/tholm").state, "fwd=stale")
	assert.EqualValues(t, 2, s.asked.Load())
}

// TestPromise1NeverTheWrongOne: one row a way in which two requests differ, or do not.
func TestPromise1NeverTheWrongOne(t *testing.T) {
	echo := func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=60")
		if strings.HasPrefix(r.URL.Path, "/vary") {
			w.Header().Set("Vary", "X-Device")
		}
		fmt.Fprintf(w, "%s %s %q %q %q", r.Host, r.URL.RequestURI(), r.Header["X-Device"], r.Header["Accept-Language"], r.Header["Cookie"])
	}
	for _, c := range []struct {
		name          string
		first, second []string // path, then headers
		same          bool
	}{
		{"a keyed parameter separates", []string{"/ports/a?page=2"}, []string{"/ports/a?page=3"}, false},
		{"a parameter that is not keyed does not", []string{"/ports/a?page=2&utm_source=x"}, []string{"/ports/a?page=2&utm_source=y"}, true},
		{"the order of parameters does", []string{"/x?a=1&b=2"}, []string{"/x?b=2&a=1"}, false},
		{"the order of parameters that a rule names does not", []string{"/sorted?a=1&b=2"}, []string{"/sorted?b=2&a=1"}, true},
		{"the order of one parameter's values does, however it is encoded", []string{"/sorted?a=1&%61=2"}, []string{"/sorted?%61=2&a=1"}, false},
		{"the order of equal parameters does", []string{"/x?a=1&a=2"}, []string{"/x?a=2&a=1"}, false},
		{"an empty value is not an absent one", []string{"/x?a="}, []string{"/x?a"}, false},
		{"an empty query is not an absent one", []string{"/x?"}, []string{"/x"}, false},
		{"path values separate", []string{"/ports/a"}, []string{"/ports/b"}, false},
		{"encoding in the path is not undone", []string{"/x/a%2Fb"}, []string{"/x/a/b"}, false},
		{"a trailing slash separates", []string{"/x/a"}, []string{"/x/a/"}, false},
		{"doubled slashes separate", []string{"/x//a"}, []string{"/x/a"}, false},
		{"hosts separate", []string{"/x", "Host: a.example"}, []string{"/x", "Host: b.example"}, false},
		{"the case of the host does not", []string{"/x", "Host: a.example"}, []string{"/x", "Host: A.EXAMPLE"}, true},
		{"a keyed header separates", []string{"/page/1", "Accept-Language: nb"}, []string{"/page/1", "Accept-Language: gd"}, false},
		{"a keyed header that is empty is not an absent one", []string{"/page/1", "Accept-Language: "}, []string{"/page/1"}, false},
		{"a keyed cookie separates", []string{"/page/1", "Cookie: currency=kr"}, []string{"/page/1", "Cookie: currency=eur"}, false},
		{"a cookie that is not keyed does not", []string{"/page/1", "Cookie: a=1; currency=kr"}, []string{"/page/1", "Cookie: currency=kr; a=2"}, true},
		{"what Vary names separates", []string{"/vary", "X-Device: phone"}, []string{"/vary", "X-Device: desk"}, false},
		{"what Vary names is compared", []string{"/vary", "X-Device: phone"}, []string{"/vary", "X-Device: phone"}, true},
		{"a header that nothing names does not separate", []string{"/x", "X-Other: 1"}, []string{"/x", "X-Other: 2"}, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRig(t, echo)
			first := s.get(c.first[0], c.first[1:]...)
			second := s.get(c.second[0], c.second[1:]...)
			assert.Equal(t, c.same, strings.HasPrefix(second.state, "hit"), "the second was %q", second.state)
			if c.same {
				assert.Equal(t, first.body, second.body)
			} else {
				assert.NotEqual(t, first.body, second.body)
			}
			again := s.get(c.first[0], c.first[1:]...)
			assert.Equal(t, first.body, again.body, "the first is still its own")
			assert.True(t, strings.HasPrefix(again.state, "hit"))
		})
	}
}

func TestWhatMustNotBeStored(t *testing.T) {
	for _, c := range []struct {
		name    string
		path    string
		request []string
		answer  []string
		status  int
		stored  bool
	}{
		{"no-store", "/ports/a", nil, []string{"Cache-Control: no-store"}, 200, false},
		{"private", "/ports/a", nil, []string{"Cache-Control: private, max-age=60"}, 200, false},
		{"a cookie for one visitor", "/ports/a", nil, []string{"Set-Cookie: a=1"}, 200, false},
		{"a cookie that the route strips", "/page/a", nil, []string{"Set-Cookie: a=1"}, 200, true},
		{"Authorization without leave", "/ports/a", []string{"Authorization: Basic eDp5"}, nil, 200, false},
		{"Authorization with leave", "/x", []string{"Authorization: Basic eDp5"}, []string{"Cache-Control: public, max-age=60"}, 200, true},
		{"Authorization with leave, where the policy says how long answers live", "/ports/a", []string{"Authorization: Basic eDp5"}, []string{"Cache-Control: public"}, 200, false},
		{"Vary: *", "/ports/a", nil, []string{"Vary: *"}, 200, false},
		{"a failure", "/ports/a", nil, nil, 500, false},
		{"a failure with a stated lifetime", "/ports/a", nil, []string{"Cache-Control: max-age=60"}, 500, true},
		{"a silent origin without a lifetime of ours", "/x", nil, nil, 200, false},
		{"a status with a lifetime of its own", "/ports/a", nil, nil, 404, true},
		{"a redirect without a lifetime", "/ports/a", nil, []string{"Location: /b"}, 302, false},
		{"a body over the limit of the route", "/page/big", nil, nil, 200, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
				for _, h := range c.answer {
					name, value, _ := strings.Cut(h, ": ")
					w.Header().Add(name, value)
				}
				w.WriteHeader(c.status)
				if r.URL.Path == "/page/big" {
					_, _ = w.Write(make([]byte, 101<<10))
				}
				_, _ = io.WriteString(w, "body")
			})
			first := s.get(c.path, c.request...)
			second := s.get(c.path, c.request...)
			assert.Equal(t, c.status, first.status)
			assert.Equal(t, first.body, second.body)
			assert.Equal(t, c.stored, strings.HasPrefix(second.state, "hit"), second.state)
			if strings.HasPrefix(c.path, "/page/a") {
				assert.Empty(t, first.header["Set-Cookie"], "a stripped cookie reaches nobody")
				assert.Empty(t, second.header["Set-Cookie"])
			}
		})
	}
}

func TestConcurrentMissesCauseOneOriginRequest(t *testing.T) {
	const visitors = 50
	release := make(chan struct{})
	s := newRig(t, func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, "half ")
		w.(http.Flusher).Flush()
		<-release
		_, _ = io.WriteString(w, "whole")
	})
	var all sync.WaitGroup
	bodies := make(chan string, visitors)
	for range visitors {
		all.Go(func() {
			a, err := s.try("GET", "/ports/tholm")
			assert.NoError(t, err)
			bodies <- a.body
		})
	}
	require.Eventually(t, func() bool { return s.edge.waiting() == visitors }, 5*time.Second, time.Millisecond)
	close(release)
	all.Wait()
	for range visitors {
		assert.Equal(t, "half whole", <-bodies)
	}
	assert.EqualValues(t, 1, s.asked.Load())
	counts := outcomes(s)
	assert.EqualValues(t, 1, counts[meter.Miss])
	assert.EqualValues(t, visitors-1, counts[meter.Joined])
}

// waiting counts those who read a fill that can be joined.
func (e *Edge) waiting() int { return e.fetch.Flights.Readers() }

func outcomes(s *rig) map[meter.Outcome]int64 {
	counts := map[meter.Outcome]int64{}
	for k, c := range s.edge.meter.Totals() {
		counts[k.Outcome] += c.Requests
	}
	return counts
}

func TestUnsharableAnswersAreNotShared(t *testing.T) {
	var n atomic.Int64
	gate := make(chan struct{})
	s := newRig(t, func(w http.ResponseWriter, _ *http.Request) {
		mine := n.Add(1)
		if mine == 1 {
			<-gate
		}
		w.Header().Set("Cache-Control", "private")
		fmt.Fprintf(w, "for visitor %d", mine)
	})
	const visitors = 10
	bodies := make(chan string, visitors)
	for range visitors {
		go func() {
			a, err := s.try("GET", "/ports/me")
			assert.NoError(t, err)
			bodies <- a.body
		}()
	}
	require.Eventually(t, func() bool { return s.edge.waiting() == visitors }, 5*time.Second, time.Millisecond)
	close(gate)
	seen := map[string]bool{}
	for range visitors {
		seen[<-bodies] = true
	}
	assert.Len(t, seen, visitors, "each got an answer of their own")
}

func TestConditionalRequestsOfVisitors(t *testing.T) {
	const stamp = "Sun, 17 May 2026 10:00:00 GMT"
	for _, c := range []struct {
		name      string
		condition string
		status    int
	}{
		{"the same tag", `If-None-Match: "v1"`, 304},
		{"one of several, weak", `If-None-Match: "v0", W/"v1"`, 304},
		{"any", `If-None-Match: *`, 304},
		{"another tag", `If-None-Match: "v2"`, 200},
		{"not modified since", "If-Modified-Since: " + stamp, 304},
		{"modified since", "If-Modified-Since: Sun, 17 May 2026 09:59:59 GMT", 200},
		{"an unreadable date", "If-Modified-Since: yesterday", 200},
		{"the wanted tag is there", `If-Match: "v1"`, 200},
		{"the wanted tag is not there", `If-Match: "v2"`, 200},
		{"unmodified since", "If-Unmodified-Since: " + stamp, 200},
		{"not unmodified since", "If-Unmodified-Since: Sun, 17 May 2026 09:59:59 GMT", 200},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRig(t, text("body", `ETag: "v1"`, "Last-Modified: "+stamp, "Content-Type: text/plain", "Cache-Control: max-age=60"))
			for _, when := range []string{"cold", "stored"} {
				a := s.get("/ports/a", c.condition)
				assert.Equal(t, c.status, a.status, when)
				if c.status == 304 {
					assert.Empty(t, a.body)
					assert.Equal(t, `"v1"`, a.header.Get("Etag"))
					assert.Equal(t, "max-age=60", a.header.Get("Cache-Control"))
					assert.Empty(t, a.header.Get("Content-Type"))
				}
			}
			assert.EqualValues(t, 1, s.asked.Load(), "the origin was asked without the visitor's condition")
		})
	}
}

func TestRevalidationKeepsTheBody(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("ETag", `"v1"`)
		w.Header().Set("X-Seen", fmt.Sprint(r.Header.Get("If-None-Match") != ""))
		if r.Header.Get("If-None-Match") == `"v1"` {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		_, _ = io.WriteString(w, "long render")
	})
	s.get("/ports/a")
	s.pass(2 * time.Minute)
	again := s.get("/ports/a")
	assert.Equal(t, "long render", again.body)
	assert.Contains(t, again.state, "fwd=stale; fwd-status=304")
	assert.Equal(t, "true", again.header.Get("X-Seen"), "the 304 updates the header")
	assert.True(t, strings.HasPrefix(s.get("/ports/a").state, "hit"))
	assert.EqualValues(t, 1, outcomes(s)[meter.Revalidated])
	assert.Contains(t, s.get("/ports/a", "Cache-Control: no-cache").state, "fwd=request; fwd-status=304")
}

func TestStaleAnswers(t *testing.T) {
	s := newRig(t, text("one"))
	s.get("/stale/a")
	s.answer(text("two"))
	s.pass(90 * time.Second)
	stale := s.get("/stale/a")
	assert.Equal(t, "one", stale.body, "the visitor gets the stale answer at once")
	assert.Equal(t, "hit; ttl=-30", stale.state)
	require.Eventually(t, func() bool { return s.get("/stale/a").body == "two" }, 5*time.Second, 5*time.Millisecond)
	assert.EqualValues(t, 2, s.asked.Load(), "one refresh ran behind")

	s.answer(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(503) })
	s.pass(10 * time.Minute)
	failing := s.get("/stale/a")
	assert.Equal(t, 200, failing.status)
	assert.Equal(t, "two", failing.body)
	s.pass(2 * time.Hour)
	assert.Equal(t, 503, s.get("/stale/a").status, "beyond stale_if_error the failure shows")
}

// TestPromise5HalfIsNothing: a body that breaks off is not stored, and the visitor sees
// that it broke: by a status of failure if nothing was sent yet.
func TestPromise5HalfIsNothing(t *testing.T) {
	for name, h := range map[string]http.HandlerFunc{
		"shorter than announced": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "1000")
			_, _ = io.WriteString(w, "half")
			w.(http.Flusher).Flush()
			panic(http.ErrAbortHandler)
		},
		"broken chunks": func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, "half")
			w.(http.Flusher).Flush()
			panic(http.ErrAbortHandler)
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := newRig(t, h)
			a, err := s.try("GET", "/ports/a")
			assert.True(t, err != nil || a.status == 502, "a short body must not look whole")
			s.answer(text("whole"))
			assert.Equal(t, "whole", s.get("/ports/a").body)
			assert.EqualValues(t, 1, outcomes(s)[meter.Error])
		})
	}
}

func TestPromise4NeverWorseThanNoCache(t *testing.T) {
	s := newRig(t, text(strings.Repeat("x", 10<<10)))
	s.edge.store = store.NewMemory(4<<10, time.Now()) // nothing fits
	for range 3 {
		a := s.get("/ports/a")
		assert.Equal(t, 200, a.status)
		assert.Len(t, a.body, 10<<10)
	}
}

func TestOriginsThatFail(t *testing.T) {
	s := newRig(t, func(_ http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/ports/slow" {
			<-r.Context().Done()
		}
		panic(http.ErrAbortHandler)
	})
	for path, status := range map[string]int{"/ports/broken": 502, "/ports/slow": 504} {
		a := s.get(path, "Host: slow.example")
		assert.Equal(t, status, a.status)
		assert.Equal(t, "no-store", a.header.Get("Cache-Control"))
		assert.Contains(t, a.body, "the origin")
	}
	assert.Equal(t, 502, s.do("POST", "/ports/broken").status)
}

func TestWhatReachesTheOrigin(t *testing.T) {
	var got *http.Request
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		got = r.Clone(context.Background())
		w.Header().Set("Cache-Control", "no-store")
	})
	s.get("/ports/a?utm_source=x&page=2", "X-Forwarded-Host: evil.example", "Forwarded: for=6.6.6.6;host=evil.example", "X-Forwarded-For: 6.6.6.6", "X-Http-Method-Override: DELETE", "X-Original-Url: /admin", `If-None-Match: "x"`, "Host: www.ostrel.example")
	assert.Equal(t, "page=2", got.URL.RawQuery, "parameters that the key leaves out stay here")
	assert.Equal(t, "www.ostrel.example", got.Host)
	assert.Equal(t, "www.ostrel.example", got.Header.Get("X-Forwarded-Host"))
	assert.Equal(t, "127.0.0.1", got.Header.Get("X-Forwarded-For"))
	assert.Equal(t, "http", got.Header.Get("X-Forwarded-Proto"))
	assert.Equal(t, `for=127.0.0.1;host="www.ostrel.example";proto=http`, got.Header.Get("Forwarded"))
	assert.Equal(t, "1.1 gerastic", got.Header.Get("Via"))
	for _, name := range []string{"X-Http-Method-Override", "X-Original-Url", "Gerastic-Explain"} {
		assert.Empty(t, got.Header.Get(name), name)
	}
	s.do("PUT", "/ports/a?utm_source=x", "X-Forwarded-For: 6.6.6.6", "X-Http-Method-Override: PATCH")
	assert.Equal(t, "PATCH", got.Header.Get("X-Http-Method-Override"), "what is not cached is the application's business")
	assert.Equal(t, "utm_source=x", got.URL.RawQuery, "what passes through passes whole")
	assert.Equal(t, "127.0.0.1", got.Header.Get("X-Forwarded-For"))
}

func TestSwitchedOffRoutesPassThroughAndLoseNothing(t *testing.T) {
	s := newRig(t, text("x"))
	s.get("/ports/a")
	inForce := s.edge.Policy()
	for _, off := range []struct {
		routes map[string]bool
		all    bool
	}{{map[string]bool{"port": true}, false}, {nil, true}} {
		s.edge.Apply(&policy.InForce{Policy: inForce.Policy, Off: off.routes, AllOff: off.all})
		assert.Equal(t, "fwd=bypass", s.get("/ports/a").state)
		s.apply(inForce.Policy)
		assert.True(t, strings.HasPrefix(s.get("/ports/a").state, "hit"))
	}
}

func TestHeadIsAnsweredFromAStoredGet(t *testing.T) {
	s := newRig(t, text("12345"))
	assert.Contains(t, s.do("HEAD", "/ports/a").state, "fwd=uri-miss")
	assert.NotContains(t, s.get("/ports/a").state, "hit", "a HEAD stores nothing")
	head := s.do("HEAD", "/ports/a")
	assert.True(t, strings.HasPrefix(head.state, "hit"))
	assert.Empty(t, head.body)
	assert.Equal(t, "5", head.header.Get("Content-Length"))
}

func TestBrowserLifetimeCountsFromNow(t *testing.T) {
	s := newRig(t, text("x", "Cache-Control: max-age=600", "Expires: Sun, 17 May 2026 13:00:00 GMT"))
	first := s.get("/page/1")
	assert.Equal(t, "max-age=5", first.header.Get("Cache-Control"))
	s.pass(30 * time.Second)
	later := s.get("/page/1")
	assert.Equal(t, "30", later.header.Get("Age"))
	assert.Equal(t, "max-age=35", later.header.Get("Cache-Control"), "five seconds beyond the age that counts against it")
	assert.Empty(t, later.header.Get("Expires"))
}

func TestOnlyIfCached(t *testing.T) {
	s := newRig(t, text("x"))
	assert.Equal(t, 504, s.get("/ports/a", "Cache-Control: only-if-cached").status)
	assert.Zero(t, s.asked.Load())
	s.get("/ports/a")
	assert.Equal(t, 200, s.get("/ports/a", "Cache-Control: only-if-cached").status)
}

func TestLargeBodiesStreamThrough(t *testing.T) {
	const size = 32 << 20
	s := newRig(t, func(w http.ResponseWriter, _ *http.Request) {
		piece := bytes.Repeat([]byte("ferry"), 13<<10)
		for sent := 0; sent < size; sent += len(piece) {
			_, _ = w.Write(piece[:min(len(piece), size-sent)])
		}
	})
	a := s.get("/page/large") // its length is not announced: the limit shows while it streams
	assert.Len(t, a.body, size)
	assert.Equal(t, strings.Repeat("ferry", size/5+1)[:size], a.body)
	require.Eventually(t, func() bool { return s.edge.store.Figures().Reserved == 0 }, time.Second, time.Millisecond)
	assert.Zero(t, s.edge.store.Figures().Entries)
}

func TestAVisitorWhoLeavesDoesNotEndTheFill(t *testing.T) {
	begun, release := make(chan struct{}), make(chan struct{})
	s := newRig(t, func(w http.ResponseWriter, _ *http.Request) {
		close(begun)
		<-release
		_, _ = io.WriteString(w, "worth keeping")
	})
	ctx, leave := context.WithCancel(context.Background())
	req, _ := http.NewRequestWithContext(ctx, "GET", s.url+"/ports/a", nil)
	go func() {
		if resp, err := http.DefaultTransport.RoundTrip(req); err == nil {
			resp.Body.Close()
		}
	}()
	<-begun
	leave()
	close(release)
	require.Eventually(t, func() bool { return s.edge.store.Figures().Entries == 1 }, 5*time.Second, time.Millisecond)
	assert.Equal(t, "worth keeping", s.get("/ports/a").body)
	assert.EqualValues(t, 1, s.asked.Load())
}

// TestPromise7CountedOnce: whatever happens to a request, it is counted exactly once.
func TestPromise7CountedOnce(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Query().Get("page") == "9" {
			panic(http.ErrAbortHandler)
		}
		_, _ = io.WriteString(w, "x")
	})
	sent := 0
	for i := range 60 {
		path := fmt.Sprintf("/ports/a?page=%d", i%10)
		_, _ = s.try([]string{"GET", "HEAD", "POST"}[i%3], path, "If-None-Match: *")
		sent++
	}
	require.Eventually(t, func() bool {
		var counted int64
		for _, n := range outcomes(s) {
			counted += n
		}
		return counted == int64(sent)
	}, 2*time.Second, time.Millisecond)
	assert.NotZero(t, outcomes(s)[meter.Error])
	assert.NotZero(t, outcomes(s)[meter.Bypass])
}

func TestExplainTokens(t *testing.T) {
	s := newRig(t, text("x"))
	const may = "Gerastic-Explain: may explain"
	cold := s.get("/ports/a?page=2", may)
	assert.Contains(t, cold.state, `path=/ports/a query=page=2"; detail="cold"`)
	assert.Contains(t, s.get("/ports/a?page=2", may).state, `hit; ttl=60; key="route=port@`)
	assert.NotContains(t, s.get("/ports/a?page=2", "Gerastic-Explain: guess").state, "key=")
}

func TestMaxStaleWhereTheRouteObeys(t *testing.T) {
	s := newRig(t, text("x"))
	s.get("/obeys/a")
	s.pass(90 * time.Second)
	assert.Equal(t, "hit; ttl=-30", s.get("/obeys/a", "Cache-Control: max-stale=40").state)
	assert.Equal(t, "hit; ttl=-30", s.get("/obeys/a", "Cache-Control: max-stale").state)
	assert.Contains(t, s.get("/obeys/a", "Cache-Control: max-stale=10").state, "fwd=stale")
	assert.NotContains(t, s.get("/obeys/b", "Cache-Control: no-store").state, "stored")
	assert.False(t, s.get("/obeys/b").hit(), "the visitor asked for it not to be stored")
}
