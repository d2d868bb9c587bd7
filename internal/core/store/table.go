package store

// cell is one of a table: part of a hash, and what stands there.
type cell struct {
	tag  uint32
	name uint32 // + 1; 0: nothing
}

// table finds small numbers by part of a hash; one part may stand for several. It is an
// open-addressed table with linear probing, without pointers.
type table struct {
	cells []cell
	count int
}

const cellBytes = 8

// at is the cell where looking for a tag begins.
func (t *table) at(tag uint32) int { return int(tag) & (len(t.cells) - 1) }

// add puts a number in; it returns by how many bytes the table has grown.
func (t *table) add(tag, name uint32) (grown int64) {
	if 8*(t.count+1) > 7*len(t.cells) {
		old := t.cells
		t.cells = make([]cell, max(8, 2*len(old)))
		for _, c := range old {
			if c.name > 0 {
				t.place(c)
			}
		}
		grown = int64(len(t.cells)-len(old)) * cellBytes
	}
	t.place(cell{tag, name + 1})
	t.count++
	return grown
}

func (t *table) place(c cell) {
	i := t.at(c.tag)
	for t.cells[i].name > 0 {
		i = (i + 1) & (len(t.cells) - 1)
	}
	t.cells[i] = c
}

// find is where a number stands; -1 if it does not.
func (t *table) find(tag, name uint32) int {
	if t.count == 0 {
		return -1
	}
	for i := t.at(tag); t.cells[i].name > 0; i = (i + 1) & (len(t.cells) - 1) {
		if t.cells[i] == (cell{tag, name + 1}) {
			return i
		}
	}
	return -1
}

// replace puts a number in the place of another with the same tag.
func (t *table) replace(tag, old, name uint32) {
	if i := t.find(tag, old); i >= 0 {
		t.cells[i].name = name + 1
	}
}

// remove takes a number out; those behind it move up, so that no gap divides them from where
// they are looked for.
func (t *table) remove(tag, name uint32) {
	gap := t.find(tag, name)
	if gap < 0 {
		return
	}
	t.count--
	last := len(t.cells) - 1
	for i := (gap + 1) & last; t.cells[i].name > 0; i = (i + 1) & last {
		if home := t.at(t.cells[i].tag); (i-home)&last >= (i-gap)&last {
			t.cells[gap], gap = t.cells[i], i
		}
	}
	t.cells[gap] = cell{}
}

// all yields the numbers that a tag stands for.
func (t *table) all(tag uint32, yield func(name uint32) bool) {
	if t.count == 0 {
		return
	}
	for i := t.at(tag); t.cells[i].name > 0; i = (i + 1) & (len(t.cells) - 1) {
		if t.cells[i].tag == tag && !yield(t.cells[i].name-1) {
			return
		}
	}
}

// first is one of the numbers that a tag stands for.
func (t *table) first(tag uint32) (name uint32, ok bool) {
	t.all(tag, func(n uint32) bool {
		name, ok = n, true
		return false
	})
	return name, ok
}
