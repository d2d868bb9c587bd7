package store

import (
	"bytes"
	"hash/maphash"
	"strconv"
	"time"
	"weak"

	"gerastic/internal/core/httprules"
)

// pause is how many visitors who would like a form get another one after there was no room for
// it, before it is made again.
const pause = 16

// bit stands for a coding in state.coding; those that do not gain are noted behind these.
func bit(c httprules.Coding) (making, useless uint32) {
	for i, known := range httprules.Codings {
		if known == c {
			return 1 << i, 1 << (i + len(httprules.Codings))
		}
	}
	return 0, 0
}

// Wants reports whether a form is to be made now, for a visitor who would like it. Whoever is told
// so must say what became of it: AddEncoded, NotEncoded or Useless.
func (e *Entry) Wants(c httprules.Coding) bool {
	making, useless := bit(c)
	s := e.state()
	if e.kept.Load() == nil || s.coding.Load()&(making|useless) != 0 {
		return false
	}
	if s.rest.Load() > 0 {
		s.rest.Add(-1)
		return false
	}
	return s.coding.Or(making)&making == 0
}

// NotEncoded notes that a form was not made.
func (e *Entry) NotEncoded(c httprules.Coding) {
	making, _ := bit(c)
	e.state().coding.And(^making)
}

// Useless notes that a form would not gain.
func (e *Entry) Useless(c httprules.Coding) {
	_, useless := bit(c)
	e.state().coding.Or(useless)
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
	if !r.has(isResident) {
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
	if !m.makeRoom(form.size) {
		base.rest.Store(pause)
		return false
	}
	if !base.has(isResident) {
		if base = m.successor(e); base == nil {
			return false
		}
	}
	if base.forms[form.which] > 0 {
		return false
	}
	form.place, form.of = m.places.take(), base.place
	*m.places.at(form.place) = place{record: form}
	if form.has(isApart) {
		m.places.at(form.place).body = &body[0]
	}
	form.traits |= isResident
	hash := m.hash(base)
	s := m.shard(hash)
	s.mu.Lock()
	base.forms[form.which] = form.place + 1
	if e.kept.Load() == base {
		m.attach(e, form)
	}
	m.attach(m.ready.find(base), form)
	s.mu.Unlock()
	m.policy.Add(form.place, hash^uint64(form.which+1)*0x9E3779B97F4A7C15, form.size+structureOf, took)
	m.used.Add(form.size)
	return true
}

// form makes the record of a coded form.
func (m *Memory) form(base *record, c httprules.Coding, body []byte, took time.Duration) *record {
	s := shape{body: len(body)}
	if s.body > apartFrom {
		s.body = 0
	}
	r := newRecord(s)
	r.traits, r.body, r.size, r.stamp = isForm, int64(len(body)), allocated(s.bytes()), base.stamp
	r.cost.Store(int64(took))
	for i, known := range httprules.Codings {
		if known == c {
			r.which = uint8(i)
		}
	}
	if s.body < len(body) {
		r.traits |= isApart
		r.size += allocated(cap(body))
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
	base := m.places.at(form.of).record
	s := m.shard(m.hash(base))
	s.mu.Lock()
	base.forms[form.which] = 0
	base.rest.Store(pause)
	if e := m.ready.find(base); e != nil {
		e.coded[form.which].Store(nil)
	}
	s.mu.Unlock()
	m.freeForm(form)
	m.removed[Evicted].Add(1)
}

// freeForm ends the accounts of a form.
func (m *Memory) freeForm(form *record) {
	form.traits &^= isResident
	form.state.mark(removed)
	m.policy.Remove(form.place)
	m.used.Add(-form.size)
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
	r.coding.Store(from.coding.Load() &^ (1<<len(httprules.Codings) - 1))
	for _, form := range r.forms {
		if form > 0 {
			m.places.at(form - 1).record.of = r.place
			m.attach(e, m.places.at(form-1).record)
		}
	}
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
