package worth

import (
	"cmp"
	"math"
	"slices"
	"unsafe"
)

// Temper is how a shelf judges.
type Temper struct {
	// HalfLife is after how many uses of anything a use counts half, as a multiple of the
	// number of entries.
	HalfLife float64
	// Reluctance is how many times as much a newcomer must be worth as whoever goes for it.
	Reluctance float64
}

// shelf is a set of entries of which the least worth go. Entries are known by their places, which
// whoever holds the entries gives out: small numbers that are used again.
type shelf struct {
	capacity int64
	temper   Temper
	now      uint32 // uses of anything so far
	slots    slots
	count    int64
	bytes    int64
	window   window
	settled  settled
	ghosts   ghosts
	pressed  bool // somebody had to go since the last one came
	random   uint64

	waiting []candidate // who were sampled and are worth little, the least first
	base    uint32      // the use from which on their ranks are told
	pace    float64     // the half-life that these are told by
}

// candidate is an entry that was sampled. All worths decay alike, so that its rank stays as it is
// until the entry is used.
type candidate struct {
	place uint32
	rank  float64
}

const (
	// sampled is how many are looked at for one that goes, and kept how many of them are
	// remembered for the next times (Psounis and Prabhakar, 2001).
	sampled = 10
	kept    = 24
	// windowShare is which part of the capacity newcomers have.
	windowShare = 100
)

func newShelf(capacity int64, temper Temper, seed uint64) *shelf {
	return &shelf{capacity: capacity, temper: temper, window: window{oldest: nowhere, newest: nowhere}, random: seed | 1, waiting: make([]candidate, 0, kept+1)}
}

// add takes an entry in. The use that it had when it left before counts on.
func (s *shelf) add(place, tag uint32, size int64, cost float32) {
	s.now++
	use := float32(1)
	if g := s.ghosts.take(tag); g != nil {
		use += g.use.float() * s.decay(g.when)
		cost = (7*g.cost.float() + 3*cost) / 10
		*g = ghost{}
	}
	s.slots.reach(place)
	*s.slots.at(place) = slot{tag: tag, use: use, when: s.now, cost: cost, size: units(size)}
	s.count++
	s.bytes += bytesOf(units(size))
	s.window.push(&s.slots, place)
	for !s.pressed && s.window.bytes > s.capacity/windowShare {
		s.settle(s.window.oldest)
	}
	s.pressed = false
	s.ghosts.grow(2 * s.count)
}

// use notes uses of an entry.
func (s *shelf) use(place, times uint32) {
	s.now += times
	e := s.slots.at(place)
	e.use = e.use*s.decay(e.when) + float32(times)
	e.when = s.now
}

// remove forgets an entry; its use is remembered for a while.
func (s *shelf) remove(place uint32) {
	e := s.slots.at(place)
	if e.window() {
		s.window.remove(&s.slots, place)
	} else {
		s.settled.remove(&s.slots, place)
	}
	s.ghosts.put(s, ghost{tag: e.tag, use: max(1, halfOf(e.use)), when: e.when, cost: halfOf(e.cost)})
	s.count--
	s.bytes -= bytesOf(e.size)
	*e = slot{}
}

// victim names who is to go for something that comes. It stays until it is removed.
func (s *shelf) victim() (place uint32, ok bool) {
	s.pressed = true
	least, some := s.least()
	newcomer := s.window.oldest
	switch {
	case newcomer == nowhere:
		return least, some
	case !some:
		return newcomer, true
	case s.window.bytes <= s.capacity/windowShare:
		return least, true
	case s.worth(newcomer) <= s.temper.Reluctance*s.worth(least):
		return newcomer, true
	}
	s.settle(newcomer)
	return least, true
}

// settle ends an entry's time as a newcomer.
func (s *shelf) settle(place uint32) {
	s.window.remove(&s.slots, place)
	s.settled.add(&s.slots, place)
}

// least samples some more that are no newcomers, and names the least worth of those that are
// known: half of the samples are drawn as entries come, so that each entry is as likely as any
// other, and half by size, so that each byte is.
func (s *shelf) least() (place uint32, ok bool) {
	s.rebase()
	draws := sampled
	if len(s.waiting) < kept/2 {
		draws = kept
	}
	if !s.sample(draws) {
		return 0, false
	}
	for len(s.waiting) > 0 {
		first := s.waiting[0]
		if e := s.slots.at(first.place); e.size > 0 && !e.window() {
			if s.rank(e) <= first.rank+0.01 {
				return first.place, true
			}
		}
		s.waiting = append(s.waiting[:0], s.waiting[1:]...)
		if e := s.slots.at(first.place); e.size > 0 && !e.window() {
			s.consider(first.place, e) // it was used since, or another entry is there
		}
	}
	return 0, false
}

// sample considers so many that are drawn; false if there is none. All of them are read before one is
// looked at, so that the processor waits for memory once, and not for each.
func (s *shelf) sample(draws int) bool {
	var places [kept]uint32
	var there [kept]slot
	if !s.settled.draw(places[:draws], s.chance) {
		return false
	}
	for i, place := range places[:draws] {
		there[i] = *s.slots.at(place)
	}
	for i, place := range places[:draws] {
		s.consider(place, &there[i])
	}
	return true
}

// consider puts one among those that are known to be worth little, if it is.
func (s *shelf) consider(place uint32, e *slot) {
	one := candidate{place, s.rank(e)}
	if len(s.waiting) == kept && one.rank >= s.waiting[kept-1].rank {
		return
	}
	if slices.ContainsFunc(s.waiting, func(c candidate) bool { return c.place == place }) {
		return
	}
	at, _ := slices.BinarySearchFunc(s.waiting, one.rank, func(c candidate, rank float64) int { return cmp.Compare(c.rank, rank) })
	s.waiting = slices.Insert(s.waiting, at, one)
	s.waiting = s.waiting[:min(len(s.waiting), kept)]
}

// rank orders entries as their worth does, whenever it is asked for: it is the logarithm of what
// their worth was at base.
func (s *shelf) rank(e *slot) float64 {
	return math.Log2(float64(e.use)*float64(e.cost)/float64(bytesOf(e.size))) + float64(int32(e.when-s.base))/s.pace
}

// rebase tells all ranks anew when the half-life has changed, or much time has passed.
func (s *shelf) rebase() {
	if now := s.halfLife(); math.Abs(now-s.pace) > s.pace/64 || float64(s.now-s.base) > min(16*s.pace, 1<<30) {
		s.base, s.pace = s.now, now
		known := slices.Clone(s.waiting)
		s.waiting = s.waiting[:0]
		for _, c := range known {
			if e := s.slots.at(c.place); e.size > 0 && !e.window() {
				s.consider(c.place, e)
			}
		}
	}
}

// halfLife is after how many uses of anything a use counts half.
func (s *shelf) halfLife() float64 { return s.temper.HalfLife * float64(max(s.count, 1)) }

// chance is the next number by chance (xorshift64*; Marsaglia 2003, Vigna 2016).
func (s *shelf) chance() uint64 {
	s.random ^= s.random >> 12
	s.random ^= s.random << 25
	s.random ^= s.random >> 27
	return s.random * 0x2545F4914F6CDD1D
}

// worth is what keeping an entry saves for each of its bytes.
func (s *shelf) worth(place uint32) float64 {
	e := s.slots.at(place)
	return float64(e.use) * float64(s.decay(e.when)) * float64(e.cost) / float64(bytesOf(e.size))
}

// decay is what is left of a use at a time.
func (s *shelf) decay(when uint32) float32 {
	halves := float64(s.now-when) / s.halfLife()
	if halves > 120 {
		return 0
	}
	return exp2(-float32(halves))
}

// exp2 is 2 to the power of x, for x in -126…0, off by less than a thousandth: the exponent is
// put together from its bits, the rest is a parabola.
func exp2(x float32) float32 {
	whole := float32(int32(x)) - 1
	rest := x - whole // 0…1 (1 for whole numbers)
	return math.Float32frombits(uint32(int32(whole)+127)<<23) * (1 + rest*(0.6565+rest*0.3435))
}

// memory is how many bytes it takes.
func (s *shelf) memory() int64 {
	return int64(len(s.slots.chunks))*(int64(unsafe.Sizeof([1 << chunkBits]slot{}))+8) + int64(len(s.ghosts.chunks))*(int64(unsafe.Sizeof([bucketChunk]bucket{}))+8) + s.settled.memory()
}
