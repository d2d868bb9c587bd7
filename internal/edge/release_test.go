package edge

import (
	"fmt"
	"io"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/tags"
)

// TestReleases: what an older release left is marked stale when another one answers, on its route; while
// both answer, nothing flaps.
func TestReleases(t *testing.T) {
	const policy = `routes:
  - { name: pages, match: { path: "/pages/{x}" }, lifetime: { fresh: 1h, stale_while_revalidate: 1h }, releases: "header:X-App-Release" }
  - { name: other, match: { path: "/other/{x}" }, lifetime: { fresh: 1h }, releases: "header:X-App-Release" }
`
	release := "1"
	s := newRigOf(t, policy, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-App-Release", release)
		_, _ = io.WriteString(w, release)
	})
	ask := func(n int) string { return s.get(fmt.Sprint("/pages/", n)).body }
	softened := func() (routes []string) {
		s.purges.Lock()
		defer s.purges.Unlock()
		for _, p := range s.purged {
			assert.Equal(t, tags.Soften, p.Mode)
			routes = append(routes, p.Routes...)
		}
		s.purged = nil
		return routes
	}
	for n := range 3 {
		ask(n)
	}
	s.get("/other/1")
	assert.Empty(t, softened(), "the first is no change")
	release = "2"
	assert.Equal(t, "2", ask(3))
	assert.Equal(t, []string{"pages"}, softened())
	assert.Equal(t, "1", ask(0), "stale, and renewed behind")
	require.Eventually(t, func() bool { return ask(0) == "2" }, 5*time.Second, time.Millisecond)
	assert.True(t, s.get("/other/1").hit(), "another route is asked for itself")
	for n := range 4 { // both answer
		release = []string{"1", "2"}[n%2]
		ask(10 + n)
	}
	assert.Empty(t, softened())
	release = "3"
	ask(20)
	assert.Equal(t, []string{"pages"}, softened())
	s.pass(11 * time.Minute) // an older one is not brought back for ten
	release = "1"
	ask(21)
	assert.Equal(t, []string{"pages"}, softened(), "it was rolled back")
	s.answer(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "none") })
	ask(22)
	assert.Empty(t, softened(), "an answer that names none says nothing")
}
