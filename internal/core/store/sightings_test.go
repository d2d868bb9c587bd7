package store

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestSightingsCountWithinTheirTime(t *testing.T) {
	s := NewSightings(1 << 20)
	at := func(d time.Duration) int { return s.Sight("key", noon.Add(d), time.Hour) }
	assert.Equal(t, 1, at(0))
	assert.Equal(t, 2, at(30*time.Minute))
	assert.Equal(t, 3, at(59*time.Minute))
	assert.Equal(t, 3, at(61*time.Minute), "the first one is too long ago")
	assert.Equal(t, 1, at(5*time.Hour), "all are")
	assert.Equal(t, 2, at(6*time.Hour-1))
	assert.Equal(t, 1, s.Sight("other", noon, time.Hour))
}

// TestPromise6SightingsAreBounded: however many keys come, those that are asked for again soon are
// still known.
func TestPromise6SightingsAreBounded(t *testing.T) {
	s := NewSightings(64 << 10)
	for i := range 100_000 {
		now := noon.Add(time.Duration(i) * time.Millisecond)
		assert.Equal(t, 1, s.Sight(fmt.Sprint("once ", i), now, time.Hour), "a key that is asked for once is not taken for another")
		if i%10 == 0 {
			assert.Equal(t, i/10+1, s.Sight("often", now, 365*24*time.Hour))
		}
	}
	assert.LessOrEqual(t, s.Bytes(), int64(64<<10))
}
