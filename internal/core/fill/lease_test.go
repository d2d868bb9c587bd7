package fill

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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

func TestLeases(t *testing.T) {
	ls := NewLeases(3)
	first, mine := ls.Ask("a", "app0", 5, noon, time.Second)
	require.True(t, mine)
	held, mine := ls.Ask("a", "app1", 9, noon, time.Second)
	assert.False(t, mine, "one at a time, also after a purge: whether it concerned the fill is seen at its end")
	assert.Same(t, first, held)
	assert.Same(t, first, ls.Held("a", noon))
	_, err := ls.Get(first.ID, "b")
	assert.ErrorIs(t, err, ErrNoLease, "a lease is for one key")

	later := noon.Add(2 * time.Second)
	assert.Nil(t, ls.Held("a", later), "it ran out")
	second, mine := ls.Ask("a", "app2", 9, later, time.Second)
	assert.True(t, mine, "so another may try")
	got, err := ls.Get(first.ID, "a")
	assert.NoError(t, err, "the late one may still store, if nobody was faster")
	ls.End(got, true)
	assert.True(t, ended(first))
	_, err = ls.Get(second.ID, "a")
	assert.NoError(t, err, "and does not end the newer one")

	third, mine := ls.Ask("a", "app", 9, later.Add(2*time.Second), time.Second)
	require.True(t, mine)
	ls.End(third, true)
	_, err = ls.Get(second.ID, "a")
	assert.ErrorIs(t, err, ErrNoLease, "a newer fill was stored")
	assert.True(t, ended(second))
	assert.Zero(t, ls.Len())

	for _, key := range []string{"x", "y", "z"} {
		_, mine = ls.Ask(key, "of "+key, 3, noon, time.Second)
		assert.True(t, mine)
	}
	none, _ := ls.Ask("w", "app", 3, noon, time.Second)
	assert.Nil(t, none, "too many are out")
	assert.EqualValues(t, 1, ls.Refused())
	assert.EqualValues(t, 3, ls.Oldest(7))
	_, mine = ls.Ask("w", "app", 8, noon.Add(late+time.Minute), time.Second)
	assert.True(t, mine, "those that ran out long ago make room")
	assert.Equal(t, 1, ls.Len())
	ls.Disown()
	assert.Zero(t, ls.Len())
	assert.EqualValues(t, 7, ls.Oldest(7))
}

// TestPromise6OneApplicationCannotHaveAllLeases: a quarter is the most, so that others can fill.
func TestPromise6OneApplicationCannotHaveAllLeases(t *testing.T) {
	ls := NewLeases(40)
	var last *Lease
	for i := range 40 {
		if l, mine := ls.Ask(fmt.Sprint(i), "greedy", 1, noon, time.Hour); mine {
			last = l
		}
	}
	assert.Equal(t, 10, ls.Len())
	_, mine := ls.Ask("other", "modest", 1, noon, time.Second)
	assert.True(t, mine)
	ls.End(last, true)
	_, mine = ls.Ask("more", "greedy", 1, noon, time.Second)
	assert.True(t, mine)
}

// TestOneLeaseAtATime: however many ask, one has it; whoever waits gets it next.
func TestOneLeaseAtATime(t *testing.T) {
	ls := NewLeases(100)
	var holding, most, had atomic.Int64
	var all sync.WaitGroup
	for range 64 {
		all.Go(func() {
			for {
				l, mine := ls.Ask("key", "app", 0, noon, time.Hour)
				if !mine {
					<-l.Done()
					continue
				}
				if n := holding.Add(1); n > most.Load() {
					most.Store(n)
				}
				had.Add(1)
				holding.Add(-1)
				ls.End(l, had.Load()%2 == 0)
				return
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, 1, most.Load())
	assert.EqualValues(t, 64, had.Load())
	assert.Zero(t, ls.Len())
}
