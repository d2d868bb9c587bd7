package store

import "hash/maphash"

// routeTerm is the word that stands for a route, which no tag reads like.
func routeTerm(name string) string { return "\x00" + name }

// index finds entries by their routes, tags and paths. Guarded by Memory.mu.
type index struct {
	words  *words
	places *numbered[place]
	routes map[uint32]struct{} // words of routes that have entries
	paths  [pathTables]table   // by hash of the path, the first of a chain; chains may hold paths of the same hash
	bytes  int64
}

const pathTables = 64

func (ix *index) record(place uint32) *record { return ix.places.at(place).record }

// add makes a record found.
func (ix *index) add(r *record, path string) {
	for i := range r.slots() {
		ix.post(r, i)
	}
	ix.noteRoute(r)
	table, tag := ix.pathOf(path)
	r.next, r.last = 0, 0
	if first, ok := table.first(tag); ok {
		r.next = first + 1
		ix.record(first).last = r.place + 1
		table.replace(tag, first, r.place)
		return
	}
	ix.bytes += table.add(tag, r.place)
}

// noteRoute notes that a record's route has entries.
func (ix *index) noteRoute(r *record) { ix.routes[r.slots()[0].word] = struct{}{} }

func (ix *index) pathOf(path string) (t *table, tag uint32) {
	hash := maphash.String(ix.words.seed, path)
	return &ix.paths[hash%pathTables], uint32(hash >> 32)
}

// post puts a record among the postings of one of its terms.
func (ix *index) post(r *record, slot int) {
	s := &r.slots()[slot]
	one := ix.words.at(s.word)
	s.at = uint32(one.posted.len())
	ix.bytes += one.posted.push(posting{r.place, uint32(slot)})
}

// remove ends that.
func (ix *index) remove(r *record, path string) {
	for i := range r.slots() {
		ix.unpost(r, i)
	}
	table, tag := ix.pathOf(path)
	if r.next > 0 {
		ix.record(r.next - 1).last = r.last
	}
	switch {
	case r.last > 0:
		ix.record(r.last - 1).next = r.next
	case r.next > 0:
		table.replace(tag, r.place, r.next-1)
	default:
		table.remove(tag, r.place)
	}
}

// unpost takes a record out of the postings of one of its terms; the last of them moves into the
// gap. It may not be there: a purge took them all.
func (ix *index) unpost(r *record, slot int) {
	if !ix.isPosted(r, slot) {
		return
	}
	s := r.slots()[slot]
	posted := &ix.words.at(s.word).posted
	moved := *posted.at(posted.len() - 1)
	*posted.at(int(s.at)) = moved
	ix.record(moved.place).slots()[moved.slot].at = s.at
	if ix.bytes -= posted.pop(); posted.len() == 0 {
		delete(ix.routes, s.word)
	}
}

func (ix *index) isPosted(r *record, slot int) bool {
	s := r.slots()[slot]
	posted := &ix.words.at(s.word).posted
	return int(s.at) < posted.len() && *posted.at(int(s.at)) == posting{r.place, uint32(slot)}
}

// lift takes all postings of a word out.
func (ix *index) lift(number uint32) postings {
	one := ix.words.at(number)
	posted := one.posted
	ix.bytes -= posted.bytes()
	one.posted = postings{}
	delete(ix.routes, number)
	return posted
}

// memory is how many bytes the index takes, words apart.
func (ix *index) memory() int64 { return ix.bytes + int64(len(ix.routes))*16 }
