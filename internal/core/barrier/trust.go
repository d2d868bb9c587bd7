package barrier

import "time"

// KnowUntil sets until when the ledger is known; beyond, purges of other nodes may be
// missing. A time that was taken from a clock holds both what the wall clock said and how long
// the machine has run.
func (b *Barrier) KnowUntil(end time.Time) { b.until.Store(&end) }

// KnowAlways takes the end away.
func (b *Barrier) KnowAlways() { b.until.Store(nil) }

// ServeOnWhenLost makes Doubts false whatever the ledger's state. It must be called before the
// barrier is used.
func (b *Barrier) ServeOnWhenLost() { b.serveOn = true }

// Lost reports whether purges of other nodes may be missing here at a time, by either clock:
// the one on the wall may be set back, and the other stands still while a machine is suspended.
func (b *Barrier) Lost(now time.Time) bool {
	until := b.until.Load()
	return until != nil && (now.After(*until) || now.Round(0).After(until.Round(0)))
}

// Doubts reports whether what is stored must be confirmed by its origin before it is served,
// since the ledger is lost.
func (b *Barrier) Doubts(now time.Time) bool { return !b.serveOn && b.Lost(now) }
