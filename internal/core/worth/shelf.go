package worth

import (
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

	waiting []uint32 // who were sampled before and are worth little
}

const (
	// sampled is how many are looked at for one that goes, and kept how many of them are looked at
	// again the next time (Psounis and Prabhakar, 2001).
	sampled = 16
	kept    = 16
	// windowShare is which part of the capacity newcomers have.
	windowShare = 100
)

func newShelf(capacity int64, temper Temper, seed uint64) *shelf {
	return &shelf{capacity: capacity, temper: temper, window: window{oldest: nowhere, newest: nowhere}, random: seed | 1}
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

// resize notes that an entry takes more or less than before.
func (s *shelf) resize(place uint32, size int64) {
	e := s.slots.at(place)
	s.bytes += bytesOf(units(size)) - bytesOf(e.size)
	if e.window() {
		s.window.bytes += bytesOf(units(size)) - bytesOf(e.size)
		e.size = units(size)
		return
	}
	s.settled.remove(&s.slots, place)
	e.size = units(size)
	s.settled.add(&s.slots, place)
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
		s.keep(least)
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

// least samples those that are no newcomers: half of them as they come, so that each entry is as
// likely as any other, and half by size, so that each byte is.
func (s *shelf) least() (place uint32, ok bool) {
	var found [sampled + kept]uint32
	n := 0
	for _, place := range s.waiting {
		if e := s.slots.at(place); e.size > 0 && !e.window() {
			found[n], n = place, n+1
		}
	}
	for draw := range sampled {
		weight := byBytes
		if draw%2 == 0 {
			weight = byCount
		}
		place, ok := s.settled.draw(s.chance(), s.chance(), weight)
		if !ok {
			return 0, false
		}
		if !slices.Contains(found[:n], place) {
			found[n], n = place, n+1
		}
	}
	return s.rank(found[:n]), true
}

// rank returns the least worth, and keeps the next ones for the next time.
func (s *shelf) rank(found []uint32) uint32 {
	var worths [sampled + kept]float64
	for i, place := range found {
		w := s.worth(place)
		j := i
		for ; j > 0 && worths[j-1] > w; j-- {
			worths[j], found[j] = worths[j-1], found[j-1]
		}
		worths[j], found[j] = w, place
	}
	s.waiting = append(s.waiting[:0], found[1:min(len(found), kept+1)]...)
	return found[0]
}

// keep looks at one again the next time.
func (s *shelf) keep(place uint32) {
	if len(s.waiting) >= kept {
		s.waiting = s.waiting[:kept-1]
	}
	s.waiting = append(s.waiting, place)
}

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
	halves := float64(s.now-when) / (s.temper.HalfLife * float64(max(s.count, 1)))
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
