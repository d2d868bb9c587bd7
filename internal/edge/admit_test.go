package edge

import (
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"gerastic/internal/core/meter"
)

const admitPolicy = "routes: [{ name: pages, match: { path: \"/{x...}\" }, lifetime: { fresh: 10m }, admit: { after: 2, within: 1h } }]"

// TestWhatIsAskedForOnceIsNotStored: an answer is stored when it is asked for the second time
// within its time, and the figures say what kept it out before.
func TestWhatIsAskedForOnceIsNotStored(t *testing.T) {
	s := newRigOf(t, admitPolicy, text("a page", "ETag: \"one\""))
	first := s.get("/a")
	assert.Equal(t, "a page", first.body)
	assert.NotContains(t, first.state, "stored")
	assert.Zero(t, s.edge.store.Figures().Entries)
	s.pass(59 * time.Minute)
	assert.Contains(t, s.get("/a").state, "stored")
	assert.True(t, s.get("/a").hit())

	s.get("/b")
	s.pass(61 * time.Minute)
	assert.NotContains(t, s.get("/b").state, "stored", "the first time was too long ago")
	assert.Contains(t, s.get("/b").state, "stored")

	s.answer(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNotModified) })
	s.pass(11 * time.Minute)
	assert.Contains(t, s.get("/b").state, "fwd-status=304")
	assert.True(t, s.get("/b").hit(), "what is stored is renewed, however seldom it is asked for")

	requests := map[meter.Cause]int64{}
	for k, cell := range s.edge.meter.Totals() {
		requests[k.Cause] += cell.Requests
	}
	assert.EqualValues(t, 3, requests[meter.FirstSight])
}

// TestManyAtOnceOfWhatIsNotAdmitted: those who come together are many who ask: two requests to the
// origin are enough for all.
func TestManyAtOnceOfWhatIsNotAdmitted(t *testing.T) {
	s := newRigOf(t, admitPolicy, func(w http.ResponseWriter, _ *http.Request) {
		time.Sleep(50 * time.Millisecond) // until all have come
		w.Header().Set("Content-Type", "text/plain")
		_, _ = fmt.Fprint(w, strings.Repeat("x", 50_000))
	})
	var visitors sync.WaitGroup
	for range 20 {
		visitors.Go(func() { assert.Len(t, s.get("/many").body, 50_000) })
	}
	visitors.Wait()
	assert.LessOrEqual(t, s.asked.Load(), int64(3))
	assert.True(t, s.get("/many").hit())
}
