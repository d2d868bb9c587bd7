package meter

import (
	"math"
	"time"
)

// Span sums what was counted in a span of time, as a whole and in pieces.
type Span struct {
	Since, Until time.Time
	Whole        Sums
	Pieces       []Sums // of one length, each within the span
}

// Sums are what was counted in some time.
type Sums struct {
	Ratio
	Latency [Error + 1]Histogram // by outcome
	Length  time.Duration
}

// NewSpan returns a span with its pieces: those of the given length that begin at a multiple of it.
func NewSpan(since, until time.Time, piece time.Duration) *Span {
	s := &Span{Since: since, Until: until, Whole: Sums{Length: until.Sub(since)}}
	for at := s.first(piece); !at.Add(piece).After(until); at = at.Add(piece) {
		s.Pieces = append(s.Pieces, Sums{Length: piece})
	}
	return s
}

// first is when the first whole piece begins.
func (s *Span) first(piece time.Duration) time.Time {
	at := s.Since.Truncate(piece)
	if at.Before(s.Since) {
		at = at.Add(piece)
	}
	return at
}

// Count adds a cell of visitors' requests that were counted from a moment on.
func (s *Span) Count(at time.Time, k Key, c *Cell) {
	s.Whole.count(k, c)
	if len(s.Pieces) == 0 {
		return
	}
	length := s.Pieces[0].Length
	if since := at.Sub(s.first(length)); since >= 0 {
		if i := int(since / length); i < len(s.Pieces) {
			s.Pieces[i].count(k, c)
		}
	}
}

func (s *Sums) count(k Key, c *Cell) {
	s.Ratio.Count(k, c)
	if k.Outcome <= Error {
		s.Latency[k.Outcome].Add(&c.Latency)
	}
}

// PerSecond is a number of things that were counted, for each second; ok is false if there was no time.
func (s *Sums) PerSecond(n int64) (rate float64, ok bool) {
	return float64(n) / s.Length.Seconds(), s.Length > 0
}

// Figure reads a figure from sums; ok is false if there is none.
type Figure func(*Sums) (value float64, ok bool)

// leastPieces is how many pieces of a span must have a figure for its variation to be known.
const leastPieces = 4

// Usual is by how much a figure of the spans may differ without a reason: in one comparison of a hundred
// would chance give more, as the figure varies between the pieces of each span (Welch's t test, both
// sides). ok is false with too few pieces to tell.
func Usual(before, after *Span, f Figure) (difference float64, ok bool) {
	a, b := before.values(f), after.values(f)
	if len(a) < leastPieces || len(b) < leastPieces {
		return 0, false
	}
	ea, eb := squaredError(a), squaredError(b)
	if ea+eb == 0 {
		return 0, true
	}
	freedom := (ea + eb) * (ea + eb) / (ea*ea/float64(len(a)-1) + eb*eb/float64(len(b)-1))
	return quantile(freedom) * math.Sqrt(ea+eb), true
}

func (s *Span) values(f Figure) (all []float64) {
	for i := range s.Pieces {
		if v, ok := f(&s.Pieces[i]); ok {
			all = append(all, v)
		}
	}
	return all
}

// squaredError is the square of the standard error of the mean.
func squaredError(all []float64) float64 {
	mean, n := 0.0, float64(len(all))
	for _, v := range all {
		mean += v / n
	}
	sum := 0.0
	for _, v := range all {
		sum += (v - mean) * (v - mean)
	}
	return sum / (n - 1) / n
}

// quantiles are 0.995 quantiles of Student's distribution, by degrees of freedom.
var quantiles = []struct{ freedom, t float64 }{
	{1, 63.66}, {2, 9.925}, {3, 5.841}, {4, 4.604}, {5, 4.032}, {6, 3.707}, {7, 3.499}, {8, 3.355}, {9, 3.250}, {10, 3.169},
	{12, 3.055}, {15, 2.947}, {20, 2.845}, {30, 2.750}, {60, 2.660}, {120, 2.617},
}

// quantile is that of the next lower degrees of freedom in the table, which is the larger one.
func quantile(freedom float64) float64 {
	t := quantiles[0].t
	for _, q := range quantiles {
		if q.freedom <= freedom {
			t = q.t
		}
	}
	return t
}
