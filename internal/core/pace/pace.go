package pace

import "time"

// Whoever sends or reads must keep to Rate, once Grace has gone by.
const (
	Grace = 5 * time.Second
	Rate  = 1 << 10 // bytes a second
)

// ErrSlow says that somebody did not. It is a timeout.
var ErrSlow error = slow{}

type slow struct{}

func (slow) Error() string { return "less than a KiB a second came" }

// Timeout makes it one, as package net knows them.
func (slow) Timeout() bool { return true }

// Temporary belongs to Timeout.
func (slow) Temporary() bool { return false }

// Watch measures one who is waited for, a stretch of Grace at a time.
type Watch struct {
	Since  time.Time     // when the waiting now began
	waited time.Duration // in this stretch, before Since
	moved  int           // bytes, in this stretch
}

// Begin begins to wait.
func Begin(now time.Time) Watch { return Watch{Since: now} }

// Again begins to wait once more; what lay between is not held against them.
func (w *Watch) Again(now time.Time) { w.Since = now }

// Slow notes that so many bytes moved since the waiting began, and reports whether they keep
// to less than the pace.
func (w *Watch) Slow(now time.Time, bytes int) bool {
	w.waited += now.Sub(w.Since)
	w.moved += bytes
	w.Since = now
	if w.waited < Grace {
		return false
	}
	slow := float64(w.moved) < w.waited.Seconds()*Rate
	w.waited, w.moved = 0, 0
	return slow
}
