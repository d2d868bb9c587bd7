package edge

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/barrier"
	"gerastic/internal/core/decide"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/tags"
)

// held is a request whose answer the origin holds back until it is let go.
type held struct {
	letGo chan struct{}
	got   chan answer
}

// hold begins a request, and returns when it has reached the origin, which will answer it
// with h.
func (s *rig) holdBack(path string, h http.HandlerFunc, headers ...string) *held {
	begun := make(chan struct{})
	p := &held{make(chan struct{}), make(chan answer, 1)}
	s.answer(func(w http.ResponseWriter, r *http.Request) {
		close(begun)
		<-p.letGo
		h(w, r)
	})
	go func() {
		a, err := s.try("GET", path, headers...)
		assert.NoError(s.t, err)
		p.got <- a
	}()
	<-begun
	return p
}

// end lets the origin answer, and waits until all of it has come.
func (s *rig) end(p *held) answer {
	close(p.letGo)
	a := <-p.got
	require.Eventually(s.t, func() bool { return s.edge.fetch.Flights.Aloft() == 0 }, 5*time.Second, time.Millisecond)
	return a
}

// TestPromise2NothingGoesBackInTime: what comes late does not take the place of what a fill
// brought that began after it, whatever lay between.
func TestPromise2NothingGoesBackInTime(t *testing.T) {
	notModified := func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Etag", `"old"`)
		w.WriteHeader(http.StatusNotModified)
	}
	for _, c := range []struct {
		name   string
		stored bool             // an old answer is there, and stale
		late   http.HandlerFunc // what comes late
		then   func(s *rig)     // between the two
	}{
		{"after a purge of its URL", false, text("old"), func(s *rig) { s.purge(tags.Purge{Below: []tags.Below{{AnyHost: true, Path: "/ports/t"}}}) }},
		{"after it was marked stale", false, text("old", "Cache-Control: max-age=600"), func(s *rig) { s.purge(tags.Purge{Tags: []string{"port:tholm"}, Mode: tags.Soften}) }},
		{"while the ledger was lost", false, text("old"), func(s *rig) { s.edge.barrier.KnowUntil(time.Unix(0, 1)) }},
		{"a confirmation, after a purge", true, notModified, func(s *rig) { s.purge(tags.Purge{Tags: []string{"port:tholm"}}) }},
		{"a confirmation, while the ledger was lost", true, notModified, func(s *rig) { s.edge.barrier.KnowUntil(time.Unix(0, 1)) }},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRig(t, text("old", `Etag: "old"`))
			if c.stored {
				s.get("/ports/tholm")
				s.pass(2 * time.Minute)
			}
			late := s.holdBack("/ports/tholm", c.late)
			c.then(s)
			s.pass(time.Second)
			s.answer(text("new"))
			require.Equal(t, "new", s.get("/ports/tholm").body)
			s.edge.barrier.KnowAlways()
			s.end(late)
			a := s.get("/ports/tholm")
			assert.Equal(t, "new", a.body)
			assert.True(t, a.hit(), a.state)
		})
	}
}

// TestDisownReachesEveryFill: when the ledger takes no invalidation, no fill that began before
// the write is stored, be it one that nobody can join.
func TestDisownReachesEveryFill(t *testing.T) {
	s := newRig(t, nil)
	s.edge.fetch.Purge = func(context.Context, tags.Purge, string, string) error { return errors.New("no ledger") }
	s.edge.barrier.KnowUntil(time.Unix(0, 1)) // the ledger is lost: each asks for itself
	late := s.holdBack("/x", text("old", "Cache-Control: max-age=60"))
	s.answer(text("new", "Cache-Control: max-age=60"))
	s.do("POST", "/x")
	s.end(late)
	s.edge.barrier.KnowAlways()
	assert.Equal(t, "new", s.get("/x").body)
}

// TestPurgesOfOthersLeaveFillsTogether: one origin request however many wait, and however
// many purges of other things there are meanwhile. A purge of what is known beforehand is
// judged at once; one of what only the answer names, when it comes.
func TestPurgesOfOthersLeaveFillsTogether(t *testing.T) {
	for _, c := range []struct {
		name  string
		purge tags.Purge
		first string // what those who asked before the purge get
		asked int64
	}{
		{"another tag", tags.Purge{Tags: []string{"port:other"}}, "old", 1},
		{"another path, marked stale", tags.Purge{Below: []tags.Below{{AnyHost: true, Path: "/page/"}}, Mode: tags.Soften}, "old", 1},
		{"the route's tag", tags.Purge{Tags: []string{"port:tholm"}}, "old", 2},
		{"the route's tag, marked stale", tags.Purge{Tags: []string{"port:tholm"}, Mode: tags.Soften}, "old", 2},
		{"the origin's tag", tags.Purge{Tags: []string{"mayor"}}, "old", 2},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRig(t, nil)
			tagged := func(body string) http.HandlerFunc { return text(body, `Cache-Groups: "mayor"`) }
			first := s.holdBack("/ports/tholm", tagged("old"))
			s.answer(tagged("new"))
			const purges = 20
			bodies := make(chan string, purges)
			for i := range purges {
				s.purge(c.purge)
				go func() { bodies <- s.get("/ports/tholm").body }()
				want := i + 2
				if c.asked == 2 && c.name != "the origin's tag" {
					assert.Equal(t, "new", <-bodies, "it is not held up by a fill that is of no use to it")
					continue
				}
				require.Eventually(t, func() bool { return s.edge.waiting() == want }, 5*time.Second, 100*time.Microsecond)
			}
			assert.Equal(t, c.first, s.end(first).body)
			if c.asked == 2 && c.name != "the origin's tag" {
				return
			}
			want := map[int64]string{1: "old", 2: "new"}[c.asked]
			for range purges {
				assert.Equal(t, want, <-bodies)
			}
			assert.Equal(t, c.asked, s.asked.Load())
			assert.Equal(t, want, s.get("/ports/tholm").body)
		})
	}
}

// TestWhatMayBeOutOfDateIsNotAnnouncedAsFresh: what is served although a purge marked it stale
// has no life left, and whoever keeps it must ask first; nothing that its origin says is
// taken away.
func TestWhatMayBeOutOfDateIsNotAnnouncedAsFresh(t *testing.T) {
	for _, c := range []struct{ name, path, control, ours string }{
		{"the origin's word", "/stale/x", "max-age=600, stale-while-revalidate=60", "max-age=600, stale-while-revalidate=60, no-cache"},
		{"no word", "/stale/x", "", "no-cache"},
		{"the route's word", "/browser", "max-age=600", "max-age=5, no-cache"},
	} {
		for _, condition := range [][]string{nil, {`If-None-Match: "1"`}} {
			t.Run(fmt.Sprint(c.name, condition), func(t *testing.T) {
				s := newRigOf(t, "routes:\n  - { name: browser, match: { path: /browser }, lifetime: { fresh: 1m, stale_while_revalidate: 1m, browser: 5s } }"+routesYAML, nil)
				begun, wait := make(chan struct{}, 9), make(chan struct{})
				defer close(wait)
				s.answer(text("x", "Cache-Control: "+c.control, "Cdn-Cache-Control: max-age=9", `Etag: "1"`))
				s.get(c.path)
				s.purge(tags.Purge{All: true, Mode: tags.Soften})
				s.answer(func(http.ResponseWriter, *http.Request) { begun <- struct{}{}; <-wait })
				a := s.get(c.path, condition...)
				<-begun
				assert.Equal(t, map[bool]int{true: 200, false: 304}[condition == nil], a.status)
				assert.Equal(t, c.ours, strings.TrimPrefix(a.header.Get("Cache-Control"), ", "))
				assert.Equal(t, "max-age=9, no-cache", a.header.Get("Cdn-Cache-Control"))
				assert.Equal(t, "hit; ttl=0", a.state)
			})
		}
	}
}

// TestComposedPagesSayWhatTheFiguresSay: a page whose skeleton was at hand, but not all of its
// parts, is no hit, and one that shows what may be out of date must be asked about.
func TestComposedPagesSayWhatTheFiguresSay(t *testing.T) {
	s := newRigOf(t, `routes:
  - { name: page, match: { path: /page }, lifetime: { fresh: 1m, browser: 9s }, compose: true }
  - { name: piece, match: { path: "/piece/{x}" }, lifetime: { fresh: 1m, stale_while_revalidate: 1m }, tags: [piece] }
`, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/page" {
			fmt.Fprint(w, "piece")
			return
		}
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, `<esi:include src="/piece/a"/>`)
	})
	for _, c := range []struct {
		purge          tags.Purge
		state, control string
		outcome        meter.Outcome
	}{
		{tags.Purge{Tags: []string{"other"}}, "fwd=uri-miss; stored", "private, max-age=9", meter.Miss},
		{tags.Purge{Tags: []string{"other"}}, "hit; ttl=60", "private, max-age=9", meter.Hit},
		{tags.Purge{Tags: []string{"piece"}}, "fwd=miss", "private, max-age=9", meter.Miss},
		{tags.Purge{Tags: []string{"piece"}, Mode: tags.Soften}, "hit; ttl=60", "private, max-age=9, no-cache", meter.Hit},
	} {
		s.purge(c.purge)
		before := s.edge.meter.Totals()
		a := s.get("/page")
		assert.Equal(t, "piece", a.body)
		assert.Equal(t, c.state, a.state)
		assert.Equal(t, c.control, a.header.Get("Cache-Control"))
		counted := int64(0)
		for k, cell := range s.edge.meter.Totals() {
			if k.Route == "page" && k.Outcome == c.outcome {
				counted += cell.Requests
				if b := before[k]; b != nil {
					counted -= b.Requests
				}
			}
		}
		assert.EqualValues(t, 1, counted, "the figures say %s", c.outcome)
	}
}

// TestStoredFailuresStandBeside: a failure that may be stored does not take the place of what
// stands in for its origin. As long as it holds, that is served without asking.
func TestStoredFailuresStandBeside(t *testing.T) {
	s := newRig(t, text("good", "Cache-Control: max-age=10", `Etag: "1"`))
	s.get("/stale/x")
	s.pass(2*time.Minute + time.Second) // beyond stale_while_revalidate
	failing := func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Cache-Control", "max-age=5")
		w.WriteHeader(503)
		_, _ = io.WriteString(w, "down")
	}
	s.answer(failing)
	a := s.get("/stale/x")
	assert.Equal(t, "good", a.body)
	assert.Equal(t, "fwd=stale; fwd-status=503; ttl=-111", a.state)
	require.Eventually(t, func() bool { return s.edge.fetch.Flights.Aloft() == 0 }, 5*time.Second, time.Millisecond)
	for range 3 {
		s.pass(time.Second)
		a = s.get("/stale/x")
		assert.Equal(t, "good", a.body)
		assert.Contains(t, a.state, "hit; ttl=-11", "nobody was asked")
	}
	assert.EqualValues(t, 2, s.asked.Load())
	ex, _ := s.edge.Explain(request(t, s, "/stale/x"))
	assert.Equal(t, "serve stale", ex.Decision.Action.String(), "explaining says the same")
	assert.Len(t, ex.Variants, 2)

	assert.Equal(t, "good", s.get("/stale/x", "Cache-Control: no-cache").body)
	assert.EqualValues(t, 3, s.asked.Load(), "who asks for it makes the origin be asked")
	s.purge(tags.Purge{All: true})
	assert.Equal(t, 503, s.get("/stale/x").status, "a purge takes what stood in")
	s.pass(time.Second)
	assert.True(t, s.get("/stale/x").hit(), "and the failure alone is served as long as it holds")

	s.pass(5 * time.Second)
	s.answer(text("well"))
	assert.Equal(t, "well", s.get("/stale/x").body)
	assert.True(t, s.get("/stale/x").hit())
	assert.EqualValues(t, 1, s.edge.store.Figures().Entries, "nothing is left of the failure")
}

// TestAStoredFailureSpeaksWhereNothingMayStandIn: the route allows nothing stale.
func TestAStoredFailureSpeaksWhereNothingMayStandIn(t *testing.T) {
	s := newRig(t, text("good", "Cache-Control: max-age=10"))
	s.get("/x")
	s.pass(11 * time.Second)
	s.answer(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Cache-Control", "max-age=5")
		w.WriteHeader(503)
	})
	for range 3 {
		assert.Equal(t, 503, s.get("/x").status)
	}
	assert.EqualValues(t, 2, s.asked.Load())
}

func request(t *testing.T, s *rig, path string) *http.Request {
	r, err := http.NewRequest("GET", s.url+path, nil)
	require.NoError(t, err)
	return r
}

// TestWhatConfirmsTellsItsTime: a 304 without Date is of now, and one that comes from another
// cache is as old as that says (RFC 9111 §4.2.3).
func TestWhatConfirmsTellsItsTime(t *testing.T) {
	for _, c := range []struct {
		age   string
		after []string // what the next two requests see
	}{
		{"", []string{"hit; ttl=60", "hit; ttl=60"}},
		{"50", []string{"hit; ttl=10", "hit; ttl=10"}},
		{"60", []string{"fwd=stale; fwd-status=304; stored", "fwd=stale; fwd-status=304; stored"}},
	} {
		s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Etag", `"1"`)
			w.Header().Set("Cache-Control", "max-age=60")
			if r.Header.Get("If-None-Match") != "" {
				w.Header()["Date"] = nil
				if c.age != "" {
					w.Header().Set("Age", c.age)
				}
				w.WriteHeader(http.StatusNotModified)
			}
		})
		s.get("/x")
		s.pass(61 * time.Second)
		s.get("/x")
		for _, state := range c.after {
			assert.Equal(t, state, s.get("/x").state, "Age %s", c.age)
		}
	}
}

// TestAPolicyReachesWhatIsStored: an answer that was stored under other terms is judged under
// those in force at its next use; its header and times are kept.
func TestAPolicyReachesWhatIsStored(t *testing.T) {
	for _, c := range []struct {
		name, before, after string
		header              []string
		state, control      string
	}{
		{"a shorter life", "lifetime: { fresh: 1d }", "lifetime: { fresh: 40s }", nil, "hit; ttl=10", ""},
		{"a life that is over", "lifetime: { fresh: 1d }", "lifetime: { fresh: 10s }", []string{`Etag: "1"`}, "fwd=stale; fwd-status=304; stored", ""},
		{"a longer life", "lifetime: { fresh: 10s }", "lifetime: { fresh: 1d }", nil, "hit; ttl=86370", ""},
		{"a bound", "lifetime: { at_most: 1h }", "lifetime: { at_most: 35s }", []string{"Cache-Control: max-age=3600"}, "hit; ttl=5", "max-age=3600"},
		{"for browsers", "lifetime: { fresh: 1h }", "lifetime: { fresh: 1h, browser: 5s }", nil, "hit; ttl=3570", "max-age=35"},
		{"too long now", "admit: { max_body: 1KiB }", "admit: { max_body: 4B }", []string{"Cache-Control: max-age=3600"}, "fwd=uri-miss", "max-age=3600"},
		{"fragments in it", "lifetime: { fresh: 1h }", "lifetime: { fresh: 1d }", []string{"Gerastic-Life: 45.0"}, "hit; ttl=15", ""},
		{"something else changed", "lifetime: { fresh: 1h }", "lifetime: { fresh: 1h }, obey_visitor: all", nil, "hit; ttl=3570", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			route := func(rest string) string {
				return "routes:\n  - { name: r, match: { path: /x }, " + rest + " }\n"
			}
			s := newRigOf(t, route(c.before), func(w http.ResponseWriter, r *http.Request) {
				for _, line := range c.header {
					name, value, _ := strings.Cut(line, ": ")
					w.Header().Set(name, value)
				}
				if r.Header.Get("If-None-Match") != "" {
					w.WriteHeader(http.StatusNotModified)
					return
				}
				_, _ = io.WriteString(w, "hello")
			})
			s.get("/x")
			s.pass(30 * time.Second)
			p, err := policy.Outside{}.Parse("test.yaml", []byte("version: 1\norigins: [{ name: site, url: "+s.app.URL+" }]\n"+route(c.after)))
			require.NoError(t, err)
			s.apply(p)
			explained, _ := s.edge.Explain(request(t, s, "/x"))
			a := s.get("/x")
			assert.Equal(t, c.state, a.state)
			assert.Equal(t, "hello", a.body)
			assert.Equal(t, c.control, a.header.Get("Cache-Control"))
			assert.Equal(t, a.hit(), explained.Decision.Action.String() == "serve", "explaining says the same")
			if explained.Input.Entry != nil {
				assert.Contains(t, explained.Variants, explained.Input.Entry, "and shows which of those that are stored it is")
			}
		})
	}
}

// TestManyFindWhatIsJudgedAnew: those who come together do not undo one another.
func TestManyFindWhatIsJudgedAnew(t *testing.T) {
	s := newRig(t, text(strings.Repeat("x", 4096), "Content-Type: text/html"))
	s.get("/ports/a", "Accept-Encoding: gzip")
	s.apply(restate(t, s, "fresh: 1m, by_status", "fresh: 2m, by_status"))
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() { assert.True(t, s.get("/ports/a").hit()) })
	}
	all.Wait()
	assert.EqualValues(t, 1, s.edge.store.Figures().Entries)
}

// TestWhatIsJudgedAnewKeepsItsDoubts: a policy does not make fresh again what was marked stale, nor
// bring back what was forgotten at the same moment.
func TestWhatIsJudgedAnewKeepsItsDoubts(t *testing.T) {
	s := newRig(t, text("old"))
	longer := func() { s.apply(restate(t, s, "fresh: 1m, by_status", "fresh: 2m, by_status")) }
	s.get("/ports/a")
	s.edge.barrier.Forget(tags.Purge{All: true, Mode: tags.Soften})
	longer()
	s.answer(text("new"))
	assert.Equal(t, "new", s.get("/ports/a").body)

	s.get("/ports/b")
	found := s.edge.store.Some("", "port", "", 10)
	require.Len(t, found, 2)
	before := s.edge.barrier.Moment()
	s.edge.barrier.Forget(tags.Purge{All: true})
	for _, during := range []barrier.Moment{before, before + 1} {
		s.edge.fetch.Replace(found[1], found[1].Restated(), during, s.now())
		assert.Zero(t, s.edge.store.Figures().Entries)
	}
}

// restate is the rig's policy with a change.
func restate(t *testing.T, s *rig, old, now string) *policy.Policy {
	require.Contains(t, routesYAML, old)
	p, err := policy.Outside{}.Parse("test.yaml", []byte("version: 1\norigins: [{ name: site, url: "+s.app.URL+" }]\nroutes:"+strings.Replace(routesYAML, old, now, 1)))
	require.NoError(t, err)
	return p
}

// TestExplainKnowsTheBody: a question is explained as it would be answered.
func TestExplainKnowsTheBody(t *testing.T) {
	s := newRig(t, text("x"))
	s.post("POST", "/ask", `{"q":1}`, "Content-Type: application/json")
	for body, want := range map[string]decide.Action{`{ "q": 1 }`: decide.Serve, `{"q":2}`: decide.Fetch, strings.Repeat(" ", key.MaxBody+1): decide.Bypass} {
		r := httptest.NewRequest("POST", s.url+"/ask", strings.NewReader(body))
		r.RequestURI, r.Host = "/ask", strings.TrimPrefix(s.url, "http://")
		r.Header.Set("Content-Type", "application/json")
		ex, ok := s.edge.Explain(r)
		require.True(t, ok)
		assert.Equal(t, want, ex.Decision.Action, body)
	}
}
