package edge

import (
	"io"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"gerastic/internal/core/meter"
)

// TestWorkIsSpentOnceAndSavedAsOftenAsItIsFound, whatever becomes of a request, and is not for visitors.
func TestWorkIsSpentOnceAndSavedAsOftenAsItIsFound(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Gerastic-Work", "queries=7")
		w.Header().Set("Server-Timing", "db;dur=3")
		switch r.URL.Path {
		case "/ports/private":
			w.Header().Set("Cache-Control", "no-store")
		case "/ports/asked":
			w.Header().Set("Cache-Control", "no-cache")
			w.Header().Set("Etag", `"v1"`)
			if r.Header.Get("If-None-Match") == `"v1"` {
				w.Header().Set("Gerastic-Work", "queries=1")
				w.WriteHeader(304)
				return
			}
		default:
			w.Header().Set("Cache-Control", "max-age=60, stale-while-revalidate=60")
		}
		_, _ = io.WriteString(w, "page")
	})
	counts := func(what string, want meter.Amount) { // a request is counted when its answer has gone out
		t.Helper()
		sums := meter.Amounts{}
		assert.Eventually(t, func() bool {
			for _, cell := range s.edge.meter.Drain() {
				sums.Merge(cell.Work)
			}
			return sums["queries"] == want
		}, 5*time.Second, time.Millisecond, what)
	}
	for _, c := range []struct {
		what, method, path string
		queries            meter.Amount
	}{
		{"a miss", "GET", "/ports/a", meter.Amount{Spent: 7}},
		{"a hit", "GET", "/ports/a", meter.Amount{Saved: 7}},
		{"what is not stored", "GET", "/ports/private", meter.Amount{Spent: 7}},
		{"what passes", "POST", "/ports/a", meter.Amount{Spent: 7}},
		{"a miss that is asked each time", "GET", "/ports/asked", meter.Amount{Spent: 7}},
		{"confirmed, by little work", "GET", "/ports/asked", meter.Amount{Spent: 1}},
	} {
		p := s.post(c.method, c.path, "")
		assert.Equal(t, 200, p.status, c.what)
		assert.Empty(t, p.header["Gerastic-Work"], c.what)
		counts(c.what, c.queries)
	}
	s.post("GET", "/ports/b", "")
	counts("a miss", meter.Amount{Spent: 7})
	s.pass(90 * time.Second)
	s.post("GET", "/ports/b", "")
	counts("what is used stale is saved, and what renews it behind is spent", meter.Amount{Spent: 7, Saved: 7})
}
