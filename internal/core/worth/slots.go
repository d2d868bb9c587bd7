package worth

// slot is what is known of an entry. A size of 0 says that nobody is there.
type slot struct {
	tag          uint32 // of its key's hash
	use          float32
	when         uint32 // of the last use
	cost         float32
	size         uint32 // units
	older, newer uint32 // neighbours in the window, see link; outside, 0 and where it is among its size
}

// unit is in what sizes are counted, so that they fit into 32 bits.
const unit = 16

func units(size int64) uint32 { return uint32(min(max(1, (size+unit-1)/unit), 1<<32-1)) }

func bytesOf(units uint32) int64 { return int64(units) * unit }

const (
	// nowhere is no place.
	nowhere = 1<<32 - 1
	// inWindow stands in a slot of the window that has no neighbour.
	inWindow = nowhere
)

func (e *slot) window() bool { return e.older != 0 }

// slots are in chunks, so that growing moves nothing.
type slots struct {
	chunks []*[1 << chunkBits]slot
	len    uint32 // places that were taken at any time
}

const chunkBits = 8

func (s *slots) at(place uint32) *slot { return &s.chunks[place>>chunkBits][place&(1<<chunkBits-1)] }

// reach makes sure that a place is there.
func (s *slots) reach(place uint32) {
	for uint32(len(s.chunks))<<chunkBits <= place {
		s.chunks = append(s.chunks, new([1 << chunkBits]slot))
	}
	s.len = max(s.len, place+1)
}

// window is the queue of newcomers.
type window struct {
	oldest, newest uint32
	count, bytes   int64
}

// link and unlink translate between a place and how a slot names its neighbour.
func link(place uint32) uint32 {
	if place == nowhere {
		return inWindow
	}
	return place + 1
}

func unlink(name uint32) uint32 {
	if name == inWindow {
		return nowhere
	}
	return name - 1
}

func (w *window) push(all *slots, place uint32) {
	e := all.at(place)
	e.older, e.newer = link(w.newest), inWindow
	if w.newest != nowhere {
		all.at(w.newest).newer = link(place)
	} else {
		w.oldest = place
	}
	w.newest = place
	w.count++
	w.bytes += bytesOf(e.size)
}

func (w *window) remove(all *slots, place uint32) {
	e := all.at(place)
	older, newer := unlink(e.older), unlink(e.newer)
	if older != nowhere {
		all.at(older).newer = e.newer
	} else {
		w.oldest = newer
	}
	if newer != nowhere {
		all.at(newer).older = e.older
	} else {
		w.newest = older
	}
	e.older, e.newer = 0, 0
	w.count--
	w.bytes -= bytesOf(e.size)
}
