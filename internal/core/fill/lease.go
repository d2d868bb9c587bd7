package fill

import (
	"crypto/rand"
	"errors"
	"sync"
	"time"

	"gerastic/internal/core/tags"
)

// Lease is the right to fill one key, given to one application at a time. It says since
// when what it brings may have been made, so that a purge is not overtaken by an old render.
type Lease struct {
	ID    string
	Key   string
	Stamp tags.Stamp // ledger sequence in force when it was given
	Began time.Time
	Until time.Time // beyond it another may get one

	owner  string
	done   chan struct{} // closed when it has ended, one way or the other
	before *Lease        // the one that ran out when this was given
}

// Done is closed when the lease has ended: what was filled is stored, or will not be.
func (l *Lease) Done() <-chan struct{} { return l.done }

// Leases are those that have not ended. Safe for concurrent use.
type Leases struct {
	mu      sync.Mutex
	limit   int
	stamp   func() tags.Stamp
	byKey   map[string]*Lease
	byID    map[string]*Lease
	owned   map[string]int // how many each owner has
	sweeps  time.Time
	refused int64 // asked for while too many were out
}

// ErrNoLease says that a lease is not known: it ended, ran out long ago, or a newer fill of
// the same key was stored meanwhile.
var ErrNoLease = errors.New("the lease is not in force: what was filled since it was given is newer, or it ran out long ago")

const (
	// MaxLeases is how many may be out at a time.
	MaxLeases = 100_000
	// share is which part of them one owner may have.
	share = 4
	// late is how long after its time a lease is still good, if nobody was faster.
	late = 5 * time.Minute
)

// NewLeases returns none, of at most so many; each begins at the ledger sequence that stamp
// returns.
func NewLeases(limit int, stamp func() tags.Stamp) *Leases {
	return &Leases{limit: limit, stamp: stamp, byKey: map[string]*Lease{}, byID: map[string]*Lease{}, owned: map[string]int{}}
}

// Ask returns the lease for a key: a new one (mine), or the one that somebody else has and
// that has not run out. It returns nil when too many are out, in all or of that owner's.
//
// The stamp is read in the same step as the lease is registered, see Group.Join.
func (ls *Leases) Ask(key, owner string, now time.Time, length time.Duration) (l *Lease, mine bool) {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	before := ls.byKey[key]
	if before != nil && now.Before(before.Until) {
		return before, false
	}
	if ls.full(owner) && now.Sub(ls.sweeps) > time.Second {
		ls.sweeps = now
		ls.sweep(now)
	}
	if ls.full(owner) {
		ls.refused++
		return nil, false
	}
	l = &Lease{ID: rand.Text(), Key: key, owner: owner, Stamp: ls.stamp(), Began: now, Until: now.Add(length), done: make(chan struct{}), before: before}
	ls.byKey[key], ls.byID[l.ID] = l, l
	ls.owned[owner]++
	return l, true
}

// full reports whether an owner can have no more. Under mu.
func (ls *Leases) full(owner string) bool {
	return len(ls.byID) >= ls.limit || ls.owned[owner] >= max(1, ls.limit/share)
}

// Known reports whether a lease of this ID is in force.
func (ls *Leases) Known(id string) bool {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	return ls.byID[id] != nil
}

// Held returns the lease that somebody has for a key now, or nil.
func (ls *Leases) Held(key string, now time.Time) *Lease {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	if l := ls.byKey[key]; l != nil && now.Before(l.Until) {
		return l
	}
	return nil
}

// Get returns the lease of an ID and a key, or ErrNoLease.
func (ls *Leases) Get(id, key string) (*Lease, error) {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	if l := ls.byID[id]; l != nil && l.Key == key {
		return l, nil
	}
	return nil, ErrNoLease
}

// GiveUp ends a lease that brought nothing.
func (ls *Leases) GiveUp(l *Lease) {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	ls.end(l)
}

// Stored ends a lease, now that what it brought is in the store: those that ran out before it are
// worth nothing any more.
func (ls *Leases) Stored(l *Lease) {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	for ; l != nil; l = l.before {
		ls.end(l)
	}
}

// end is under mu.
func (ls *Leases) end(l *Lease) {
	if ls.byID[l.ID] != l {
		return
	}
	delete(ls.byID, l.ID)
	if ls.owned[l.owner]--; ls.owned[l.owner] <= 0 {
		delete(ls.owned, l.owner)
	}
	if ls.byKey[l.Key] == l {
		delete(ls.byKey, l.Key)
	}
	close(l.done)
}

// Sweep forgets the leases that ran out long ago.
func (ls *Leases) Sweep(now time.Time) {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	ls.sweep(now)
}

func (ls *Leases) sweep(now time.Time) {
	for _, l := range ls.byID {
		if now.Sub(l.Until) > late {
			ls.end(l)
		}
		l.before = ls.alive(l.before)
	}
}

// alive skips what has ended. Under mu.
func (ls *Leases) alive(l *Lease) *Lease {
	for l != nil && ls.byID[l.ID] != l {
		l = l.before
	}
	return l
}

// Oldest is the lowest stamp of the leases; most is returned if none is lower.
func (ls *Leases) Oldest(most tags.Stamp) tags.Stamp {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	for _, l := range ls.byID {
		most = min(most, l.Stamp)
	}
	return most
}

// Disown ends every lease: for a change that the ledger could not take.
func (ls *Leases) Disown() {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	for _, l := range ls.byID {
		ls.end(l)
	}
}

// Refused counts how often the limit was hit.
func (ls *Leases) Refused() int64 {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	return ls.refused
}

// Len is how many are out.
func (ls *Leases) Len() int {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	return len(ls.byID)
}
