package store

import (
	"bytes"
	"math"
	"slices"
	"time"
	"unsafe"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/tags"
)

// record makes the record of an entry, and takes its words.
func (m *Memory) record(e *Entry) *record {
	w := m.scratch.Get().(*writer)
	defer m.scratch.Put(w)
	terms := m.write(w, e)
	s := shape{terms: len(terms), words: len(w.taken), meta: len(w.bytes), body: len(e.Body)}
	if s.body > apartFrom {
		s.body = 0
	}
	r := newRecord(s)
	for i, number := range terms {
		r.slots()[i] = slot{number, nowhere}
	}
	copy(r.held(), w.taken)
	copy(r.known(), w.bytes)
	r.body, r.stamp, r.began = uint32(len(e.Body)), e.Fill.Stamp, int64(since(e.Fill.Began, m.epoch))
	if e.Idle > 0 {
		r.idle = uint32(min((e.Idle+time.Second-1)/time.Second, math.MaxUint32))
	}
	if s.body < len(e.Body) {
		r.traits |= isApart
		if allocated(cap(e.Body)) > allocated(len(e.Body)) {
			e.Body = bytes.Clone(e.Body)[:len(e.Body):len(e.Body)]
		}
	} else {
		copy(r.inline(), e.Body)
	}
	if e.Failure {
		r.traits |= isFailure
	}
	if e.Bound.Name != "" {
		r.traits |= isBounded
	}
	return r
}

// write puts down what is known of an entry, and takes the words for it and for its terms.
func (m *Memory) write(w *writer, e *Entry) (terms []uint32) {
	w.bytes, w.taken = w.bytes[:0], w.taken[:0]
	terms = make([]uint32, 1, 1+len(e.Subject.Tags))
	m.words.mu.Lock()
	defer m.words.mu.Unlock()
	w.write(e, m.epoch)
	terms[0] = m.words.make(routeTerm(e.Subject.Route))
	for _, tag := range e.Subject.Tags {
		terms = append(terms, m.words.make(tag))
	}
	if e.Bound.Name != "" {
		terms = append(terms, m.words.make(boundTerm(e.Bound.Name)))
	}
	return terms
}

// dropWords ends the use of a record's words.
func (m *Memory) dropWords(r *record) {
	m.words.mu.Lock()
	defer m.words.mu.Unlock()
	for _, s := range r.slots() {
		m.words.drop(s.word)
	}
	for _, number := range r.held() {
		m.words.drop(number)
	}
}

// reader reads a record that is in the store. Under its shard's lock, or mu.
func (m *Memory) reader(r *record) *reader {
	return &reader{bytes: r.known(), words: &m.words, taken: r.held()}
}

// entry is a record's entry: the one that is kept ready, or a new one, which is kept ready from
// now on. Under the lock of its shard, or mu.
func (m *Memory) entry(r *record) *Entry {
	if e := m.ready.find(r); e != nil {
		return e
	}
	e := m.decode(r)
	m.ready.keep(e)
	return e
}

// decode makes the entry of a record. It shares the record's memory. Under the lock of its shard,
// or mu.
func (m *Memory) decode(r *record) *Entry {
	e := m.decodeAt(r, bodyOf(m.places.at(r.place)))
	m.eachForm(r, func(form *record) { m.attach(e, form) })
	return e
}

// decodeAt makes the entry of a record that holds its words, but for its coded forms.
func (m *Memory) decodeAt(r *record, body []byte) *Entry {
	e := m.reader(r).read(m.epoch)
	e.kept.Store(r)
	e.Failure = r.has(isFailure)
	e.Fill = Fill{Stamp: r.stamp, Began: after(m.epoch, time.Duration(r.began))}
	m.terms(r, &e.Subject)
	e.Body = body
	if e.Skeleton != nil {
		e.Skeleton, _ = compose.Parse(e.Body) // it was in order when it was stored
	}
	e.Prepare()
	return e
}

// bodyOf is the body of the record at a place, which nobody may change.
func bodyOf(at *place) []byte {
	r := at.record
	if r.has(isApart) {
		return unsafe.Slice(at.body, r.body)
	}
	return slices.Clip(r.inline())
}

// subjectOf is what a purge may name of a record. Under the lock of its shard, or mu.
func (m *Memory) subjectOf(r *record) (s tags.Subject) {
	reader := m.reader(r)
	reader.skipKey()
	reader.variant()
	reader.subject(&s)
	m.terms(r, &s)
	return s
}

// pathOf is a record's path. Under the lock of its shard, or mu.
func (m *Memory) pathOf(r *record) string {
	reader := reader{bytes: r.known(), words: &m.words, taken: r.held()}
	reader.skipKey()
	reader.variant()
	reader.text()
	return reader.text()
}

// terms reads a record's route and tags.
func (m *Memory) terms(r *record, s *tags.Subject) {
	slots := r.slots()
	if r.has(isBounded) {
		slots = slots[:len(slots)-1]
	}
	s.Stamp, s.Route = r.stamp, m.words.at(slots[0].word).text[1:]
	if len(slots) > 1 {
		s.Tags = make([]string, len(slots)-1)
		for i := range s.Tags {
			s.Tags[i] = m.words.at(slots[i+1].word).text // where it stands among the postings may change meanwhile
		}
	}
}
