package disk

import (
	"slices"
	"sync"

	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// sweeps carry out together the purges that come together: all of them in one pass over what is
// known of the segments.
type sweeps struct {
	mu      sync.Mutex
	running bool
	next    []*sweeping
}

// sweeping is a purge that somebody waits for.
type sweeping struct {
	tags.Purge
	preview bool // nothing is taken out
	counts  bool // nobody wants a sample
	visit   func(*store.Image, store.Spot)
	terms   []uint64 // that find what it names; nil: all must be looked at
	exact   bool     // what has one of the terms is named
	matched store.Matched
	done    chan struct{}
}

// everLater is the place in the ledger of what is not in it: it concerns all there is.
const everLater = ^tags.Stamp(0)

// Sweep implements store.Lower.
func (t *Tier) Sweep(p tags.Purge) store.Matched {
	if p.Sequence == everLater {
		t.forgets.Add(1)
		defer t.forgets.Add(1)
		if p.All && p.Mode == tags.Drop {
			defer t.swept.Store(0) // there is nothing, and the ledger may have been set back
		}
	}
	return t.sweep(&sweeping{Purge: p})
}

// Preview implements store.Lower.
func (t *Tier) Preview(p tags.Purge) store.Matched {
	return t.sweep(&sweeping{Purge: p, preview: true})
}

// sweep waits until a purge was carried out, by itself or by another who sweeps.
func (t *Tier) sweep(s *sweeping) store.Matched {
	if t.isOff() {
		return store.Matched{}
	}
	t.prepare(s)
	if s.preview { // nobody who purges waits for it
		t.pass([]*sweeping{s})
		return s.matched
	}
	s.done = make(chan struct{})
	q := &t.sweeps
	q.mu.Lock()
	q.next = append(q.next, s)
	leads := !q.running
	q.running = true
	q.mu.Unlock()
	for leads {
		q.mu.Lock()
		some := q.next
		q.next = nil
		q.running = len(some) > 0
		q.mu.Unlock()
		if len(some) == 0 {
			break
		}
		t.pass(some)
		for _, one := range some {
			close(one.done)
		}
	}
	<-s.done
	return s.matched
}

// prepare finds out how to find what a purge names.
func (t *Tier) prepare(s *sweeping) {
	p := &s.Purge
	if p.All || len(p.Below)+len(p.Begins) > 0 {
		s.exact = p.All
		return
	}
	s.terms = []uint64{}
	add := func(kind byte, names []string) {
		for _, name := range names {
			s.terms = append(s.terms, t.digest(kind, []byte(name)))
		}
	}
	if p.Together && len(p.Tags) > 0 {
		add('t', p.Tags[:1])
	} else {
		add('t', p.Tags)
	}
	if p.One != nil {
		add('p', []string{p.One.Path})
	}
	add('r', p.Routes)
	add('h', p.Hosts)
	for _, u := range p.URLs {
		add('p', []string{u.Path})
	}
	s.exact = len(p.URLs) == 0 && p.One == nil && !p.Together && p.Host == "" && !slices.ContainsFunc(p.Tags, func(tag string) bool { return tag == "" })
}

// pass looks through all segments once.
func (t *Tier) pass(all []*sweeping) {
	t.segmentsMu.RLock()
	segments := make([]*segment, 0, len(t.segments))
	for _, s := range t.segments {
		segments = append(segments, s)
	}
	t.segmentsMu.RUnlock()
	var tail tailReader
	for _, s := range segments {
		if err := t.passSegment(s, &tail, all); err != nil {
			t.failed(&t.failedReads, "reading", err)
			t.writing.Lock()
			if s != t.head { // what purges name in it cannot be told
				t.drop(s, store.Broken)
			}
			t.writing.Unlock()
		}
	}
	t.dropDead(segments)
	t.commit(false)
}

// dropDead lets segments go of which nothing is left, without a note of each that was in them.
func (t *Tier) dropDead(segments []*segment) {
	t.writing.Lock()
	defer t.writing.Unlock()
	for _, s := range segments {
		if s != t.head && s.live.Load() == 0 && t.segment(s.number) == s && !t.isOff() {
			t.drop(s, store.Purged)
		}
	}
	t.log.forget(func(segment uint32) bool { return t.segment(segment) == nil })
}

// mayBeIn reports whether something that a purge names may be in a segment.
func (s *sweeping) mayBeIn(f filter) bool {
	return s.terms == nil || slices.ContainsFunc(s.terms, f.has)
}

func (t *Tier) passSegment(s *segment, tail *tailReader, all []*sweeping) (err error) {
	s.mu.RLock()
	switch {
	case s.file == nil:
		s.mu.RUnlock()
		return nil
	case s.sealed && !slices.ContainsFunc(all, func(one *sweeping) bool { return one.mayBeIn(s.filter) }):
		s.mu.RUnlock()
		return nil
	case s.sealed:
		err = tail.read(s.file, s.size.Load())
	default:
		tail.rows, tail.terms = append(tail.rows[:0], s.known.rows...), append(tail.terms[:0], s.known.terms...)
		tail.routes = slices.Clone(s.known.routes)
		tail.sort()
	}
	s.mu.RUnlock()
	if err != nil {
		return err
	}
	for _, one := range all {
		t.passOne(s, &tail.contents, one)
	}
	return nil
}

func (t *Tier) passOne(s *segment, c *contents, one *sweeping) {
	if one.terms == nil {
		for i := range c.rows {
			t.passRow(s, c, &c.rows[i], one)
		}
		return
	}
	for _, term := range one.terms {
		c.carrying(term, func(r *row) { t.passRow(s, c, r, one) })
	}
}

// passRow purges one record, if the purge names it.
func (t *Tier) passRow(s *segment, c *contents, r *row, one *sweeping) {
	if !one.preview && r.known >= one.Sequence || !t.isThere(s, r) {
		return
	}
	if !one.exact {
		h, front, err := s.readFront(r.at, r.units)
		var subject tags.Subject
		if err == nil {
			i := h.image(front, nil, s.epoch)
			subject, err = i.Subject()
		}
		if err != nil { // whether the purge names it cannot be told
			t.failed(&t.failedReads, "reading", err)
			t.purge(r.hash, s.number, r.at, true)
			return
		}
		if !one.Covers(&subject) {
			return
		}
	}
	if one.visit != nil {
		t.show(s, r, one)
		return
	}
	if one.preview {
		if t.isWanted(s, r, one.Mode) {
			t.counted(s, c, r, one)
		}
		return
	}
	if t.purge(r.hash, s.number, r.at, one.Mode == tags.Drop) {
		t.counted(s, c, r, one)
	}
}

// show has somebody see a record that memory does not have.
func (t *Tier) show(s *segment, r *row, one *sweeping) {
	sh, tag := t.index.of(r.hash)
	sh.mu.RLock()
	c := sh.at(tag, s.number, r.at)
	wanted := c != nil && c.notes&above == 0
	soft := wanted && c.notes&softened != 0
	sh.mu.RUnlock()
	if !wanted {
		return
	}
	if h, front, err := s.readFront(r.at, r.units); err == nil {
		i := h.image(front, nil, s.epoch)
		i.Softened, i.Length = soft, int64(h.body)
		one.visit(&i, store.Spot{Segment: s.number, At: r.at, Bytes: int64(r.units) * unit})
	}
}

// isThere reports whether a record has not left.
func (t *Tier) isThere(s *segment, r *row) bool {
	sh, tag := t.index.of(r.hash)
	sh.mu.RLock()
	defer sh.mu.RUnlock()
	return sh.at(tag, s.number, r.at) != nil
}

// isWanted reports whether a purge of a mode would count a record.
func (t *Tier) isWanted(s *segment, r *row, mode tags.Mode) bool {
	sh, tag := t.index.of(r.hash)
	sh.mu.RLock()
	defer sh.mu.RUnlock()
	c := sh.at(tag, s.number, r.at)
	return c != nil && c.notes&above == 0 && (mode == tags.Drop || c.notes&softened == 0)
}

// counted counts a record for a purge.
func (t *Tier) counted(s *segment, c *contents, r *row, one *sweeping) {
	m := &one.matched
	m.Entries++
	m.Bytes += int64(r.units) * unit
	if m.Routes == nil {
		m.Routes = map[string]int64{}
	}
	if int(r.route) < len(c.routes) {
		m.Routes[c.routes[r.route]]++
	}
	if len(m.Sample) < store.SampleSize && !one.counts {
		if h, front, err := s.readFront(r.at, r.units); err == nil {
			i := h.image(front, nil, s.epoch)
			if url, err := i.URL(); err == nil {
				m.Sample = append(m.Sample, url)
			}
		}
	}
}
