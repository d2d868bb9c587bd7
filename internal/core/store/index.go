package store

// label is what entries are found by besides their key.
type label struct {
	kind byte // 't' a tag, 'r' a route, 'p' a path
	name string
}

const (
	byTag   = 't'
	byRoute = 'r'
	byPath  = 'p'
)

// group holds the entries under one label. A purge may take a whole group out of the
// index in one step; the entries in it then belong to whoever took it.
type group struct {
	label    label
	entries  []*Entry
	detached bool
}

// slot is an entry's place in a group.
type slot struct {
	group *group
	at    int
}

// index finds entries by label. Guarded by Memory.mu.
type index map[label]*group

func (ix index) add(e *Entry) {
	e.slots = make([]slot, 0, len(e.Subject.Tags)+2)
	for _, tag := range e.Subject.Tags {
		ix.join(e, label{byTag, tag})
	}
	ix.join(e, label{byRoute, e.Subject.Route})
	ix.join(e, label{byPath, e.Subject.Path})
}

func (ix index) join(e *Entry, l label) {
	g := ix[l]
	if g == nil {
		g = &group{label: l}
		ix[l] = g
	}
	for _, s := range e.slots {
		if s.group == g {
			return // the same tag twice
		}
	}
	e.slots = append(e.slots, slot{g, len(g.entries)})
	g.entries = append(g.entries, e)
}

func (ix index) remove(e *Entry) {
	for _, s := range e.slots {
		g := s.group
		if g.detached {
			continue
		}
		last := g.entries[len(g.entries)-1]
		g.entries[s.at] = last
		for i := range last.slots {
			if last.slots[i].group == g {
				last.slots[i].at = s.at
			}
		}
		g.entries[len(g.entries)-1] = nil
		g.entries = g.entries[:len(g.entries)-1]
		if len(g.entries) == 0 {
			delete(ix, g.label)
		}
	}
	e.slots = nil
}

// detach takes a group out; nil if there is none.
func (ix index) detach(l label) *group {
	g := ix[l]
	if g != nil {
		g.detached = true
		delete(ix, l)
	}
	return g
}
