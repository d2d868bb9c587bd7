package store

// term is what entries are found by besides their key.
type term struct {
	kind byte // byTag, byRoute or byPath
	name string
}

const (
	byTag   = 't'
	byRoute = 'r'
	byPath  = 'p'
)

// postings are the entries of one term. A purge may take all of a term out of the
// index in one step; the entries in it then belong to whoever took it.
type postings struct {
	term     term
	entries  []*Entry
	detached bool
}

// posting is an entry's place among the postings of a term.
type posting struct {
	of *postings
	at int
}

// index finds entries by term. Guarded by Memory.mu.
type index map[term]*postings

func (ix index) add(e *Entry) {
	e.postings = make([]posting, 0, len(e.Subject.Tags)+2)
	for _, tag := range e.Subject.Tags {
		ix.join(e, term{byTag, tag})
	}
	ix.join(e, term{byRoute, e.Subject.Route})
	ix.join(e, term{byPath, e.Subject.Path})
}

func (ix index) join(e *Entry, l term) {
	g := ix[l]
	if g == nil {
		g = &postings{term: l}
		ix[l] = g
	}
	for _, s := range e.postings {
		if s.of == g {
			return // the same tag twice
		}
	}
	e.postings = append(e.postings, posting{g, len(g.entries)})
	g.entries = append(g.entries, e)
}

func (ix index) remove(e *Entry) {
	for _, s := range e.postings {
		g := s.of
		if g.detached {
			continue
		}
		last := g.entries[len(g.entries)-1]
		g.entries[s.at] = last
		for i := range last.postings {
			if last.postings[i].of == g {
				last.postings[i].at = s.at
			}
		}
		g.entries[len(g.entries)-1] = nil
		g.entries = g.entries[:len(g.entries)-1]
		if len(g.entries) == 0 {
			delete(ix, g.term)
		}
	}
	e.postings = nil
}

// detach takes the postings of a term out; nil if there are none.
func (ix index) detach(l term) *postings {
	g := ix[l]
	if g != nil {
		g.detached = true
		delete(ix, l)
	}
	return g
}
