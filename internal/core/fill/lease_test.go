package fill

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/tags"
)

var noon = time.Date(2026, 5, 17, 12, 0, 0, 0, time.UTC)

func ended(l *Lease) bool {
	select {
	case <-l.Done():
		return true
	default:
		return false
	}
}

// ledLeases are leases with a ledger of their own.
type ledLeases struct {
	*Leases
	mu sync.Mutex
	at tags.Stamp
}

func newLeases(limit int) *ledLeases {
	ls := &ledLeases{}
	ls.Leases = NewLeases(limit, func() tags.Stamp { return ls.at })
	return ls
}

func (ls *ledLeases) ask(at tags.Stamp, key, owner string, now time.Time, length time.Duration) (*Lease, bool) {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	ls.at = at
	return ls.Ask(key, owner, now, length)
}

func TestLeases(t *testing.T) {
	ls := newLeases(3)
	first, mine := ls.ask(5, "a", "app0", noon, time.Second)
	require.True(t, mine)
	held, mine := ls.ask(9, "a", "app1", noon, time.Second)
	assert.False(t, mine, "one at a time, also after a purge: whether it concerned the fill is seen at its end")
	assert.Same(t, first, held)
	assert.Same(t, first, ls.Held("a", noon))
	_, err := ls.Get(first.ID, "b")
	assert.ErrorIs(t, err, ErrNoLease, "a lease is for one key")

	later := noon.Add(2 * time.Second)
	assert.Nil(t, ls.Held("a", later), "it ran out")
	second, mine := ls.ask(9, "a", "app2", later, time.Second)
	assert.True(t, mine, "so another may try")
	got, err := ls.Get(first.ID, "a")
	assert.NoError(t, err, "the late one may still store, if nobody was faster")
	ls.Stored(got)
	assert.True(t, ended(first))
	_, err = ls.Get(second.ID, "a")
	assert.NoError(t, err, "and does not end the newer one")

	third, mine := ls.ask(9, "a", "app", later.Add(2*time.Second), time.Second)
	require.True(t, mine)
	ls.Stored(third)
	_, err = ls.Get(second.ID, "a")
	assert.ErrorIs(t, err, ErrNoLease, "a newer fill was stored")
	assert.True(t, ended(second))
	assert.Zero(t, ls.Len())

	for _, key := range []string{"x", "y", "z"} {
		_, mine = ls.ask(3, key, "of "+key, noon, time.Second)
		assert.True(t, mine)
	}
	none, _ := ls.ask(3, "w", "app", noon, time.Second)
	assert.Nil(t, none, "too many are out")
	assert.EqualValues(t, 1, ls.Refused())
	assert.EqualValues(t, 3, ls.Oldest(7))
	_, mine = ls.ask(8, "w", "app", noon.Add(late+time.Minute), time.Second)
	assert.True(t, mine, "those that ran out long ago make room")
	assert.Equal(t, 1, ls.Len())
	ls.Disown()
	assert.Zero(t, ls.Len())
	assert.EqualValues(t, 7, ls.Oldest(7))
}

// TestPromise6OneApplicationCannotHaveAllLeases: a quarter is the most, so that others can fill.
func TestPromise6OneApplicationCannotHaveAllLeases(t *testing.T) {
	ls := newLeases(40)
	var last *Lease
	for i := range 40 {
		if l, mine := ls.ask(1, fmt.Sprint(i), "greedy", noon, time.Hour); mine {
			last = l
		}
	}
	assert.Equal(t, 10, ls.Len())
	_, mine := ls.ask(1, "other", "modest", noon, time.Second)
	assert.True(t, mine)
	ls.Stored(last)
	_, mine = ls.ask(1, "more", "greedy", noon, time.Second)
	assert.True(t, mine)
}

// TestOneLeaseAtATime: however many ask, one has it; whoever waits gets it next.
func TestOneLeaseAtATime(t *testing.T) {
	ls := newLeases(100)
	var holding, most, had atomic.Int64
	var all sync.WaitGroup
	for range 64 {
		all.Go(func() {
			for {
				l, mine := ls.ask(0, "key", "app", noon, time.Hour)
				if !mine {
					<-l.Done()
					continue
				}
				if n := holding.Add(1); n > most.Load() {
					most.Store(n)
				}
				had.Add(1)
				holding.Add(-1)
				if had.Load()%2 == 0 {
					ls.Stored(l)
				} else {
					ls.GiveUp(l)
				}
				return
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, 1, most.Load())
	assert.EqualValues(t, 64, had.Load())
	assert.Zero(t, ls.Len())
}
