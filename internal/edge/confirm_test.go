package edge

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestA304ConfirmsTheVariantThatItNames(t *testing.T) {
	var seen atomic.Value
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		lang := r.Header.Get("X-Lang")
		tag := map[string]string{"nb": `"north"`, "nn": `"north"`, "gd": `"west"`}[lang]
		w.Header().Set("Vary", "X-Lang")
		w.Header().Set("ETag", tag)
		w.Header().Set("Cache-Control", "max-age=60")
		seen.Store(r.Header.Get("If-None-Match"))
		if strings.Contains(r.Header.Get("If-None-Match"), tag) {
			w.WriteHeader(304)
			return
		}
		_, _ = io.WriteString(w, "in "+tag)
	})
	s.get("/x", "X-Lang: nb")
	s.get("/x", "X-Lang: gd")
	a := s.get("/x", "X-Lang: nn")
	assert.Equal(t, `in "north"`, a.body, "the answer in another variant's name")
	assert.Contains(t, a.state, "fwd=vary-miss; fwd-status=304")
	assert.ElementsMatch(t, []string{`"west"`, `"north"`}, strings.Split(fmt.Sprint(seen.Load()), ", "))
	for lang, body := range map[string]string{"nb": `in "north"`, "nn": `in "north"`, "gd": `in "west"`} {
		again := s.get("/x", "X-Lang: "+lang)
		assert.True(t, again.hit(), lang)
		assert.Equal(t, body, again.body)
	}
}

// TestA304MayTakeAnAnswerBack: what a 304 makes private goes to nobody who joined.
func TestA304MayTakeAnAnswerBack(t *testing.T) {
	const visitors = 5
	gate := make(chan struct{})
	s := newRig(t, text("shared", `ETag: "v1"`))
	s.get("/ports/a")
	s.pass(2 * time.Minute)
	s.answer(func(w http.ResponseWriter, r *http.Request) {
		<-gate
		w.Header().Set("Cache-Control", "private")
		w.Header().Set("ETag", `"v1"`)
		if r.Header.Get("If-None-Match") != "" {
			w.WriteHeader(304)
		}
	})
	before := s.asked.Load()
	done := make(chan answer, visitors)
	for range visitors {
		go func() { a, _ := s.try("GET", "/ports/a"); done <- a }()
	}
	require.Eventually(t, func() bool { return s.edge.waiting() == visitors }, 5*time.Second, time.Millisecond)
	close(gate)
	for range visitors {
		assert.NotContains(t, (<-done).state, "collapsed")
	}
	assert.EqualValues(t, visitors, s.asked.Load()-before, "everyone asked for themselves")
	assert.Zero(t, s.edge.store.Figures().Entries)
}

// TestWhoCannotBeToldApartAsksAlone: an absent and an empty field under Vary, while
// the answer to the other is still under way.
func TestWhoCannotBeToldApartAsksAlone(t *testing.T) {
	gate := make(chan struct{})
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Vary", "X-A")
		_, present := r.Header["X-A"]
		fmt.Fprintf(w, "present: %v", present)
		w.(http.Flusher).Flush()
		if !present {
			<-gate
		}
	})
	first := make(chan answer)
	go func() { a, _ := s.try("GET", "/ports/a"); first <- a }()
	require.Eventually(t, func() bool { return s.asked.Load() == 1 }, 5*time.Second, time.Millisecond)
	assert.Equal(t, "present: true", s.get("/ports/a", "X-A: ").body)
	close(gate)
	assert.Equal(t, "present: false", (<-first).body)
}
