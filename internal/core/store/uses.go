package store

import (
	"math/rand/v2"
	"slices"
	"sync/atomic"
	"time"
)

// uses are gathered on the hit path without a lock, and told to the policy many at a time. Some
// are lost when there are very many at once.
type uses struct {
	stripes [useStripes]useStripe
}

type useStripe struct {
	next    atomic.Uint32
	records [useBatch]atomic.Pointer[record]
	_       [64]byte // keep stripes on cache lines of their own
}

const (
	useStripes = 16
	useBatch   = 32
)

// Use notes that a request was answered from an entry.
func (m *Memory) Use(e *Entry, now time.Time) {
	e.Touch(now)
	r := e.kept.Load()
	if r == nil {
		return
	}
	stripe := &m.uses.stripes[rand.Uint32()%useStripes]
	at := stripe.next.Add(1) - 1
	if at < useBatch {
		stripe.records[at].Store(r)
	}
	if at < useBatch-1 || !m.mu.TryLock() {
		if at >= 4*useBatch {
			stripe.next.Store(0) // nobody could tell the policy: these are lost
		}
		return
	}
	defer m.mu.Unlock()
	m.tell(stripe)
}

// tell tells the policy of what was gathered, of each record once. Under mu.
func (m *Memory) tell(stripe *useStripe) {
	var told [useBatch]*record
	var times [useBatch]uint32
	n := 0
	for i := range stripe.records {
		r := stripe.records[i].Swap(nil)
		if r == nil {
			continue
		}
		at := slices.Index(told[:n], r)
		if at < 0 {
			at, n = n, n+1
			told[at] = r
		}
		times[at]++
	}
	for i, r := range told[:n] {
		if r.has(isResident) {
			m.policy.Use(r.place, times[i])
		}
	}
	stripe.next.Store(0)
}
