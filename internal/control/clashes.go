package control

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"gerastic.example/client"

	"gerastic/internal/core/fragment"
	"gerastic/internal/records"
)

const (
	// mostClash bounds what tells of a clash, and longestSample each sample of it, in bytes.
	mostClash     = 256 << 10
	longestSample = 2000
	// clashEvery is how long a name that clashes is not noted again.
	clashEvery = time.Minute
)

// clashes remembers which names clashed lately, so that one that always does is noted now and then.
type clashes struct {
	mu    sync.Mutex
	noted map[string]time.Time // at most fragment.MaxNames
}

// first reports whether a name has not been noted lately, and notes it.
func (c *clashes) first(route string, now time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if at, known := c.noted[route]; known && now.Sub(at) < clashEvery {
		return false
	}
	if c.noted == nil || len(c.noted) >= fragment.MaxNames {
		c.noted = map[string]time.Time{}
	}
	c.noted[route] = now
	return true
}

// noteClash keeps what an application found when it filled a fragment that was there: another answer,
// although no purge came between.
func (c *Control) noteClash(w http.ResponseWriter, r *http.Request, namespace string) {
	var told client.FragmentClash
	in := json.NewDecoder(http.MaxBytesReader(w, r.Body, mostClash))
	if err := in.Decode(&told); err != nil {
		problem(w, http.StatusBadRequest, fmt.Sprintf(`a clash is {"key": "card(3)", "samples": ["what was there", "what a fill made"], "missing": "language"}, of at most %d bytes: %v`, mostClash, err))
		return
	}
	id, err := fragment.NewID(namespace, told.Key)
	if err == nil && len(told.Samples) != 2 {
		err = fmt.Errorf("a clash has two samples, what was there and what a fill made; there are %d", len(told.Samples))
	}
	if err != nil {
		problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	now := c.now()
	if !c.clashes.first(id.Route(), now) {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	rec, err := c.records()
	if err == nil {
		err = rec.AddFinding(r.Context(), records.Finding{
			At: now, Node: c.node.Name(), Route: id.Route(), Key: strings.Clone(id.Key), Kind: client.FragmentClashes, Separator: sampleOf(told.Missing),
			Stored: sampleOf(told.Samples[0]), Origin: sampleOf(told.Samples[1]),
		})
	}
	if err != nil {
		problem(w, http.StatusServiceUnavailable, "the clash could not be noted: "+err.Error())
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// sampleOf is what is kept of a sample: its beginning, as text that a database takes.
func sampleOf(text string) string {
	text = strings.ToValidUTF8(text[:min(len(text), longestSample)], "")
	return strings.ReplaceAll(text, "\x00", "")
}
