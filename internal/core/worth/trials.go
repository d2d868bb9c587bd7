package worth

// Trials are small copies of a policy that see the same share of the keys.
type Trials struct {
	bits     uint // keys whose tag begins with so many zeros are seen
	mostBits uint // at least one key of so many bits is seen
	fewest   int64
	all      []*Trial
}

const (
	// fewest is how many entries a copy has at least, before it sees only a share of the keys.
	fewest = 2048
	// mostBits: at least one key of 32 is seen.
	mostBits = 5
	// Copies of other sizes see less: what is told of them is for people.
	fewestSized, mostBitsSized = 256, 7
)

// NewTrials returns no copies yet, which see all keys as long as a store has few entries, and at
// least one of 1<<mostBits.
func NewTrials(fewest int64, mostBits uint) *Trials {
	return &Trials{fewest: fewest, mostBits: mostBits}
}

// Trial is one copy, with a temper and a capacity of its own.
type Trial struct {
	shelf    *shelf
	capacity int64 // of the store that it stands for
	places   map[uint32]uint32
	free     []uint32
	high     uint32 // places given out

	// Requests and Hits are what it saw, and Cost and Saved the fills that these would have
	// taken, and that its entries saved.
	Requests, Hits int64
	Cost, Saved    float64
	taken          float64
}

// Add adds a copy that stands for a store of so many bytes.
func (ts *Trials) Add(capacity int64, temper Temper) *Trial {
	t := &Trial{shelf: newShelf(capacity, temper, uint64(len(ts.all))*0x9E3779B97F4A7C15), capacity: capacity, places: map[uint32]uint32{}}
	ts.all = append(ts.all, t)
	return t
}

// thin has them see less of the keys when the store has many entries.
func (ts *Trials) thin(entries int64) {
	for ts.bits < ts.mostBits && entries>>(ts.bits+1) >= ts.fewest {
		ts.bits++
		for _, t := range ts.all {
			t.thin(ts.bits)
		}
	}
}

// Use tells of uses of something, whether the store had it or not.
func (ts *Trials) Use(tag uint32, size int64, cost float32, times uint32) {
	if !seen(tag, ts.bits) {
		return
	}
	for _, t := range ts.all {
		t.use(tag, size, cost, times)
	}
}

// Drop tells that something went that no store would have kept: it was purged, or is to be replaced.
func (ts *Trials) Drop(tag uint32) {
	for _, t := range ts.all {
		if place, ok := t.places[tag]; ok {
			t.remove(tag, place)
		}
	}
}

// seen reports whether a key is of the share that is seen.
func seen(tag uint32, bits uint) bool { return tag>>(32-bits) == 0 }

// TakeSaved returns what was saved since it was called the last time.
func (t *Trial) TakeSaved() float64 {
	saved := t.Saved - t.taken
	t.taken = t.Saved
	return saved
}

// thin leaves it the keys that are still seen, and their share of the capacity.
func (t *Trial) thin(bits uint) {
	t.shelf.capacity = t.capacity >> bits
	for tag, place := range t.places {
		if !seen(tag, bits) {
			t.remove(tag, place)
		}
	}
}

func (t *Trial) use(tag uint32, size int64, cost float32, times uint32) {
	t.Requests += int64(times)
	t.Cost += float64(times) * float64(cost)
	if place, ok := t.places[tag]; ok {
		t.Hits += int64(times)
		t.Saved += float64(times) * float64(cost)
		t.shelf.use(place, times)
		return
	}
	if size > t.shelf.capacity {
		return
	}
	for t.shelf.bytes+bytesOf(units(size)) > t.shelf.capacity {
		place, ok := t.shelf.victim()
		if !ok {
			return
		}
		t.remove(t.shelf.slots.at(place).tag, place)
	}
	place := t.place()
	t.places[tag] = place
	t.shelf.add(place, tag, size, cost)
}

// memory is how many bytes it takes; a cell of the map has a key, a place and some room.
func (t *Trial) memory() int64 {
	return t.shelf.memory() + int64(len(t.places))*20 + int64(cap(t.free))*4
}

func (t *Trial) place() uint32 {
	if n := len(t.free); n > 0 {
		place := t.free[n-1]
		t.free = t.free[:n-1]
		return place
	}
	t.high++
	return t.high - 1
}

func (t *Trial) remove(tag uint32, place uint32) {
	t.shelf.remove(place)
	delete(t.places, tag)
	t.free = append(t.free, place)
}
