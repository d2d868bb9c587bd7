package edge

import (
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/policy"
	"gerastic/internal/core/tags"
)

// TestPromise2ThePurgeBarrier: a fill that began before a purge and ends after it is
// not served afterwards, neither from the store nor by joining it.
func TestPromise2ThePurgeBarrier(t *testing.T) {
	begun, release := make(chan struct{}), make(chan struct{})
	s := newRig(t, func(w http.ResponseWriter, _ *http.Request) {
		close(begun)
		<-release
		_, _ = io.WriteString(w, "old")
	})
	old := make(chan answer)
	go func() {
		a, _ := s.try("GET", "/ports/tholm")
		old <- a
	}()
	<-begun
	s.answer(text("new"))
	matched := s.purge(tags.Purge{Tags: []string{"port:tholm"}})
	assert.Zero(t, matched.Entries)

	// While the old render is still under way, a later request does not join it.
	during := s.get("/ports/tholm")
	assert.Equal(t, "new", during.body)
	close(release)
	assert.Equal(t, "old", (<-old).body, "who asked before the purge may see the answer from before it")

	after := s.get("/ports/tholm")
	assert.Equal(t, "new", after.body)
	assert.EqualValues(t, 2, s.asked.Load())
}

func TestPurgesTakeWhatTheyNameAndNothingElse(t *testing.T) {
	fill := func(s *rig) {
		for _, path := range []string{"/ports/tholm", "/ports/tholm?page=2", "/ports/saltern", "/page/1"} {
			s.get(path)
		}
	}
	host := func(s *rig) string { return strings.TrimPrefix(s.url, "http://") }
	for _, c := range []struct {
		name  string
		purge func(s *rig) tags.Purge
		gone  []string
	}{
		{"by the route's tag", func(*rig) tags.Purge { return tags.Purge{Tags: []string{"port:tholm"}} }, []string{"/ports/tholm", "/ports/tholm?page=2"}},
		{"by the origin's tag", func(*rig) tags.Purge { return tags.Purge{Tags: []string{"with space"}} }, []string{"/ports/saltern"}},
		{"by route", func(*rig) tags.Purge { return tags.Purge{Routes: []string{"page"}} }, []string{"/page/1"}},
		{"by URL with its query", func(s *rig) tags.Purge {
			return tags.Purge{URLs: s.edge.Policy().URLForms(policy.URL{Host: host(s), Path: "/ports/tholm", Query: "page=2&utm_source=x"})}
		}, []string{"/ports/tholm?page=2"}},
		{"by URL with any query", func(s *rig) tags.Purge {
			return tags.Purge{URLs: s.edge.Policy().URLForms(policy.URL{Path: "/ports/tholm", AnyQuery: true})}
		}, []string{"/ports/tholm", "/ports/tholm?page=2"}},
		{"everything", func(*rig) tags.Purge { return tags.Purge{All: true} }, []string{"/ports/tholm", "/ports/tholm?page=2", "/ports/saltern", "/page/1"}},
		{"a tag that nothing carries", func(*rig) tags.Purge { return tags.Purge{Tags: []string{"port:thol"}} }, nil},
	} {
		for _, mode := range []tags.Mode{tags.Drop, tags.Soften} {
			t.Run(c.name+", "+mode.String(), func(t *testing.T) {
				s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
					if r.URL.Path == "/ports/saltern" {
						w.Header().Set("Cache-Groups", `"with space", "other"`)
					}
					_, _ = io.WriteString(w, "x")
				})
				fill(s)
				p := c.purge(s)
				p.Mode = mode
				preview := s.edge.store.Preview(p)
				matched := s.purge(p)
				assert.EqualValues(t, len(c.gone), matched.Entries)
				assert.EqualValues(t, len(c.gone), preview.Entries)
				assert.Zero(t, s.purge(p).Entries, "the same purge again takes nothing")
				for _, path := range []string{"/ports/tholm", "/ports/tholm?page=2", "/ports/saltern", "/page/1"} {
					state := s.get(path).state
					hit := strings.HasPrefix(state, "hit")
					assert.Equal(t, !slices.Contains(c.gone, path), hit, "%s: %s", path, state)
				}
			})
		}
	}
}

func TestUnsafeMethodsInvalidate(t *testing.T) {
	for _, c := range []struct {
		name, method string
		status       int
		headers      []string
		gone         []string
	}{
		{"the target", "POST", 200, nil, []string{"/ports/a"}},
		{"the target and Location on the same host", "PUT", 201, []string{"Location: /ports/b"}, []string{"/ports/a", "/ports/b"}},
		{"Content-Location too", "PATCH", 200, []string{"Content-Location: /page/c"}, []string{"/ports/a", "/page/c"}},
		{"not another host's", "POST", 200, []string{"Location: http://other.example/ports/b"}, []string{"/ports/a"}},
		{"nothing when it fails", "POST", 422, nil, nil},
		{"nothing for a safe method", "OPTIONS", 200, []string{`Cache-Group-Invalidation: "port:b"`}, nil},
		{"the groups that the answer names", "POST", 200, []string{`Cache-Group-Invalidation: "port:b"`}, []string{"/ports/a", "/ports/b"}},
		{"an unknown method counts as unsafe", "MOVE", 204, nil, []string{"/ports/a"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRig(t, text("x"))
			paths := []string{"/ports/a", "/ports/b", "/page/c"}
			for _, p := range paths {
				s.get(p)
			}
			s.answer(func(w http.ResponseWriter, _ *http.Request) {
				for _, h := range c.headers {
					name, value, _ := strings.Cut(h, ": ")
					w.Header().Add(name, value)
				}
				w.WriteHeader(c.status)
			})
			assert.Equal(t, c.status, s.do(c.method, "/ports/a").status)
			s.answer(text("x"))
			for _, p := range paths {
				assert.Equal(t, !slices.Contains(c.gone, p), strings.HasPrefix(s.get(p).state, "hit"), p)
			}
		})
	}
}

func TestGroupsAreInvalidatedWithinOneOriginOnly(t *testing.T) {
	s := newRig(t, text("x"))
	for _, host := range []string{"Host: a.example", "Host: b.example"} {
		s.get("/ports/a", host)
	}
	s.answer(text("x", `Cache-Group-Invalidation: "port:a"`))
	s.do("POST", "/desk", "Host: a.example")
	s.answer(text("x"))
	assert.False(t, s.get("/ports/a", "Host: a.example").hit())
	assert.True(t, s.get("/ports/a", "Host: b.example").hit(), "RFC 9875 §3")
}

// TestSoftenedWithoutItsOrigin: what a purge marked stale does not stand in for an origin that
// fails unless the route allows it, however young it is.
func TestSoftenedWithoutItsOrigin(t *testing.T) {
	s := newRig(t, text("old"))
	for _, path := range []string{"/ports/tholm", "/stale/x"} {
		s.get(path)
		require.Contains(t, s.get(path).state, "hit")
	}
	s.purge(tags.Purge{All: true, Mode: tags.Soften})
	s.answer(func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) })
	assert.Equal(t, 502, s.get("/ports/tholm").status, "no stale rule of the route allows it")
	assert.Equal(t, "old", s.get("/stale/x").body, "stale_while_revalidate and stale_if_error do")
	s.answer(text("new"))
	assert.Equal(t, "new", s.get("/ports/tholm").body)
}
