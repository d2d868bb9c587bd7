package meter

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// varied is a span of a number of minutes, each with a hundred requests of which about share are hits.
func varied(random *rand.Rand, minutes int, share, spread float64) *Span {
	since := time.Date(2026, 5, 17, 12, 0, 30, 0, time.UTC)
	s := NewSpan(since, since.Add(time.Duration(minutes+1)*time.Minute), time.Minute)
	for i := range s.Pieces {
		hits := int64(1000 * (share + spread*random.NormFloat64()))
		at := since.Add(30*time.Second + time.Duration(i)*time.Minute)
		s.Count(at, Key{Outcome: Hit}, &Cell{Requests: hits})
		s.Count(at, Key{Outcome: Miss}, &Cell{Requests: 1000 - hits, OriginRequests: 1000 - hits})
	}
	return s
}

func ratioOf(s *Sums) (float64, bool) { return s.HitRatio() }

// TestUsualIsWhatChanceGives: of spans that do not differ, chance calls one in a hundred different; of
// spans that do, all.
func TestUsualIsWhatChanceGives(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	called := func(change float64) (n int) {
		for range 2000 {
			a, b := varied(random, 7, 0.6, 0.05), varied(random, 12, 0.6+change, 0.03)
			usual, ok := Usual(a, b, ratioOf)
			assert.True(t, ok)
			before, _ := ratioOf(&a.Whole)
			after, _ := ratioOf(&b.Whole)
			if d := after - before; d > usual || -d > usual {
				n++
			}
		}
		return n
	}
	assert.InDelta(t, 20, called(0), 15)
	assert.Greater(t, called(0.2), 1990)
}

func TestPiecesLieWithinTheirSpan(t *testing.T) {
	since := time.Date(2026, 5, 17, 12, 0, 30, 0, time.UTC)
	s := NewSpan(since, since.Add(4*time.Minute), time.Minute)
	assert.Len(t, s.Pieces, 3, "half a minute at each end is no piece")
	for i := range 24 { // each ten seconds
		s.Count(since.Add(time.Duration(i)*10*time.Second), Key{Outcome: Hit}, &Cell{Requests: 1})
	}
	assert.EqualValues(t, 24, s.Whole.Requests)
	for i := range s.Pieces {
		assert.EqualValues(t, 6, s.Pieces[i].Requests)
	}
	_, ok := Usual(s, s, ratioOf)
	assert.False(t, ok, "three pieces are too few")
	same := NewSpan(since, since.Add(9*time.Minute), time.Minute)
	usual, ok := Usual(same, same, func(*Sums) (float64, bool) { return 1, true })
	assert.True(t, ok)
	assert.Zero(t, usual, "what never varies has no usual variation")
	_, ok = Usual(same, same, ratioOf)
	assert.False(t, ok, "nothing was counted")
}
