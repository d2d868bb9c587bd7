package store

import "time"

// idle says when entries may have gone unasked for too long: by spans of a few seconds, as in a wheel.
// Whoever is asked for meanwhile gets another turn when theirs comes. Guarded by Memory.mu.
type idle struct {
	spans map[uint32][]uint32 // places, by the span in which their turn is
	turns map[uint32]uint32   // the span of each place
	items int                 // in spans, with those of places whose turn is another one by now
	swept uint32              // the span that was looked at last
}

// spanMoments is how many moments a span has: eight seconds.
const spanMoments = 8 << 2

func (d *idle) add(r *record) {
	if r.idle > 0 {
		d.put(r.place, r.used.Load()+r.idle<<2)
	}
}

// put gives a place its turn after a moment.
func (d *idle) put(place, at uint32) {
	if d.spans == nil {
		d.spans, d.turns = map[uint32][]uint32{}, map[uint32]uint32{}
	}
	span := max(at/spanMoments+1, d.swept+1)
	d.spans[span] = append(d.spans[span], place)
	d.turns[place] = span
	if d.items++; d.items > 2*len(d.turns)+1024 {
		d.tidy()
	}
}

func (d *idle) remove(r *record) {
	if r.idle > 0 {
		delete(d.turns, r.place)
	}
}

// tidy forgets the turns that are not any more.
func (d *idle) tidy() {
	d.items = 0
	clear(d.spans)
	for place, span := range d.turns {
		d.spans[span] = append(d.spans[span], place)
		d.items++
	}
}

// due takes the places whose turn has come.
func (d *idle) due(now uint32) (places []uint32) {
	last := now / spanMoments
	if d.swept == 0 || last-d.swept > uint32(len(d.spans)) { // fewer spans than turns of the wheel
		for span := range d.spans {
			if span <= last {
				places = append(places, d.take(span)...)
			}
		}
	} else {
		for span := d.swept + 1; span <= last; span++ {
			places = append(places, d.take(span)...)
		}
	}
	d.swept = max(d.swept, last)
	return places
}

func (d *idle) take(span uint32) (places []uint32) {
	for _, place := range d.spans[span] {
		if d.turns[place] == span {
			delete(d.turns, place)
			places = append(places, place)
		}
	}
	d.items -= len(d.spans[span])
	delete(d.spans, span)
	return places
}

// bytes is about what it takes.
func (d *idle) bytes() int64 { return int64(d.items)*6 + int64(len(d.turns))*20 }

// SweepIdle removes the entries that nobody asked for within their idle time, and returns how many they
// were. It looks at none whose turn has not come.
func (m *Memory) SweepIdle(now time.Time) (gone int) {
	at := moment(now)
	m.mu.Lock()
	defer m.mu.Unlock()
	for i, place := range m.idle.due(at) {
		if i%chunk == chunk-1 {
			m.yield()
		}
		r := m.places.at(place).record
		switch {
		case r == nil || r.idle == 0 || !r.is(resident):
		case at-r.used.Load() > r.idle<<2 && at > r.used.Load():
			m.remove(r, Idle)
			gone++
		default:
			m.idle.add(r)
		}
	}
	return gone
}

// FreeStranded removes what no request can reach any more, since the policy has changed, and returns how
// many entries that were.
func (m *Memory) FreeStranded(reached func(route, key string) bool) (gone int) {
	if m.lower != nil {
		m.freeStrandedBelow(reached)
	}
	for _, term := range m.routes() {
		m.posted(term, func(r *record) {
			if !reached(term[1:], string(m.keyOf(r))) {
				m.remove(r, Stranded)
				gone++
			}
		})
	}
	m.commit()
	return gone
}
