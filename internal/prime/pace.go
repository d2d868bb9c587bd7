package prime

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Pace is how fast something goes: so many a second, or, if that is 0, as fast as the origin stays as
// quick as it was.
type Pace struct{ PerSecond float64 }

// ParsePace reads a pace: "20/s" or "auto".
func ParsePace(text string) (Pace, error) {
	if text == "" || text == "auto" {
		return Pace{}, nil
	}
	n, err := strconv.ParseFloat(strings.TrimSuffix(text, "/s"), 64)
	if err != nil || n < 0.01 || n > 10_000 {
		return Pace{}, fmt.Errorf("%q is not a pace; write 20/s (0.01/s to 10000/s), or auto, which keeps the origin as quick as it is", text)
	}
	return Pace{n}, nil
}

// throttle lets things begin at a pace.
type throttle struct {
	pace Pace

	mu      sync.Mutex
	under   int           // way
	limit   int           // of these
	next    time.Time     // when the next may begin
	rest    time.Duration // between two, while even one at a time is too much
	first   time.Duration // what one takes when nothing else goes on; 0: not known yet
	took    []time.Duration
	changed chan struct{}
}

const (
	// sampleSize is how many are looked at together.
	sampleSize = 8
	// mostAtOnce is how many are under way at a time, at most, whatever the origin bears.
	mostAtOnce = 16
)

func newThrottle(p Pace) *throttle {
	t := &throttle{pace: p, limit: 1, changed: make(chan struct{}, 1)}
	if p.PerSecond > 0 {
		t.limit = max(1, min(int(p.PerSecond), 4*mostAtOnce)) // a second's worth
	}
	return t
}

// begin waits until one more may begin; false if ctx ends before.
func (t *throttle) begin(ctx context.Context) bool {
	for {
		t.mu.Lock()
		now := time.Now()
		wait := t.next.Sub(now)
		if t.under < t.limit && wait <= 0 {
			t.under++
			if t.pace.PerSecond > 0 {
				t.next = later(t.next, now).Add(time.Duration(float64(time.Second) / t.pace.PerSecond))
			} else {
				t.next = now.Add(t.rest)
			}
			t.mu.Unlock()
			return true
		}
		if t.under >= t.limit {
			wait = time.Second // or until one ends
		}
		t.mu.Unlock()
		select {
		case <-ctx.Done():
			return false
		case <-t.changed:
		case <-time.After(wait):
		}
	}
}

// later is the later of two times, so that what was not used of a pace is not made up for.
func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// end says that one has ended, and how long its origin took; 0: it was not asked.
func (t *throttle) end(took time.Duration, failed bool) {
	t.mu.Lock()
	t.under--
	if t.pace.PerSecond == 0 {
		t.watch(took, failed)
	}
	t.mu.Unlock()
	select {
	case t.changed <- struct{}{}:
	default:
	}
}

// watch goes faster while the origin is about as quick as with one at a time, and slower when it is
// half as slow again.
func (t *throttle) watch(took time.Duration, failed bool) {
	if failed {
		t.limit, t.rest, t.took = max(1, t.limit/2), max(100*time.Millisecond, t.rest), t.took[:0]
		return
	}
	if took == 0 {
		return
	}
	if t.took = append(t.took, took); len(t.took) < sampleSize {
		return
	}
	slices.Sort(t.took)
	usual := t.took[sampleSize/2]
	t.took = t.took[:0]
	switch {
	case t.first == 0:
		t.first = usual
	case usual > t.first*7/5 && t.limit > 1:
		t.limit /= 2
	case usual > t.first*7/5:
		t.rest = min(10*usual, max(usual, 2*t.rest))
	case usual < t.first*6/5 && t.rest > 0:
		if t.rest /= 2; t.rest < time.Millisecond {
			t.rest = 0
		}
	case usual < t.first*6/5:
		t.limit = min(mostAtOnce, t.limit+1)
	}
}
