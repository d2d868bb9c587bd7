package store

import (
	"hash/maphash"
	"slices"
	"time"

	"gerastic/internal/core/httprules"
)

// Found is what a key holds for a request.
type Found struct {
	Entry    *Entry // that answers it; nil: none does
	Failure  *Entry // of its origin, stored since Entry was; nil: there is none, or it is Entry itself
	Variants int    // under the key
}

// variant is what tells a record from others under its key.
type variant struct {
	*record
	vary      []httprules.Varying
	encodings []string
}

// fill is when a record's fill began, to be compared with that of other records only.
func (r *record) fill() Fill { return Fill{r.stamp, time.Unix(0, r.began)} }

// Find returns how many entries a key has and the one among them that answers the request: the
// newest whose Vary matches, else the newest without one (RFC 9111 §4.1). What the tier below has
// comes up for that, if memory has no answer. The hash only finds the place; the whole key is
// compared.
func (m *Memory) Find(canonical []byte, request httprules.Fields) Found {
	return m.find(canonical, request, needBody)
}

// FindFar is Find for somebody who can do with an entry that is Far.
func (m *Memory) FindFar(canonical []byte, request httprules.Fields) Found {
	return m.find(canonical, request, needAny)
}

// mostRaises is how often a key is raised for one request, since what comes up may give way to others before it
// is found.
const mostRaises = 3

func (m *Memory) find(canonical []byte, request httprules.Fields, need need) Found {
	f := m.findHere(canonical, request)
	if f.Entry != nil && !f.Entry.Failure {
		return f
	}
	for range mostRaises {
		passing, came := m.raise(canonical, need)
		if came {
			f = m.findHere(canonical, request)
		}
		if passing != nil && f.Variants == 0 {
			if f.Variants = 1; httprules.Accepts(request, passing.Encodings) && httprules.Matches(passing.Vary, request) {
				f.Entry = passing
			}
		}
		if !came || f.Variants > 0 {
			break
		}
	}
	return f
}

func (m *Memory) findHere(canonical []byte, request httprules.Fields) (f Found) {
	hash := maphash.Bytes(m.seed, canonical)
	s := m.shard(hash)
	s.mu.RLock()
	defer s.mu.RUnlock()
	var room [2]*record
	there := m.records(room[:0], s, tagOf(hash), canonical)
	if f.Variants = len(there); f.Variants == 1 {
		if e := m.entry(there[0]); httprules.Accepts(request, e.Encodings) && httprules.Matches(e.Vary, request) {
			f.Entry = e
		}
		return f
	}
	m.choose(&f, there, request)
	return f
}

// records are those under a key, newest first. Under the shard's lock, or mu.
func (m *Memory) records(there []*record, s *shard, tag uint32, canonical []byte) []*record {
	t := &s.table
	if t.count == 0 {
		return nil
	}
	for i := t.at(tag); t.cells[i].name > 0; i = (i + 1) & (len(t.cells) - 1) {
		if c := t.cells[i]; c.tag == tag {
			if r := m.places.at(c.name - 1).record; m.has(r, canonical) {
				there = append(there, r)
			}
		}
	}
	if len(there) > 1 {
		slices.SortStableFunc(there, func(a, b *record) int {
			switch {
			case b.fill().Before(a.fill()):
				return -1
			case a.fill().Before(b.fill()):
				return 1
			}
			return 0
		})
	}
	return there
}

// choose takes what answers a request from several records.
func (m *Memory) choose(f *Found, there []*record, request httprules.Fields) {
	var good, failed []variant
	for _, v := range m.variants(there) {
		if v.has(isFailure) {
			failed = append(failed, v)
		} else {
			good = append(good, v)
		}
	}
	best, failure := choose(good, request), choose(failed, request)
	switch {
	case best == nil && failure != nil:
		f.Entry = m.entry(failure)
	case best != nil:
		f.Entry = m.entry(best)
		if failure != nil && !failure.fill().Before(best.fill()) {
			f.Failure = m.entry(failure)
		}
	}
}

// variants reads what tells records apart.
func (m *Memory) variants(there []*record) []variant {
	all := make([]variant, len(there))
	for i, r := range there {
		all[i].record = r
		reader := m.reader(r)
		reader.skipKey()
		all[i].vary, all[i].encodings = reader.variant()
	}
	return all
}

// under is what there is under a key. Under mu.
func (m *Memory) under(hash uint64, canonical []byte) []variant {
	return m.variants(m.records(nil, m.shard(hash), tagOf(hash), canonical))
}

// choose takes the variant that answers a request, whose codings it accepts: the newest that
// says what it depends on, else the newest that does not (RFC 9111 §4.1). The latter is no
// answer to a request that says something where a newer one is known to depend on it.
func choose(variants []variant, request httprules.Fields) (plain *record) {
	for i, v := range variants {
		switch {
		case !httprules.Accepts(request, v.encodings) || !httprules.Matches(v.vary, request):
		case len(v.vary) > 0:
			return v.record
		case plain == nil && !depends(variants[:i], request):
			plain = v.record
		}
	}
	return plain
}

// depends reports whether one of the variants depends on something that a request says,
// codings apart.
func depends(variants []variant, request httprules.Fields) bool {
	for _, other := range variants {
		for _, v := range other.vary {
			if v.Name != "Accept-Encoding" && len(request.Lines(v.Name)) > 0 {
				return true
			}
		}
	}
	return false
}

// Variants returns all entries under a key, newest first, and the failures behind them.
func (m *Memory) Variants(canonical []byte) (all []*Entry) {
	if passing, came := m.raise(canonical, needBody); passing != nil && !came {
		all = append(all, passing)
	}
	hash := maphash.Bytes(m.seed, canonical)
	s := m.shard(hash)
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, r := range m.records(nil, s, tagOf(hash), canonical) {
		all = append(all, m.entry(r))
	}
	slices.SortStableFunc(all, func(a, b *Entry) int { return ordinal(a.Failure) - ordinal(b.Failure) })
	return all
}

func ordinal(b bool) int {
	if b {
		return 1
	}
	return 0
}

// displaced are those under a key that go when e comes, and why: what answers the same requests,
// failures of its origin that is well again, and the oldest where there are too many.
func displaced(there []variant, e *Entry) (gone []*record, why []Removal) {
	beside, oldest := 0, (*record)(nil)
	for _, v := range there {
		switch same := v.has(isFailure) == e.Failure; {
		case same && v.is(e.Vary, e.Encodings), !same && !e.Failure && v.overlaps(e):
			gone, why = append(gone, v.record), append(why, Replaced)
		case same:
			beside, oldest = beside+1, v.record
		}
	}
	if beside >= MaxVariants {
		gone, why = append(gone, oldest), append(why, Crowded)
	}
	return gone, why
}

// overtakes reports whether a fill that began after that of e, which is fill, has stored what may answer the
// same requests: nothing goes back in time.
func overtakes(there []variant, e *Entry, fill Fill) bool {
	return slices.ContainsFunc(there, func(v variant) bool {
		return (e.Failure || !v.has(isFailure)) && fill.Before(v.fill()) && v.overlaps(e)
	})
}

// overlaps reports whether there may be requests that either of two answers: nothing that both
// depend on tells them apart.
func (v *variant) overlaps(e *Entry) bool {
	if !slices.Equal(v.encodings, e.Encodings) {
		return false
	}
	for _, a := range v.vary {
		for _, b := range e.Vary {
			if a.Name == b.Name && a != b {
				return false
			}
		}
	}
	return true
}

// is reports whether it answers the same requests as something that depends on these.
func (v *variant) is(vary []httprules.Varying, encodings []string) bool {
	return slices.Equal(v.vary, vary) && slices.Equal(v.encodings, encodings)
}

// sameVariant reports whether two entries answer the same requests.
func sameVariant(a, b *Entry) bool {
	return slices.Equal(a.Vary, b.Vary) && slices.Equal(a.Encodings, b.Encodings)
}
