package tags

import (
	"sync/atomic"
	"time"
)

// Trust is until when a node may believe that it knows the ledger. The zero value believes
// for ever. Safe for concurrent use.
type Trust struct{ until atomic.Pointer[time.Time] }

// Until sets the end. A time that was taken from a clock holds both what the wall clock said
// and how long the machine has run.
func (t *Trust) Until(end time.Time) { t.until.Store(&end) }

// Always takes the end away.
func (t *Trust) Always() { t.until.Store(nil) }

// Lost reports whether the end has come, by either clock: the one on the wall may be set back,
// and the other stands still while a machine is suspended.
func (t *Trust) Lost(now time.Time) bool {
	until := t.until.Load()
	return until != nil && (now.After(*until) || now.Round(0).After(until.Round(0)))
}
