package meter

import (
	"math"
	"math/bits"
	"time"
)

// Buckets is how many steps a histogram has.
const Buckets = 96

// PercentileError is by which share of itself a percentile is off at most.
const PercentileError = 0.19

// Histogram counts durations in steps of a quarter of a doubling, from 1 µs to about
// 16 s, so that a percentile read from it is off by at most 19 %. Its parts can be
// summed over nodes and time, which a percentile cannot.
type Histogram [Buckets]uint32

// Observe counts one duration.
func (h *Histogram) Observe(d time.Duration) { h[bucketOf(d)]++ }

// quarter are the bounds between doublings, as 1/256: 2^(1/4), 2^(2/4), 2^(3/4).
var quarter = [3]uint64{304, 362, 431}

func bucketOf(d time.Duration) int {
	us := uint64(max(0, d) / time.Microsecond)
	if us < 1 {
		return 0
	}
	power := bits.Len64(us) - 1
	scaled := (uint64(max(0, d)) << 8) / (1000 << power) // 256…511
	step := 0
	for step < 3 && scaled >= quarter[step] {
		step++
	}
	return min(4*power+step, Buckets-1)
}

// UpperBound is the duration below which a bucket's values lie.
func UpperBound(bucket int) time.Duration {
	return time.Duration(1000 * math.Exp2(float64(bucket+1)/4))
}

// Add sums another histogram into h.
func (h *Histogram) Add(o *Histogram) {
	for i, n := range o {
		h[i] += n
	}
}

// Count is the number of durations observed.
func (h *Histogram) Count() (n int64) {
	for _, c := range h {
		n += int64(c)
	}
	return n
}

// Percentile returns the duration that a share p (0…1) of the observations does not
// exceed; ok is false without observations.
func (h *Histogram) Percentile(p float64) (d time.Duration, ok bool) {
	total := h.Count()
	if total == 0 {
		return 0, false
	}
	rank := int64(math.Ceil(p * float64(total)))
	var seen int64
	for i, c := range h {
		if seen += int64(c); seen >= max(rank, 1) {
			return UpperBound(i), true
		}
	}
	return UpperBound(Buckets - 1), true
}
