package barrier

import (
	"sync/atomic"
	"time"

	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// Barrier judges answers. It is safe for concurrent use.
type Barrier struct {
	*tags.Marks
	store    *store.Memory
	underWay []Fills
	until    atomic.Pointer[time.Time] // the ledger is known; nil: for ever
	serveOn  bool
	forgets  atomic.Uint64 // odd while one is under way
}

// Fills are fills under way of one kind.
type Fills interface {
	// Oldest returns the lowest stamp of those that have not ended, and most if none is lower.
	Oldest(most tags.Stamp) tags.Stamp
	// Disown keeps what they bring out of the store.
	Disown()
}

// New returns a barrier over what is stored, which trusts its marks for ever.
func New(marks *tags.Marks, stored *store.Memory) *Barrier {
	return &Barrier{Marks: marks, store: stored}
}

// Guard takes fills under the barrier. It must be called before the first of them begins.
func (b *Barrier) Guard(fills Fills) { b.underWay = append(b.underWay, fills) }

// Spares reports whether no purge concerns an answer since its fill began.
func (b *Barrier) Spares(answer *tags.Subject) bool { return b.Judge(answer) == tags.Alive }

// Forget takes out of use what a purge names, here and now, without a place in the ledger: what
// is stored, and what fills that are under way would store.
func (b *Barrier) Forget(p tags.Purge) {
	b.forgets.Add(1)
	defer b.forgets.Add(1)
	for _, fills := range b.underWay {
		fills.Disown() // first: what is stored meanwhile is found by the sweep, or by who stores it
	}
	p.Sequence = ^tags.Stamp(0)
	b.store.Sweep(p)
}

// Moment is a moment between two calls of Forget.
type Moment uint64

// Moment returns the present one: whoever has found something since can ask whether it was
// forgotten meanwhile.
func (b *Barrier) Moment() Moment { return Moment(b.forgets.Load()) }

// ForgotSince reports whether Forget may have run since a moment, or was running then.
func (b *Barrier) ForgotSince(m Moment) bool { return b.Moment() != m || m%2 == 1 }

// Compact forgets the marks that neither an entry nor a fill under way needs.
func (b *Barrier) Compact() {
	// In this order: a fill that begins after the first line is not older than it, and one
	// that ends meanwhile was counted by the second.
	upTo := b.Stamp()
	for _, fills := range b.underWay {
		upTo = fills.Oldest(upTo)
	}
	b.Marks.Compact(min(upTo, b.store.Compactable(b.Marks)))
}
