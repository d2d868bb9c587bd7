package store

import (
	"math"
	"runtime"

	"gerastic/internal/core/tags"
)

// Matched is what a purge took, or would take.
type Matched struct {
	Entries int64
	Bytes   int64
	Routes  map[string]int64 // entries by route
	Sample  []string         // some of the URLs
}

// SampleSize is how many URLs a purge's sample has at most.
const SampleSize = 20

// count notes a record. Under mu, and it is in the store.
func (mt *Matched) count(m *Memory, r *record) {
	mt.Entries++
	mt.Bytes += r.size()
	if mt.Routes == nil {
		mt.Routes = map[string]int64{}
	}
	mt.Routes[m.words.at(r.slots()[0].word).text[1:]]++
	if len(mt.Sample) < SampleSize {
		mt.Sample = append(mt.Sample, m.decode(r).URL())
	}
}

// Sweep frees what a purge defeated and counts it; the marks are set already, so that
// nothing waits for it. Each entry is counted by the one purge that took it: the same
// purge again counts nothing.
func (m *Memory) Sweep(p tags.Purge) Matched {
	var matched Matched
	if m.lower != nil { // first: what comes up from there meanwhile is found here
		matched = m.lower.Sweep(p)
	}
	drop := p.Mode == tags.Drop
	m.walk(p, drop, func(r *record) {
		switch {
		case r.stamp >= p.Sequence: // its fill began after the purge
		case drop:
			matched.count(m, r)
			m.remove(r, Purged)
		case r.note(softened):
			matched.count(m, r)
		}
	})
	return matched
}

// Preview counts what a purge would take, and changes nothing.
func (m *Memory) Preview(p tags.Purge) Matched {
	var matched Matched
	if m.lower != nil {
		matched = m.lower.Preview(p)
	}
	seen := map[*record]bool{}
	m.walk(p, false, func(r *record) {
		if p.Mode == tags.Soften && r.is(softened) || seen[r] {
			return
		}
		seen[r] = true
		matched.count(m, r)
	})
	return matched
}

// walk visits the entries that a purge names, each under mu. take says that all of them will go:
// then the postings of whole terms are lifted out of the index at once, and removing an entry
// costs less.
func (m *Memory) walk(p tags.Purge, take bool, visit func(*record)) {
	covered := func(r *record) {
		s := m.subjectOf(r)
		if p.One != nil && p.One.Path == s.Path {
			s.Name = m.nameOf(r)
		}
		if p.Covers(&s) {
			visit(r)
		}
	}
	if len(p.Below)+len(p.Hosts)+len(p.Begins) > 0 { // found by looking at all of them; the rest on the way
		for _, route := range m.routes() {
			m.posted(route, covered)
		}
		return
	}
	var whole []string
	for _, route := range p.Routes {
		whole = append(whole, routeTerm(route))
	}
	switch {
	case p.All:
		whole = m.routes()
	case p.Together:
		m.posted(m.fewest(p.Tags), covered)
	case p.Host != "":
		for _, tag := range p.Tags {
			m.posted(tag, covered)
		}
	default:
		whole = append(whole, p.Tags...)
	}
	for _, term := range whole {
		if take {
			m.take(term, visit)
		} else {
			m.posted(term, visit)
		}
	}
	for _, u := range p.URLs {
		m.at(u.Path, covered)
	}
	if p.One != nil {
		m.at(p.One.Path, covered)
	}
}

// nameOf is the name of a record's entry. Under mu.
func (m *Memory) nameOf(r *record) string {
	e := m.reader(r).read(m.epoch)
	e.Failure = r.has(isFailure)
	return e.Name()
}

// routes are the terms that together find every entry.
func (m *Memory) routes() (terms []string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for number := range m.index.routes {
		terms = append(terms, m.words.at(number).text)
	}
	return terms
}

// postings are those of a term. Under mu.
func (m *Memory) postings(term string) postings {
	if number, ok := m.words.known(term); ok {
		return m.words.at(number).posted
	}
	return postings{}
}

// fewest is the term that finds the fewest entries.
func (m *Memory) fewest(terms []string) (least string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	few := math.MaxInt
	for _, term := range terms {
		if posted := m.postings(term); posted.len() < few {
			least, few = term, posted.len()
		}
	}
	return least
}

// Compactable judges every entry, and returns the place in the ledger up to which no
// mark is needed for any of them.
func (m *Memory) Compactable(marks *tags.Marks) tags.Stamp {
	upTo := marks.Stamp()
	if m.lower != nil {
		upTo = min(upTo, m.lower.Swept())
	}
	for _, route := range m.routes() {
		m.posted(route, func(r *record) {
			s := m.subjectOf(r)
			if marks.Singly() {
				s.Name = m.nameOf(r)
			}
			if r.judge(&s, marks) != tags.Dropped { // what is dropped needs no mark to be gone soon
				upTo = min(upTo, r.knownTo(r.stamp))
			}
		})
	}
	return upTo
}

// chunk is how many entries are visited under the lock at a time, and some are dearer than
// others.
const chunk = 64

// take lifts the postings of a term out and visits their entries; those that the visit leaves
// in the store (filled since the purge) are put back.
func (m *Memory) take(term string, visit func(*record)) {
	m.mu.Lock()
	defer m.mu.Unlock()
	number, ok := m.words.hold(term)
	if !ok {
		return
	}
	defer m.words.release(number) // until then it stands for nothing else
	lifted := m.index.lift(number)
	for i := range lifted.len() {
		one := *lifted.at(i)
		if i%chunk == chunk-1 {
			m.yield()
		}
		r := m.index.record(one.place)
		if r == nil || int(one.slot) >= len(r.slots()) || r.slots()[one.slot].word != number {
			continue // it has left, and another one has its place
		}
		visit(r)
		if r.is(resident) && !m.index.isPosted(r, int(one.slot)) {
			m.index.post(r, int(one.slot))
			m.index.noteRoute(r)
		}
	}
}

// yield lets others have mu for a moment.
func (m *Memory) yield() {
	m.mu.Unlock()
	runtime.Gosched()
	m.mu.Lock()
}

// visit visits those of some records that are in the store, under mu, which others may have in
// between.
func (m *Memory) visit(all []*record, visit func(*record)) {
	for len(all) > 0 {
		some := all[:min(chunk, len(all))]
		all = all[len(some):]
		m.mu.Lock()
		for _, r := range some {
			if r.is(resident) {
				visit(r)
			}
		}
		m.mu.Unlock()
	}
}

// posted visits the entries of a term. It walks from the end, since a removal moves the last posting
// into the gap: nothing that stays is skipped, and what moves may be visited twice.
func (m *Memory) posted(term string, visit func(*record)) {
	for from := math.MaxInt; from > 0; {
		m.mu.Lock()
		all := m.postings(term)
		from = min(from, all.len())
		start := max(0, from-chunk)
		var some [chunk]*record
		for i := start; i < from; i++ {
			some[i-start] = m.index.record(all.at(i).place)
		}
		for _, r := range some[:from-start] {
			if r.is(resident) {
				visit(r)
			}
		}
		from = start
		m.mu.Unlock()
	}
}

// at visits the entries of a path, and of those whose hash is the same.
func (m *Memory) at(path string, visit func(*record)) {
	m.mu.Lock()
	var all []*record
	table, tag := m.index.pathOf(path)
	if first, ok := table.first(tag); ok {
		for r := m.index.record(first); ; r = m.index.record(r.next - 1) {
			all = append(all, r)
			if r.next == 0 {
				break
			}
		}
	}
	m.mu.Unlock()
	m.visit(all, visit)
}
