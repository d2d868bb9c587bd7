package meter

import "time"

// Ratio sums cells into the figures of the ratio report. Each method is one formula;
// reports, console and forecast have no others.
type Ratio struct {
	Requests       int64
	ByOutcome      [Error + 1]int64
	Bytes          int64 // of all answers
	CacheableBytes int64 // of all but bypass
	HitBytes       int64 // of hit and stale
	OriginRequests int64
	Primed         int64 // asked for before a visitor did; none of Requests
	Refused        int64 // answered with an error of our own, without an origin
	OriginTime     time.Duration
	Saved          time.Duration
	HitLatency     Histogram // hit and stale
	OriginLatency  Histogram // what waited for an origin, or for another who fills: revalidated, joined, miss
}

// Count adds the cell of a key.
func (r *Ratio) Count(k Key, c *Cell) {
	o := k.Outcome
	r.OriginRequests += c.OriginRequests
	r.OriginTime += c.OriginTime
	switch o {
	case Behind:
		return
	case Primed:
		r.Primed += c.Requests
		return
	}
	if o == Error {
		r.Refused += max(0, c.Requests-c.OriginRequests)
	}
	r.Requests += c.Requests
	r.ByOutcome[o] += c.Requests
	r.Bytes += c.Bytes
	r.Saved += c.Saved
	if o != Bypass {
		r.CacheableBytes += c.Bytes
	}
	switch o {
	case Hit, Stale:
		r.HitBytes += c.Bytes
		r.HitLatency.Add(&c.Latency)
	case Revalidated, Joined, Miss:
		if o == Miss && filledByApplication(k.Route) {
			break // the look-up that gave the lease waited for nobody
		}
		r.OriginLatency.Add(&c.Latency)
	}
}

// Definitions say what each figure is, for --help, the API and the console.
var Definitions = []struct{ Name, Text string }{
	{"requests", "requests that visitors made and that were answered"},
	{"hit ratio", "(hit + stale) / (all requests but bypass): answered without waiting for an origin"},
	{"byte hit ratio", "the same, weighted by the bytes of the answers"},
	{"offload", "(visitor requests that an answer was found for - origin requests) / visitor requests, over all traffic"},
	{"round trips saved", "visitor requests that an answer was found for - origin requests; those made behind visitors' backs count against it"},
	{"origin time saved", "for each answer that needed no origin: what that entry's fill had cost (smoothed), summed"},
}

// HitRatio is (hit + stale) / (requests - bypass); ok is false when nothing was cacheable.
func (r *Ratio) HitRatio() (ratio float64, ok bool) {
	return share(r.ByOutcome[Hit]+r.ByOutcome[Stale], r.Requests-r.ByOutcome[Bypass])
}

// ByteHitRatio is HitRatio weighted by bytes.
func (r *Ratio) ByteHitRatio() (ratio float64, ok bool) { return share(r.HitBytes, r.CacheableBytes) }

// Offload is RoundTripsSaved / requests; negative when refreshes outweigh visitors.
func (r *Ratio) Offload() (ratio float64, ok bool) { return share(r.RoundTripsSaved(), r.Requests) }

// RoundTripsSaved is requests - origin requests. What was refused here saved nothing.
func (r *Ratio) RoundTripsSaved() int64 { return r.Requests - r.Refused - r.OriginRequests }

func share(part, whole int64) (float64, bool) {
	if whole <= 0 {
		return 0, false
	}
	return float64(part) / float64(whole), true
}
