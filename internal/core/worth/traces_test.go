package worth

import (
	"math"
	"math/rand/v2"
)

// request is one of a trace: for a key, whose answer takes so many bytes and so much of its
// origin's time (ns).
type request struct {
	key  uint64
	size int64
	cost float64
}

// family is a kind of traffic.
type family struct {
	name     string
	capacity float64 // as a share of the bytes of all keys
	trace    func(r *rand.Rand, keys int) []request
}

// requests is how long a trace of so many keys is.
func requests(keys int) int {
	if keys > fewKeys {
		return 15 * keys
	}
	return 8 * keys
}

// zipf draws ranks below n, the first most often: the k-th as 1/(k+1)^skew.
type zipf struct{ sums []float64 }

func newZipf(n int, skew float64) *zipf {
	z := &zipf{sums: make([]float64, n)}
	sum := 0.0
	for i := range z.sums {
		sum += 1 / math.Pow(float64(i+1), skew)
		z.sums[i] = sum
	}
	return z
}

func (z *zipf) draw(r *rand.Rand) int {
	x := r.Float64() * z.sums[len(z.sums)-1]
	low, high := 0, len(z.sums)-1
	for low < high {
		if mid := (low + high) / 2; z.sums[mid] < x {
			low = mid + 1
		} else {
			high = mid
		}
	}
	return low
}

// scattered is a number from 0 to 1 that belongs to a key and a purpose.
func scattered(key, purpose uint64) float64 {
	x := key*0x9E3779B97F4A7C15 + purpose*0xD1B54A32D192ED03
	x ^= x >> 31
	x *= 0xBF58476D1CE4E5B9
	x ^= x >> 29
	return float64(x>>11) / (1 << 53)
}

func plainSize(uint64) int64   { return 4096 }
func plainCost(uint64) float64 { return 50e6 }

// decades spreads keys over four decades, in a way of their own.
func decadesSize(key uint64) int64   { return int64(200 * math.Pow(10, 4*scattered(key, 1))) }
func decadesCost(key uint64) float64 { return 1e6 * math.Pow(10, 4*scattered(key, 2)) }

// drawn makes a trace of keys that next draws.
func drawn(keys int, size func(uint64) int64, cost func(uint64) float64, next func(i int) uint64) []request {
	trace := make([]request, requests(keys))
	for i := range trace {
		key := next(i)
		trace[i] = request{key, size(key), cost(key)}
	}
	return trace
}

var families = []family{
	{"steady", 0.05, func(r *rand.Rand, keys int) []request {
		z := newZipf(keys, 0.9)
		return drawn(keys, plainSize, plainCost, func(int) uint64 { return uint64(z.draw(r)) })
	}},
	{"drift", 0.05, func(r *rand.Rand, keys int) []request { // what is popular moves on
		z := newZipf(keys, 0.9)
		return drawn(keys, plainSize, plainCost, func(i int) uint64 { return uint64((z.draw(r) + i/12) % keys) })
	}},
	{"crawler", 0.1, func(r *rand.Rand, keys int) []request { // rounds of somebody who asks for everything, once each
		z := newZipf(keys/10, 0.8)
		at := uint64(0)
		return drawn(keys, plainSize, plainCost, func(i int) uint64 {
			if i/(2*keys)%2 == 1 && r.IntN(3) > 0 {
				at++
				return at % uint64(keys)
			}
			return uint64(z.draw(r))
		})
	}},
	{"sizes", 0.05, func(r *rand.Rand, keys int) []request {
		z := newZipf(keys, 0.9)
		return drawn(keys, decadesSize, plainCost, func(int) uint64 { return uint64(z.draw(r)) })
	}},
	{"costs", 0.05, func(r *rand.Rand, keys int) []request {
		z := newZipf(keys, 0.9)
		return drawn(keys, plainSize, decadesCost, func(int) uint64 { return uint64(z.draw(r)) })
	}},
	{"loop", 0.85, func(_ *rand.Rand, keys int) []request {
		return drawn(keys, plainSize, plainCost, func(i int) uint64 { return uint64(i % (keys / 2)) })
	}},
	{"ferries", 0.05, ferries},
}

// ferries is what the ferry company sees: sailings of today, whose day moves on; pages with small
// fragments; pictures; reports that take long and are read now and then; and a crawler at night.
func ferries(r *rand.Rand, keys int) []request {
	sailings, pages, pictures, reports := newZipf(3*keys/20, 0.8), newZipf(keys/5, 0.9), newZipf(keys/10, 0.7), newZipf(40, 0.3)
	at := uint64(0)
	trace := make([]request, 0, requests(keys))
	for i := range requests(keys) {
		day, night := i/(keys*3/2), i%(keys*3/2) > keys*7/6
		switch x := r.Float64(); {
		case night && x < 0.5:
			at++
			key := at%uint64(keys) + 1<<20
			trace = append(trace, request{key, 3_000 + int64(20_000*scattered(key, 1)), 40e6})
		case x < 0.45:
			key := uint64((sailings.draw(r) + day*keys/133) % (3 * keys / 20))
			trace = append(trace, request{key + 2<<20, 1_500 + int64(9_000*scattered(key, 1)), 20e6 + 180e6*scattered(key, 2)})
		case x < 0.8:
			key := uint64(pages.draw(r))
			trace = append(trace, request{key + 3<<20, 400 + int64(2_000*scattered(key, 1)), 2e6 + 30e6*scattered(key, 2)})
		case x < 0.999:
			key := uint64(pictures.draw(r))
			trace = append(trace, request{key + 4<<20, 20_000 + int64(400_000*scattered(key, 1)), 3e6})
		default:
			key := uint64(reports.draw(r))
			trace = append(trace, request{key + 5<<20, 100_000 + int64(200_000*scattered(key, 1)), 2e9 + 38e9*scattered(key, 2)})
		}
	}
	return trace
}
