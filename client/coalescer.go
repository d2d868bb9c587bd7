package client

import (
	"errors"
	"sync"
	"sync/atomic"
	"time"
)

// coalescer lets one at a time do what many want done. Whoever comes while it is being done gets
// not that (it may have begun before a change that they know of) but the next turn, which one
// of those who wait takes for all of them.
type coalescer struct {
	mu      sync.Mutex
	running map[string]*round
}

type round struct {
	done chan struct{}
	made *made
	err  error
	next *round
}

func (t *coalescer) do(key string, fill func() (*made, error)) (*made, error) {
	t.mu.Lock()
	now := t.running[key]
	mine := now
	lead := now == nil
	switch {
	case now == nil:
		if t.running == nil {
			t.running = map[string]*round{}
		}
		mine = &round{done: make(chan struct{})}
		t.running[key] = mine
	case now.next == nil:
		mine = &round{done: make(chan struct{})}
		now.next, lead = mine, true
	default:
		mine = now.next
	}
	t.mu.Unlock()
	if !lead {
		<-mine.done
		return mine.made, mine.err
	}
	if now != nil {
		<-now.done
	}
	mine.made, mine.err = fill()
	t.mu.Lock()
	if t.running[key] = mine.next; mine.next == nil {
		delete(t.running, key)
	}
	t.mu.Unlock()
	close(mine.done)
	return mine.made, mine.err
}

// breaker does without Gerastic for a while when it failed several times in a row.
type breaker struct {
	inARow atomic.Int32
	until  atomic.Int64 // unix ns
	failed atomic.Int64 // calls that failed or were not made
}

const (
	breakAfter = 5
	breakFor   = 2 * time.Second
)

var errResting = errors.New("the node did not answer several times, and is done without for a moment")

// closed reports whether to ask. When the pause is over, one asks; the others wait for how it goes.
func (b *breaker) closed(now time.Time) bool {
	until := b.until.Load()
	if until == 0 {
		return true
	}
	if now.UnixNano() > until && b.until.CompareAndSwap(until, now.Add(breakFor).UnixNano()) {
		return true
	}
	b.failed.Add(1)
	return false
}

// heard notes how a call ended.
func (b *breaker) heard(err error, now time.Time) {
	if err == nil {
		if b.inARow.Load() != 0 {
			b.inARow.Store(0)
			b.until.Store(0)
		}
		return
	}
	b.failed.Add(1)
	if b.inARow.Add(1) >= breakAfter {
		b.until.Store(now.Add(breakFor).UnixNano())
	}
}
