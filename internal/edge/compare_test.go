package edge

import (
	"fmt"
	"io"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/fetch"
)

// TestCompareNamesWhatTheKeyLacks: hits are asked again, and a finding names the part
// that separates the answers.
func TestCompareNamesWhatTheKeyLacks(t *testing.T) {
	for _, c := range []struct {
		name     string
		answer   func(r *http.Request) string
		visitors [2][]string // path, headers
		kind     string
		by       string
	}{
		{"a cookie", func(r *http.Request) string {
			c, _ := r.Cookie("currency")
			return fmt.Sprint(c != nil && c.Value == "eur")
		}, [2][]string{{"/compared"}, {"/compared", "Cookie: a=1; currency=eur; b=2"}}, "key", "cookie currency"},
		{"a header", func(r *http.Request) string { return r.Header.Get("X-Device") }, [2][]string{{"/compared"}, {"/compared", "X-Device: phone", "X-Other: 1"}}, "key", "header X-Device"},
		{"a parameter", func(r *http.Request) string { return r.URL.Query().Get("ref") }, [2][]string{{"/compared"}, {"/compared?ref=friend&utm=x"}}, "key", "parameter ref"},
		{"nothing", func(*http.Request) string { return "same" }, [2][]string{{"/compared"}, {"/compared?ref=friend", "X-Device: phone"}}, "", ""},
		{"what the route ignores", func(r *http.Request) string { return "token=" + r.Header.Get("X-Device") + ";" }, [2][]string{{"/compared"}, {"/compared", "X-Device: phone"}}, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			found := make(chan fetch.Finding, 10)
			s := newRig(t, func(w http.ResponseWriter, r *http.Request) { _, _ = io.WriteString(w, c.answer(r)) })
			s.onFinding(func(f fetch.Finding) { found <- f })
			s.get(c.visitors[0][0], c.visitors[0][1:]...)
			a := s.get(c.visitors[1][0], c.visitors[1][1:]...)
			assert.True(t, a.hit(), "the visitor notices nothing")
			if c.kind == "" {
				require.Eventually(t, func() bool { return s.asked.Load() >= 2 }, 5*time.Second, time.Millisecond)
				require.NoError(t, s.edge.Shutdown(t.Context()), "what compares has ended")
				assert.Empty(t, found)
				return
			}
			select {
			case f := <-found:
				assert.Equal(t, c.kind, f.Kind)
				assert.Equal(t, c.by, f.Separator)
				assert.NotEqual(t, f.Stored, f.Origin)
				assert.Contains(t, f.Key, "path=/compared")
			case <-time.After(5 * time.Second):
				t.Fatal("nothing was found")
			}
			before := s.asked.Load()
			s.get(c.visitors[1][0], c.visitors[1][1:]...)
			assert.Equal(t, before, s.asked.Load(), "a key with a finding is left alone for a while")
		})
	}
	found := make(chan fetch.Finding, 10)
	s := newRig(t, text("old"))
	s.onFinding(func(f fetch.Finding) { found <- f })
	s.get("/compared")
	s.answer(text("new"))
	s.get("/compared")
	assert.Equal(t, "changed", (<-found).Kind, "the content changed, and nobody purged")
}

func TestCompareIsBounded(t *testing.T) {
	s := newRig(t, text("same"))
	s.onFinding(func(fetch.Finding) {})
	for range 200 {
		s.get("/compared")
	}
	require.NoError(t, s.edge.Shutdown(t.Context()), "what compares has ended")
	assert.LessOrEqual(t, s.asked.Load(), int64(1+100), "one fill, and what one second allows: the clock stands still")
}
