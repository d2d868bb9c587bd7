package worth

import "time"

// Policy says who goes when a store is full. It is used by one goroutine at a time.
type Policy struct {
	shelf  *shelf
	trials *Trials
	trial  []*Trial // one for each of tempers
	scores [len(tempers)]float64
	seen   int64 // uses since the tempers were compared
	chosen int

	sizes *Trials
	sized []*Trial // one for each of shares
	now   Size     // of the store itself
}

// Size is what a store of some size saved since its start: requests, those of them that it answered,
// and the microseconds of fills that they would have taken and that it saved.
type Size struct {
	Capacity       int64
	Requests, Hits int64
	Cost, Saved    float64
}

// shares are the sizes that are tried, in quarters of the store's own.
var shares = [...]int64{1, 2, 4, 8, 16}

// tempers are those among which the policy chooses.
var tempers = [...]Temper{
	{0.5, 1.0}, {0.5, 1.6}, {2, 1.0}, {2, 1.6}, {8, 1.0}, {8, 1.6}, {32, 1.0}, {32, 1.6},
}

// firstTemper is the one until something is known.
const firstTemper = 4 // a half-life of 8

// New returns a policy for so many bytes; seed is where its chance begins.
func New(capacity int64, seed uint64) *Policy {
	p := &Policy{shelf: newShelf(capacity, tempers[firstTemper], seed), trials: NewTrials(fewest, mostBits), chosen: firstTemper, sizes: NewTrials(fewestSized, mostBitsSized)}
	for _, temper := range tempers {
		p.trial = append(p.trial, p.trials.Add(capacity, temper))
	}
	for _, quarters := range shares {
		p.sized = append(p.sized, p.sizes.Add(capacity/4*quarters, tempers[firstTemper]))
	}
	p.now.Capacity = capacity
	return p
}

// leastCost is what any fill costs: the way to its origin, whatever the origin does.
const leastCost = 100 * time.Microsecond

// Add tells of an entry that came: at a place that is free, whose key has this tag of a hash, of
// so many bytes, whose fill takes cost.
func (p *Policy) Add(place, tag uint32, size int64, cost time.Duration) {
	p.shelf.add(place, tag, size, float32(max(cost, leastCost)))
	p.now.count(p.try(place, 1), 1, 0)
}

// Use tells that so many requests were answered from an entry.
func (p *Policy) Use(place, times uint32) {
	p.shelf.use(place, times)
	p.now.count(p.try(place, times), times, times)
}

// Remove tells that an entry is gone, for whatever reason.
func (p *Policy) Remove(place uint32) { p.shelf.remove(place) }

// Expire tells that an entry is to go that no store would keep, whatever its size.
func (p *Policy) Expire(place uint32) { p.sizes.Drop(p.shelf.slots.at(place).tag) }

// Victim names who is to go next; ok is false if nobody is there. It stays until Remove.
func (p *Policy) Victim() (place uint32, ok bool) { return p.shelf.victim() }

// Worth is what an entry saves for each of its bytes: in ns of its origin's time, for each of
// the uses that count now.
func (p *Policy) Worth(place uint32) float64 { return p.shelf.worth(place) }

// Uses is how often an entry was used, those long ago counting less.
func (p *Policy) Uses(place uint32) float64 {
	e := p.shelf.slots.at(place)
	return float64(e.use) * float64(p.shelf.decay(e.when))
}

// Bytes is how much memory the policy takes itself.
func (p *Policy) Bytes() int64 {
	bytes := p.shelf.memory()
	for _, t := range append(p.trial[:len(p.trial):len(p.trial)], p.sized...) {
		bytes += t.memory()
	}
	return bytes
}

// Sizes are what stores of ¼, ½, 1, 2 and 4 times the capacity would have saved since the start, as
// small copies say, and what this one did.
func (p *Policy) Sizes() (others []Size, own Size) {
	for _, t := range p.sized {
		others = append(others, Size{t.capacity, t.Requests, t.Hits, t.Cost, t.Saved})
	}
	return others, p.now
}

func (s *Size) count(cost float32, requests, hits uint32) {
	s.Requests += int64(requests)
	s.Hits += int64(hits)
	s.Cost += float64(requests) * float64(cost)
	s.Saved += float64(hits) * float64(cost)
}

// Temper is how it judges now.
func (p *Policy) Temper() Temper { return p.shelf.temper }

// try tells the small copies, and now and then takes over the temper of the best.
func (p *Policy) try(place, times uint32) (cost float32) {
	e := p.shelf.slots.at(place)
	cost = e.cost
	p.sizes.thin(p.shelf.count)
	p.sizes.Use(e.tag, bytesOf(e.size), e.cost, times)
	p.trials.thin(p.shelf.count)
	p.trials.Use(e.tag, bytesOf(e.size), e.cost, times)
	if p.seen += int64(times); p.seen < 2*max(p.shelf.count, fewest) {
		return cost
	}
	p.seen = 0
	best := p.chosen
	for i, t := range p.trial {
		p.scores[i] = p.scores[i]/2 + t.TakeSaved()
	}
	for i, score := range p.scores {
		if score > p.scores[best] && score > 1.005*p.scores[p.chosen] {
			best = i
		}
	}
	p.chosen = best
	p.shelf.temper = tempers[best]
	for _, t := range p.sized {
		t.shelf.temper = tempers[best]
	}
	return cost
}
