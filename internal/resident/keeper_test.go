package resident

import (
	"math"
	"runtime/debug"
	"testing"

	"github.com/stretchr/testify/assert"
)

type squeezed struct{ bytes int64 }

func (s *squeezed) Squeeze(bytes int64) { s.bytes = bytes }
func (s *squeezed) Counted() int64      { return 0 }

func keeper(t *testing.T) (*Keeper, *squeezed) {
	t.Cleanup(func() { debug.SetGCPercent(100); debug.SetMemoryLimit(math.MaxInt64) })
	s := &squeezed{}
	return New(256*mib, s), s
}

// TestTheRuntimeKnowsTheBound: its soft limit is what the bound leaves it, and it collects more
// often where there is less room.
func TestTheRuntimeKnowsTheBound(t *testing.T) {
	k, _ := keeper(t)
	percent := func(live, allocated int64) int {
		k.adjust(Sample{Live: live, File: 20 * mib}, allocated)
		now := debug.SetGCPercent(100)
		debug.SetGCPercent(now)
		return now
	}
	busy := percent(50*mib, 20*mib)
	assert.Equal(t, Bound(256*mib)-20*mib-k.spare, debug.SetMemoryLimit(-1))
	full := percent(270*mib, 20*mib)
	assert.Greater(t, busy, 2*full)
	assert.Positive(t, full)
	assert.Less(t, percent(50*mib, 0), busy, "little comes")
}

// TestTheStoreGivesUpWhatTheProcessHasTooMuch, and gets it back when the process has less; what is
// scattered between objects is taken from it, too.
func TestTheStoreGivesUpWhatTheProcessHasTooMuch(t *testing.T) {
	k, s := keeper(t)
	k.squeeze(Sample{Resident: k.bound + 30*mib, Objects: 100 * mib})
	assert.GreaterOrEqual(t, s.bytes, int64(30*mib))
	for range 200 {
		k.squeeze(Sample{Resident: k.bound / 2, Objects: 100 * mib})
	}
	assert.Less(t, s.bytes, int64(2*mib))
	k.squeeze(Sample{Resident: k.bound / 2, Objects: 160 * mib, Unused: 50 * mib})
	assert.InDelta(t, 40*mib, s.bytes, 2*mib, "but for what is usual")
}
