package store

import (
	"context"
	"math/rand/v2"
	"slices"
	"sync/atomic"
	"time"
)

// uses are gathered on the hit path without a lock, and told to the policy many at a time, by
// somebody else. Some are lost when there are very many at once.
type uses struct {
	stripes [useStripes]useStripe
	full    chan *useStripe
}

type useStripe struct {
	next    atomic.Uint32
	records [useBatch]atomic.Pointer[record]
	_       [64]byte // keep stripes on cache lines of their own
}

const (
	useStripes = 16
	useBatch   = 64
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
	if at == useBatch-1 {
		select {
		case m.uses.full <- stripe:
		default: // nobody tells the policy: whoever puts something does
		}
	}
}

// Tell tells the policy of uses, until the context ends. Somebody should, so that those who put
// something need not.
func (m *Memory) Tell(ctx context.Context) {
	for {
		select {
		case stripe := <-m.uses.full:
			m.mu.Lock()
			m.tell(stripe)
			m.mu.Unlock()
		case <-ctx.Done():
			return
		}
	}
}

// tellSome tells the policy of what one stripe has, if nobody does. Under mu.
func (m *Memory) tellSome() {
	select {
	case stripe := <-m.uses.full:
		m.tell(stripe)
	default:
	}
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
		if r.is(resident) {
			m.policy.Use(r.place, times[i])
		}
	}
	stripe.next.Store(0)
}
