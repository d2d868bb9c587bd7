package meter

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"gerastic/internal/core/httprules"
)

// TestPromise7SumsAgree: however samples come and whenever they are drained, each is
// counted once.
func TestPromise7SumsAgree(t *testing.T) {
	var m Meter
	var all sync.WaitGroup
	drained := Cells{}
	for range 8 {
		all.Go(func() {
			at := m.Stripe()
			for i := range 1000 {
				m.Record(at, &Sample{Route: "r", Outcome: Outcomes()[i%7], Status: 200, Bytes: 3, Took: time.Millisecond})
			}
		})
	}
	for range 20 {
		drained.Merge(m.Drain())
	}
	all.Wait()
	drained.Merge(m.Drain())
	for _, cells := range []Cells{drained, m.Totals()} {
		var sum Ratio
		for k, c := range cells {
			sum.Count(k, c)
			assert.Equal(t, c.Requests, c.Latency.Count())
		}
		assert.EqualValues(t, 8000, sum.Requests)
		assert.EqualValues(t, 24000, sum.Bytes)
		var byOutcome int64
		for _, n := range sum.ByOutcome {
			byOutcome += n
		}
		assert.Equal(t, sum.Requests, byOutcome)
	}
}

func TestFormulas(t *testing.T) {
	var r Ratio
	add := func(o Outcome, n, bytes, origins int64, saved time.Duration) {
		r.Count(Key{Outcome: o}, &Cell{Requests: n, Bytes: bytes, OriginRequests: origins, Saved: saved})
	}
	add(Hit, 60, 6000, 0, time.Minute)
	add(Stale, 10, 1000, 0, 10*time.Second)
	add(Revalidated, 5, 500, 5, 0)
	add(Joined, 5, 500, 0, 5*time.Second)
	add(Miss, 10, 2000, 10, 0)
	add(Bypass, 10, 9000, 10, 0)
	add(Behind, 0, 0, 4, 0)
	ratio := func(v float64, ok bool) float64 {
		assert.True(t, ok)
		return v
	}
	assert.InDelta(t, 70.0/90, ratio(r.HitRatio()), 1e-9, "hit and stale, of all but bypass")
	assert.InDelta(t, 0.7, ratio(r.ByteHitRatio()), 1e-9)
	assert.EqualValues(t, 100-29, r.RoundTripsSaved(), "refreshes behind visitors' backs count against it")
	assert.InDelta(t, 0.71, ratio(r.Offload()), 1e-9)
	assert.Equal(t, 75*time.Second, r.Saved)
	_, ok := (&Ratio{}).HitRatio()
	assert.False(t, ok, "nothing was cacheable: no ratio rather than zero")
}

func TestPercentilesAreOffByOneStepAtMost(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := time.Duration(rapid.Int64Range(int64(2*time.Microsecond), int64(10*time.Second)).Draw(t, "duration"))
		var h Histogram
		h.Observe(d)
		got, ok := h.Percentile(rapid.Float64Range(0, 1).Draw(t, "p"))
		assert.True(t, ok)
		assert.GreaterOrEqual(t, float64(got)*1.005+2000, float64(d))
		assert.LessOrEqual(t, float64(got), float64(d)*1.20+2000)
	})
	var h Histogram
	for i := range 100 {
		h.Observe(time.Duration(i+1) * time.Millisecond)
	}
	p50, _ := h.Percentile(0.5)
	p99, _ := h.Percentile(0.99)
	assert.InEpsilon(t, 50*time.Millisecond, p50, 0.2)
	assert.InEpsilon(t, 99*time.Millisecond, p99, 0.2)
}

func TestNames(t *testing.T) {
	assert.Equal(t, "unstorable:no-store", Unstorable(httprules.NoStore).String())
	assert.Equal(t, "body-too-large", Unstorable(httprules.TooLarge).String())
	for _, o := range append(Outcomes(), Behind) {
		back, ok := ParseOutcome(o.String())
		assert.True(t, ok)
		assert.Equal(t, o, back)
	}
}
