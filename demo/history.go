package demo

import (
	"context"
	"math"
	"math/rand/v2"
	"time"

	"gerastic/internal/core/meter"
	"gerastic/internal/records"
)

// habit is how a route was used in the made-up hour.
type habit struct {
	route     string
	perBucket float64 // requests in ten seconds
	cost      time.Duration
	bytes     int64
	shares    map[meter.Outcome]float64
	cause     meter.Cause
}

var habits = []habit{
	{"home", 40, 400 * time.Millisecond, 8200, map[meter.Outcome]float64{meter.Hit: 0.90, meter.Stale: 0.06, meter.Joined: 0.01, meter.Miss: 0.03}, meter.Purged},
	{"port", 58, 350 * time.Millisecond, 6900, map[meter.Outcome]float64{meter.Hit: 0.86, meter.Stale: 0.08, meter.Joined: 0.01, meter.Miss: 0.05}, meter.Purged},
	{"departures", 80, 180 * time.Millisecond, 6400, map[meter.Outcome]float64{meter.Hit: 0.81, meter.Joined: 0.02, meter.Miss: 0.17}, meter.Purged},
	{"sailing", 52, 90 * time.Millisecond, 2100, map[meter.Outcome]float64{meter.Hit: 0.62, meter.Revalidated: 0.24, meter.Miss: 0.14}, meter.Cold},
	{"vessel", 18, 120 * time.Millisecond, 1700, map[meter.Outcome]float64{meter.Hit: 0.985, meter.Miss: 0.015}, meter.Purged},
	{"board", 30, 60 * time.Millisecond, 2600, map[meter.Outcome]float64{meter.Hit: 0.71, meter.Stale: 0.18, meter.Miss: 0.11}, meter.Expired},
	{"assets", 32, 5 * time.Millisecond, 3000, map[meter.Outcome]float64{meter.Hit: 0.995, meter.Miss: 0.005}, meter.Cold},
	{"", 9, 150 * time.Millisecond, 1800, map[meter.Outcome]float64{meter.Bypass: 1}, meter.Route},
}

// MakeUpHistory writes an hour of figures from before now, marked as made up, so that a
// fresh demo has something to show.
func MakeUpHistory(ctx context.Context, rec records.Records, node string, now time.Time) error {
	random := rand.New(rand.NewPCG(1889, 3600))
	const bucket = 10 * time.Second
	for at := now.Add(-time.Hour).Truncate(bucket); at.Before(now.Add(-2 * bucket)); at = at.Add(bucket) {
		// Twenty minutes ago a timetable was imported and much purged at once.
		minutes := now.Sub(at).Minutes()
		shaken := math.Exp(-math.Pow(minutes-20, 2) / 6)
		wave := 1 + 0.25*math.Sin(minutes/9)
		cells := meter.Cells{}
		for _, h := range habits {
			h.fill(cells, random, wave, shaken)
		}
		if err := rec.SaveFigures(ctx, node, at, cells, true); err != nil {
			return err
		}
	}
	return nil
}

func (h *habit) fill(cells meter.Cells, random *rand.Rand, wave, shaken float64) {
	requests := h.perBucket * wave * (0.85 + 0.3*random.Float64())
	for _, o := range meter.Outcomes() {
		share, ok := h.shares[o]
		if !ok {
			continue
		}
		if o == meter.Hit {
			share *= 1 - 0.45*shaken
		} else if o == meter.Miss {
			share += 0.45 * shaken * h.shares[meter.Hit]
		}
		n := int64(requests*share + random.Float64())
		if n == 0 {
			continue
		}
		k := meter.Key{Route: h.route, Outcome: o, Status: 200}
		if o != meter.Hit {
			k.Cause = h.cause
		}
		c := &meter.Cell{Requests: n, Bytes: n * h.bytes}
		switch o {
		case meter.Hit, meter.Stale, meter.Joined:
			c.Saved = time.Duration(n) * h.cost
		default:
			c.OriginRequests, c.OriginTime = n, time.Duration(n)*h.cost
		}
		for range n {
			c.Latency.Observe(h.latency(o, random))
		}
		cells[k] = c
	}
}

func (h *habit) latency(o meter.Outcome, random *rand.Rand) time.Duration {
	spread := math.Exp(random.NormFloat64() * 0.35)
	if o == meter.Hit || o == meter.Stale {
		return time.Duration(90 * spread * float64(time.Microsecond))
	}
	return time.Duration(spread * float64(h.cost))
}
