package edge

import (
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gerastic/internal/core/tags"
)

// origins is a model of an application: it knows of each answer that it gave when, to
// what, and under which terms.
type origins struct {
	mu      sync.Mutex
	now     func() time.Time
	terms   string               // Cache-Control of the answers from now on
	vary    bool                 // the answers depend on X-Device
	failing bool                 // answers 503
	failed  map[string]time.Time // until when a 503 holds, by path: each other may be stored
	version map[string]int       // of the content, by path
	given   []given
}

type given struct {
	path, device, terms string
	vary                bool
	version             int
	at                  time.Time
}

func (o *origins) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.failing {
		w.Header().Set("Cache-Control", "no-store")
		if o.vary {
			w.Header().Set("Cache-Control", "max-age=15")
			o.failed[r.URL.Path] = o.now().Add(15 * time.Second)
		}
		w.WriteHeader(503)
		return
	}
	g := given{path: r.URL.Path, device: r.Header.Get("X-Device"), terms: o.terms, vary: o.vary, version: o.version[r.URL.Path], at: o.now()}
	h := w.Header()
	h.Set("Cache-Control", o.terms)
	etag := fmt.Sprintf(`"%s-%d-%s-%v"`, strings.ReplaceAll(g.path, "/", ""), g.version, map[bool]string{true: g.device}[g.vary], g.vary)
	h.Set("ETag", etag)
	if o.vary {
		h.Set("Vary", "X-Device")
	}
	o.given = append(o.given, g)
	h.Set("X-Serial", strconv.Itoa(len(o.given)-1))
	if strings.Contains(r.Header.Get("If-None-Match"), etag) {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	fmt.Fprintf(w, "%s version %d", g.path, g.version)
	if g.vary {
		fmt.Fprintf(w, " for %s", g.device)
	}
}

// lifetimes are the terms that the model's origin knows, with what they allow: how long
// a hit may be old, and how much longer a stale answer may be served while it is
// renewed, or when the origin fails.
var lifetimes = map[string]struct{ fresh, renewing, failing time.Duration }{
	"max-age=60":                            {60 * time.Second, 0, 0},
	"s-maxage=30, max-age=600":              {30 * time.Second, 0, 0},
	"max-age=20, stale-while-revalidate=40": {20 * time.Second, 40 * time.Second, 0},
	"max-age=20, stale-if-error=100":        {20 * time.Second, 0, 100 * time.Second},
	"no-cache":                              {},
	"max-age=0, must-revalidate":            {},
	"no-store":                              {},
	"private, max-age=60":                   {},
	"must-revalidate, max-age=10, stale-while-revalidate=50": {10 * time.Second, 0, 0},
}

// TestTheEdgeNeverServesWhatItMayNot drives the whole edge with random sequences of
// requests, changes, purges, failures and steps of the clock, and holds every answer
// against the model of what may be served.
func TestTheEdgeNeverServesWhatItMayNot(t *testing.T) {
	s := newRig(t, nil)
	o := &origins{now: s.now, version: map[string]int{}, failed: map[string]time.Time{}}
	s.answer(o.ServeHTTP)
	terms := slices.Sorted(maps.Keys(lifetimes))
	round := 0
	rapid.Check(t, func(rt *rapid.T) {
		round++
		first := rapid.SampledFrom(terms).Draw(rt, "first terms")
		o.set(func() { o.given, o.failing, o.vary, o.terms = nil, false, false, first })
		paths := []string{fmt.Sprintf("/ports/a%d", round), fmt.Sprintf("/ports/b%d", round)}
		purged := map[string]int{} // the least version that may be served since the last purge
		for range rapid.IntRange(20, 100).Draw(rt, "steps") {
			path := rapid.SampledFrom(paths).Draw(rt, "path")
			switch rapid.IntRange(0, 20).Draw(rt, "step") {
			case 0:
				next := rapid.SampledFrom(terms).Draw(rt, "terms")
				o.set(func() { o.terms = next })
			case 1:
				o.set(func() { o.vary = !o.vary })
			case 2:
				o.set(func() { o.failing = !o.failing })
			case 3: // a change that is purged
				o.set(func() { o.version[path]++ })
				p := tags.Purge{}
				switch tag := "port:" + strings.TrimPrefix(path, "/ports/"); rapid.IntRange(0, 4).Draw(rt, "named by") {
				case 0:
					p.Below = []tags.Below{{AnyHost: true, Path: path}}
				case 1:
					p.URLs = []tags.URL{{Host: "h", Path: path}}
				case 2:
					p.Tags, p.Together = []string{tag, "port:none"}, true // no entry carries both
					s.purge(p)
					fallthrough
				case 3:
					p = tags.Purge{Tags: []string{tag, tag}, Together: true}
				default:
					p.Tags = []string{tag}
				}
				s.purge(p)
				purged[path] = o.version[path]
			case 9: // marks go when no entry needs them
				require.Eventually(rt, func() bool { // a fill may still be ending
					s.edge.barrier.Compact()
					return s.edge.barrier.Len() == 0
				}, 5*time.Second, 50*time.Microsecond)
			case 4: // one that nobody tells
				o.set(func() { o.version[path]++ })
			case 5, 6, 7, 8:
				s.pass(time.Duration(rapid.IntRange(1, 50).Draw(rt, "seconds")) * time.Second)
			default:
				visitOnce(rt, s, o, path, rapid.SampledFrom([]string{"phone", "desk"}).Draw(rt, "device"), rapid.SampledFrom([]string{"GET", "HEAD"}).Draw(rt, "method"),
					rapid.SampledFrom([]string{"", "", "", "", "", "", "no-cache", "only-if-cached"}).Draw(rt, "asks"), purged[path])
			}
		}
	})
}

// set changes the model. Nothing is drawn meanwhile: a draw may end the run.
func (o *origins) set(change func()) {
	o.mu.Lock()
	defer o.mu.Unlock()
	change()
}

func visitOnce(t *rapid.T, s *rig, o *origins, path, device, method, asks string, least int) {
	var before int
	o.set(func() { before = len(o.given) })
	r := httptest.NewRequest(method, "http://h"+path, nil)
	r.Header.Set("X-Device", device)
	if asks != "" {
		r.Header.Set("Cache-Control", asks)
	}
	w := httptest.NewRecorder()
	s.edge.ServeHTTP(w, r)
	require.Eventually(s.t, func() bool { return s.edge.Filling() == 0 }, 5*time.Second, 50*time.Microsecond)
	o.mu.Lock()
	defer o.mu.Unlock()
	state := w.Header().Get("Cache-Status")
	failing := o.failing || s.now().Before(o.failed[path])
	if w.Code != 200 {
		assert.True(t, failing && w.Code == 503 || asks == "only-if-cached" && w.Code == 504, "%d: %s", w.Code, state)
		return
	}
	serial, err := strconv.Atoi(w.Header().Get("X-Serial"))
	require.NoError(t, err)
	g := o.given[serial]
	assert.Equal(t, path, g.path, "the wrong page")
	if g.vary {
		assert.Equal(t, device, g.device, "another variant")
	}
	if method == "GET" {
		want := fmt.Sprintf("%s version %d", g.path, g.version)
		if g.vary {
			want += " for " + g.device
		}
		assert.Equal(t, want, w.Body.String(), "header and body of different answers")
	} else {
		assert.Empty(t, w.Body.String())
	}
	assert.GreaterOrEqual(t, g.version, least, "from before a purge")
	if serial >= before {
		return // the origin was asked for it
	}
	assert.True(t, strings.Contains(state, "hit") || o.failing && strings.Contains(state, "fwd-status=503"), "what was not asked for now came from the store: %s", state)
	assert.NotContains(t, []string{"no-store", "private, max-age=60"}, g.terms, "what must not be stored")
	may := lifetimes[g.terms]
	old := s.now().Sub(g.at)
	switch {
	case old < may.fresh:
		assert.False(t, asks == "no-cache" && !o.failing, "the visitor asked for it to be validated")
	case old < may.fresh+may.renewing:
	case failing && old < may.fresh+may.failing:
	default:
		t.Fatalf("an answer under %q was served %v after it was given: %s", g.terms, old, state)
	}
}
