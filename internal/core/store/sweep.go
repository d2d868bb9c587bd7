package store

import (
	"math"

	"gerastic/internal/core/tags"
)

// Matched is what a purge took, or would take.
type Matched struct {
	Entries int64
	Bytes   int64
	Routes  map[string]int64 // entries by route
	Sample  []string         // some of the URLs
}

const sampleSize = 20

func (mt *Matched) count(e *Entry) {
	mt.Entries++
	mt.Bytes += e.size.Load()
	if mt.Routes == nil {
		mt.Routes = map[string]int64{}
	}
	mt.Routes[e.Subject.Route]++
	if len(mt.Sample) < sampleSize {
		mt.Sample = append(mt.Sample, e.URL())
	}
}

// Sweep frees what a purge defeated and counts it; the marks are set already, so that
// nothing waits for it. Each entry is counted by the one purge that took it: the same
// purge again counts nothing.
func (m *Memory) Sweep(p tags.Purge) Matched {
	var matched Matched
	drop := p.Mode == tags.Drop
	m.walk(p, drop, func(e *Entry) {
		if e.Subject.Stamp >= p.Sequence {
			return // its fill began after the purge
		}
		if !drop {
			if !e.removed.Load() && e.softened.CompareAndSwap(false, true) {
				matched.count(e)
			}
			return
		}
		m.mu.Lock()
		if e.resident {
			matched.count(e)
			m.remove(e, Purged)
		}
		m.mu.Unlock()
	})
	return matched
}

// Preview counts what a purge would take, and changes nothing.
func (m *Memory) Preview(p tags.Purge) Matched {
	var matched Matched
	seen := map[*Entry]bool{}
	m.walk(p, false, func(e *Entry) {
		if e.removed.Load() || p.Mode == tags.Soften && e.softened.Load() || seen[e] {
			return
		}
		seen[e] = true
		matched.count(e)
	})
	return matched
}

// walk visits the entries that a purge names. take says that all of them will go: then
// the postings of whole terms are lifted out of the index at once, and removing an entry costs less.
func (m *Memory) walk(p tags.Purge, take bool, visit func(*Entry)) {
	covered := func(e *Entry) {
		if p.Covers(&e.Subject) {
			visit(e)
		}
	}
	if len(p.Below)+len(p.Hosts) > 0 { // found by looking at all of them; the rest on the way
		for _, l := range m.routes() {
			m.each(l, covered)
		}
		return
	}
	var whole []term
	for _, route := range p.Routes {
		whole = append(whole, term{byRoute, route})
	}
	switch {
	case p.All:
		whole = m.routes()
	case p.Together:
		m.each(m.smallest(p.Tags), covered)
	default:
		for _, tag := range p.Tags {
			if p.Host != "" {
				m.each(term{byTag, tag}, covered)
			} else {
				whole = append(whole, term{byTag, tag})
			}
		}
	}
	for _, l := range whole {
		if take {
			m.take(l, visit)
		} else {
			m.each(l, visit)
		}
	}
	for _, u := range p.URLs {
		m.each(term{byPath, u.Path}, covered)
	}
}

// routes are the terms that together hold every entry.
func (m *Memory) routes() (labels []term) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for l := range m.index {
		if l.kind == byRoute {
			labels = append(labels, l)
		}
	}
	return labels
}

// smallest is the term of the tag that the fewest entries carry.
func (m *Memory) smallest(names []string) (least term) {
	m.mu.Lock()
	defer m.mu.Unlock()
	few := math.MaxInt
	for _, name := range names {
		n := 0
		if g := m.index[term{byTag, name}]; g != nil {
			n = len(g.entries)
		}
		if n < few {
			least, few = term{byTag, name}, n
		}
	}
	return least
}

// Compactable judges every entry, and returns the place in the ledger up to which no
// mark is needed for any of them.
func (m *Memory) Compactable(marks *tags.Marks) tags.Stamp {
	upTo := marks.Stamp()
	for _, l := range m.routes() {
		m.each(l, func(e *Entry) {
			if e.Judge(marks) != tags.Dropped { // what is dropped needs no mark to be gone soon
				upTo = min(upTo, e.knownTo())
			}
		})
	}
	return upTo
}

// take lifts the postings of a term out and visits their entries; those that the visit leaves
// in the store (filled since the purge) are put back.
func (m *Memory) take(l term, visit func(*Entry)) {
	m.mu.Lock()
	g := m.index.detach(l)
	m.mu.Unlock()
	if g == nil {
		return
	}
	for _, e := range g.entries {
		visit(e)
		m.mu.Lock()
		if e.resident {
			m.rejoin(e, g)
		}
		m.mu.Unlock()
	}
}

func (m *Memory) rejoin(e *Entry, g *postings) {
	for i := range e.postings {
		if e.postings[i].of == g {
			e.postings = append(e.postings[:i], e.postings[i+1:]...)
			break
		}
	}
	m.index.join(e, g.term)
}

// chunk is how many entries are copied under the lock at a time.
const chunk = 1024

// each visits the postings of a term in chunks, so that no lock is held for long. It walks from the
// end, since a removal moves the last entry into the gap: nothing that stays is
// skipped, and what moves may be visited twice.
func (m *Memory) each(l term, visit func(*Entry)) {
	room := make([]*Entry, 0, chunk)
	for from := math.MaxInt; ; {
		m.mu.Lock()
		g := m.index[l]
		if g == nil {
			m.mu.Unlock()
			return
		}
		from = min(from, len(g.entries))
		start := max(0, from-chunk)
		room = append(room[:0], g.entries[start:from]...)
		m.mu.Unlock()
		for _, e := range room {
			visit(e)
		}
		if from = start; from == 0 {
			return
		}
	}
}
