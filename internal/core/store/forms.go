package store

import (
	"bytes"
	"hash/maphash"
	"slices"
	"strconv"
	"time"
	"weak"

	"gerastic/internal/core/httprules"
)

// pause is how many visitors who would like a form get another one after there was no room for
// it, before it is made again.
const pause = 16

// indexOf is which of the codings one is.
func indexOf(c httprules.Coding) int { return slices.Index(httprules.Codings[:], c) }

// Wants reports whether a form is to be made now, for a visitor who would like it. Whoever is told
// so must say what became of it: AddEncoded, NotEncoded or Useless.
func (e *Entry) Wants(c httprules.Coding) bool {
	s, i := e.state(), indexOf(c)
	for e.kept.Load() != nil {
		notes := s.notes.Load()
		next := notes | making<<i
		switch {
		case notes&((making|useless)<<i) != 0:
			return false
		case notes >= resting:
			next = notes - resting
		}
		if s.notes.CompareAndSwap(notes, next) {
			return notes < resting
		}
	}
	return false
}

// NotEncoded notes that a form was not made.
func (e *Entry) NotEncoded(c httprules.Coding) { e.state().notes.And(^uint32(making << indexOf(c))) }

// Useless notes that a form would not gain.
func (e *Entry) Useless(c httprules.Coding) {
	e.state().note(useless << indexOf(c))
	e.NotEncoded(c)
}

// Ref names a stored answer without holding it.
type Ref struct{ weak.Pointer[record] }

// Ref returns the name of an entry that is in a store.
func (e *Entry) Ref() Ref { return Ref{weak.Make(e.kept.Load())} }

// Get returns the entry of a name; nil if it has left.
func (m *Memory) Get(ref Ref) *Entry {
	r := ref.Value()
	if r == nil {
		return nil
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if !r.is(resident) {
		return nil
	}
	return m.decode(r)
}

// successor is the record that has taken the place of an entry that left, with the same body; nil
// if there is none. Under mu.
func (m *Memory) successor(e *Entry) *record {
	for _, v := range m.under(maphash.String(m.seed, e.Key), []byte(e.Key)) {
		if v.has(isFailure) == e.Failure && v.is(e.Vary, e.Encodings) && bytes.Equal(bodyOf(m.places.at(v.place)), e.Body) {
			return v.record
		}
	}
	return nil
}

// AddEncoded gives a stored entry another form, which took so long to make, if there is room for
// it. It is kept by its own worth, as long as its entry is there. If another one with the same body
// has taken the entry's place, it is given the form.
func (m *Memory) AddEncoded(e *Entry, c httprules.Coding, body []byte, took time.Duration) bool {
	defer e.NotEncoded(c)
	base := e.kept.Load()
	if base == nil || len(body) == 0 {
		return false
	}
	form := m.form(base, c, body, took)
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.makeRoomWithin(e.Bound, form.size()) || !m.makeRoom(form.size()) {
		base.note(pause * resting)
		return false
	}
	if !base.is(resident) {
		if base = m.successor(e); base == nil {
			return false
		}
	}
	if m.formOf(base, form.which) != nil {
		return false
	}
	form.place, form.last = m.places.take(), base.place
	*m.places.at(form.place) = place{record: form}
	if form.has(isApart) {
		m.places.at(form.place).body = &body[0]
	}
	form.note(resident)
	s := &m.shards[base.shard]
	s.mu.Lock()
	form.next, base.forms = base.forms, form.place+1
	if e.kept.Load() == base {
		m.attach(e, form)
	}
	m.attach(m.ready.find(base), form)
	s.mu.Unlock()
	m.policy.Add(form.place, base.tag^uint32(form.which+1)*0x9E3779B9, form.size()+structureOf, took)
	m.used.Add(form.size())
	m.bounded(base, form.size())
	return true
}

// form makes the record of a coded form.
func (m *Memory) form(base *record, c httprules.Coding, body []byte, took time.Duration) *record {
	s := shape{body: len(body)}
	if s.body > apartFrom {
		s.body = 0
	}
	r := newRecord(s)
	r.traits, r.body, r.stamp, r.which = isForm, uint32(len(body)), base.stamp, uint8(indexOf(c))
	r.costs(took)
	if s.body < len(body) {
		r.traits |= isApart
	} else {
		copy(r.inline(), body)
	}
	return r
}

// attach gives an entry a form that its record has.
func (m *Memory) attach(e *Entry, form *record) {
	if e != nil {
		e.coded[form.which].Store(e.encode(httprules.Codings[form.which], m.places.at(form.place)))
	}
}

// removeForm takes a form from its entry.
func (m *Memory) removeForm(form *record) {
	base := m.places.at(form.last).record
	s := &m.shards[base.shard]
	s.mu.Lock()
	for at := &base.forms; *at > 0; at = &m.places.at(*at - 1).record.next {
		if *at == form.place+1 {
			*at = form.next
			break
		}
	}
	base.note(pause * resting)
	if e := m.ready.find(base); e != nil {
		e.coded[form.which].Store(nil)
	}
	s.mu.Unlock()
	m.freeForm(form)
}

// freeForm ends the accounts of a form.
func (m *Memory) freeForm(form *record) {
	m.bounded(m.places.at(form.last).record, -form.size())
	form.notes.And(^uint32(resident))
	form.note(removed)
	m.policy.Remove(form.place)
	m.used.Add(-form.size())
	m.leave(form)
	m.places.give(form.place)
}

// inherit gives an entry the forms of one whose place it takes, if it has the same body. Under mu.
func (m *Memory) inherit(e *Entry, from *record) {
	r := e.kept.Load()
	if r.body != from.body || r.has(isApart) != from.has(isApart) {
		return
	}
	body, before := m.places.at(r.place), m.places.at(from.place)
	if body.body != before.body || !r.has(isApart) && !bytes.Equal(r.inline(), from.inline()) {
		return
	}
	r.forms, from.forms = from.forms, r.forms
	r.note(from.notes.Load() & (useless<<len(httprules.Codings) - useless))
	m.eachForm(r, func(form *record) {
		form.last = r.place
		m.attach(e, form)
	})
}

// eachForm visits the coded forms of a record. Under its shard's lock, or mu.
func (m *Memory) eachForm(r *record, visit func(form *record)) {
	for at := r.forms; at > 0; {
		form := m.places.at(at - 1).record
		at = form.next
		visit(form)
	}
}

// formOf is a record's form in a coding; nil if there is none. Under its shard's lock, or mu.
func (m *Memory) formOf(r *record, which uint8) (found *record) {
	m.eachForm(r, func(form *record) {
		if form.which == which {
			found = form
		}
	})
	return found
}

// encode is the entry in the coding of a form.
func (e *Entry) encode(c httprules.Coding, at *place) *Encoded {
	form := at.record
	f := &Encoded{Coding: c, Body: bodyOf(at), kept: form, Header: httprules.Header{"Etag": nil, "Last-Modified": e.Header["Last-Modified"], "Date": e.Header["Date"]}}
	for _, l := range e.plain.Lines {
		switch l.Name {
		case "Content-Length":
			l.Values = []string{strconv.Itoa(len(f.Body))}
		case "Content-Digest", "Repr-Digest", "Digest", "Content-Md5":
			continue // of other bytes (RFC 9530 §2, §3)
		case "Etag":
			l.Values = []string{httprules.CodedTag(l.Values[0], c)}
			f.Header["Etag"] = l.Values
		}
		f.Lines = append(f.Lines, l)
	}
	f.Lines = append(f.Lines, Line{"Content-Encoding", []string{string(c)}})
	return f
}
