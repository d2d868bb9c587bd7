package store

import (
	"sync/atomic"
	"unsafe"
)

// ready are entries in the form in which they are sent, for records that are asked for: a part of
// the memory, in which those that were not asked for lately give way. It is read and written under
// the shards' read locks, by many at a time.
type ready struct {
	sets  []readySet
	limit int64
	bytes atomic.Int64
	hand  atomic.Uint32 // where room is looked for next
}

type readySet [4]atomic.Pointer[Entry]

const (
	// readyShare is which part of the memory they may take, and mostReady how much at most: they are
	// full of pointers, which the collector follows each time.
	readyShare = 16
	mostReady  = 24 << 20
	// readySize is what an entry takes that is usual.
	readySize = 2 << 10
)

func (y *ready) init(limit int64) {
	sets := 16
	for int64(sets)*int64(len(readySet{}))*readySize < limit {
		sets *= 2
	}
	y.sets, y.limit = make([]readySet, sets), limit
}

func (y *ready) set(r *record) *readySet {
	return &y.sets[int(r.place*0x9E3779B1>>8)&(len(y.sets)-1)]
}

// find returns the entry of a record, if it is ready.
func (y *ready) find(r *record) *Entry {
	set := y.set(r)
	for i := range set {
		if e := set[i].Load(); e != nil && e.kept.Load() == r {
			if !e.hot.Load() {
				e.hot.Store(true)
			}
			return e
		}
	}
	return nil
}

// keep keeps an entry ready, where there is room, or else in place of one that was not asked for since
// the last time that a place was looked for. Who came a moment ago is not sent away while there is
// room: of two that are asked for in turns neither would ever stay.
func (y *ready) keep(e *Entry) {
	e.taken = e.weight()
	set := y.set(e.kept.Load())
	for i := range set {
		if set[i].Load() == nil && y.put(&set[i], nil, e) {
			return
		}
	}
	for i := range set {
		if old := set[i].Load(); (old == nil || !old.hot.Swap(false)) && y.put(&set[i], old, e) {
			return
		}
	}
}

// put puts an entry in the place of another, unless somebody else just did.
func (y *ready) put(to *atomic.Pointer[Entry], old, e *Entry) bool {
	if !to.CompareAndSwap(old, e) {
		return false
	}
	y.bytes.Add(e.taken)
	if old != nil {
		y.bytes.Add(-old.taken)
	}
	y.fit()
	return true
}

// fit makes those go that were not asked for lately, while all take too much.
func (y *ready) fit() {
	for steps := 0; y.bytes.Load() > y.limit && steps < 2*len(y.sets); steps++ {
		set := &y.sets[int(y.hand.Add(1))&(len(y.sets)-1)]
		for i := range set {
			if old := set[i].Load(); old != nil && !old.hot.Swap(false) {
				y.take(&set[i], old)
			}
		}
	}
}

func (y *ready) take(from *atomic.Pointer[Entry], e *Entry) {
	if from.CompareAndSwap(e, nil) {
		y.bytes.Add(-e.taken)
	}
}

// drop forgets the entry of a record that leaves the store.
func (y *ready) drop(r *record) {
	set := y.set(r)
	for i := range set {
		if e := set[i].Load(); e != nil && e.kept.Load() == r {
			y.take(&set[i], e)
		}
	}
}

// weight is how many bytes an entry takes that was made of a record, the record apart: its texts
// are the record's.
func (e *Entry) weight() int64 {
	const field = 2*int64(unsafe.Sizeof(Line{})) + 2*16 + 24 + 16 // a map's cell, a line, a slice of values
	size := int64(unsafe.Sizeof(Entry{})) + int64(len(e.Header)+2)*field + 256
	size += int64(len(e.Subject.Tags)+len(e.Parts)+len(e.PageInfo)+len(e.Encodings))*16 + int64(len(e.Work)) + int64(len(e.Vary))*int64(unsafe.Sizeof(e.Vary[0]))
	if e.Skeleton != nil {
		size += e.Skeleton.Size()
	}
	return size
}
