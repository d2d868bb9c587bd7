package store

import (
	"encoding/binary"
	"math"
	"strings"
	"sync/atomic"
	"time"
	"unsafe"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/tags"
)

// record is an entry as it is kept: one piece of memory without pointers, in which its terms, what
// is known of it, and its body, unless that is long, stand behind this head. The collector owns
// it: it is there for as long as anyone has a pointer to it or a slice or a string out of it, and
// nothing is ever written over what stands behind the head, but for the places of its terms.
//
// So a reader who has found a record can read on whatever becomes of it. Its words, though, are
// those of its store, which knows them while the record is in it, see Memory.decode.
type record struct {
	state
	stamp tags.Stamp
	began int64 // of its fill, ns after the store's epoch
	size  int64 // bytes that it is counted with
	body  int64 // bytes of the body
	idle  int64 // ns that it stays without being asked for; httprules.Unset for ever

	place      uint32 // in Memory.places
	next, last uint32 // others with the same path: places + 1; 0: none
	forms      [len(httprules.Codings)]uint32
	of         uint32 // the place of what it is a coded form of
	meta       uint32 // bytes of what is known of it
	terms      uint16 // how many: its route, and its tags
	refs       uint32 // how many words it holds besides
	traits     traits
	which      uint8 // of a form: which of httprules.Codings
}

// traits are what is either so or not.
type traits uint8

const (
	isFailure traits = 1 << iota
	isForm           // a coded form of another record
	isApart          // the body is not in the record
	isResident
)

// state is what changes of an entry while it is kept, and is shared by all who have it.
type state struct {
	used   atomic.Int64  // unix ns of the last use
	judged atomic.Uint64 // ledger sequence up to which the marks have nothing new to say of it
	cost   atomic.Int64  // ns that its fill takes, smoothed
	coding atomic.Uint32 // which coded forms are being made, and which do not gain
	rest   atomic.Int32  // how many times yet nobody makes a form, since there was no room for one
	marks  atomic.Uint32 // softened, removed
}

const (
	softened = 1 << iota // counted by a softening purge: for ever, also for who still reads it
	removed              // it has left the store
)

func (s *state) is(mark uint32) bool { return s.marks.Load()&mark != 0 }

// mark sets a mark; it reports whether that was not set before.
func (s *state) mark(mark uint32) bool { return s.marks.Or(mark)&mark == 0 }

// slot is one of a record's terms, and where the record stands among the term's postings.
type slot struct{ word, at uint32 }

const (
	headBytes = int(unsafe.Sizeof(record{}))
	slotBytes = int(unsafe.Sizeof(slot{}))
	refBytes  = 4
	// nowhere is no place among postings.
	nowhere = math.MaxUint32
	// apartFrom is the length from which a body is not copied into its record.
	apartFrom = 32 << 10
)

// shape is how much room a record has for what.
type shape struct{ terms, refs, meta, body int }

func (s shape) bytes() int {
	return headBytes + s.terms*slotBytes + s.refs*refBytes + s.meta + s.body
}

// newRecord returns an empty record.
func newRecord(s shape) *record {
	words := make([]uint64, (s.bytes()+7)/8)
	r := (*record)(unsafe.Pointer(unsafe.SliceData(words)))
	r.terms, r.refs, r.meta = uint16(s.terms), uint32(s.refs), uint32(s.meta)
	return r
}

// slots are the record's terms: its route first. Guarded by Memory.mu, but for their words.
func (r *record) slots() []slot {
	if r.terms == 0 {
		return nil // what is behind may be no memory of the record's
	}
	return unsafe.Slice((*slot)(unsafe.Add(unsafe.Pointer(r), headBytes)), int(r.terms))
}

// words are the numbers of the other words that it holds.
func (r *record) words() []uint32 {
	if r.refs == 0 {
		return nil
	}
	return unsafe.Slice((*uint32)(unsafe.Add(unsafe.Pointer(r), headBytes+int(r.terms)*slotBytes)), int(r.refs))
}

// behind is the memory of so many bytes behind the words, from some place on.
func (r *record) behind(from, length int) []byte {
	if length == 0 {
		return nil
	}
	return unsafe.Slice((*byte)(unsafe.Add(unsafe.Pointer(r), headBytes+int(r.terms)*slotBytes+int(r.refs)*refBytes+from)), length)
}

// known is what is written down of the entry.
func (r *record) known() []byte { return r.behind(0, int(r.meta)) }

// inline is the body, if it is in the record.
func (r *record) inline() []byte { return r.behind(int(r.meta), int(r.body)) }

func (r *record) has(t traits) bool { return r.traits&t != 0 }

// key is the record's key.
func (r *record) key() []byte {
	meta := r.known()
	length, n := binary.Uvarint(meta)
	return meta[n : n+int(length)]
}

// Texts stand in a record with one of these in their first number's lowest bits.
const (
	textInline = iota // its length, and the text
	textWord          // which of the record's words
	textInKey         // its length, and where in the key it stands
	textKinds
)

// writer writes what is known of an entry.
type writer struct {
	bytes []byte
	key   string
	words *words
	taken []uint32
}

func (w *writer) number(n uint64)          { w.bytes = binary.AppendUvarint(w.bytes, n) }
func (w *writer) duration(d time.Duration) { w.bytes = binary.AppendVarint(w.bytes, int64(d)) }

// noTime stands for a time that is not known.
const noTime = time.Duration(math.MinInt64)

// since and after turn times into durations and back.
func since(t, epoch time.Time) time.Duration {
	if t.IsZero() {
		return noTime
	}
	return t.Sub(epoch) // by the monotonic clock, if both have it
}

func after(epoch time.Time, d time.Duration) time.Time {
	if d == noTime {
		return time.Time{}
	}
	return epoch.Add(d)
}

func (w *writer) time(t, epoch time.Time) { w.duration(since(t, epoch)) }

func (w *writer) text(s string) {
	if len(s) >= shortestWord {
		if at := strings.Index(w.key, s); at >= 0 {
			w.number(uint64(len(s))*textKinds + textInKey)
			w.number(uint64(at))
			return
		}
	}
	if n, ok := w.words.take(s); ok {
		w.number(uint64(len(w.taken))*textKinds + textWord)
		w.taken = append(w.taken, n)
		return
	}
	w.number(uint64(len(s)) * textKinds)
	w.bytes = append(w.bytes, s...)
}

func (w *writer) texts(all []string) {
	w.number(uint64(len(all)))
	for _, s := range all {
		w.text(s)
	}
}

func (w *writer) bits(all ...bool) {
	n := uint64(0)
	for i, b := range all {
		if b {
			n |= 1 << i
		}
	}
	w.number(n)
}

// reader reads it. What it returns shares the record's memory.
type reader struct {
	bytes []byte
	key   string
	words *words
	taken []uint32
}

func (r *reader) number() uint64 {
	v, n := binary.Uvarint(r.bytes)
	r.bytes = r.bytes[n:]
	return v
}

func (r *reader) duration() time.Duration {
	v, n := binary.Varint(r.bytes)
	r.bytes = r.bytes[n:]
	return time.Duration(v)
}

func (r *reader) time(epoch time.Time) time.Time { return after(epoch, r.duration()) }

func (r *reader) take(length uint64) string {
	s := unsafe.String(unsafe.SliceData(r.bytes), int(length))
	r.bytes = r.bytes[length:]
	return s
}

func (r *reader) text() string {
	switch n := r.number(); n % textKinds {
	case textWord:
		return r.words.at(r.taken[n/textKinds]).text
	case textInKey:
		at := r.number()
		return r.key[at : at+n/textKinds]
	default:
		return r.take(n / textKinds)
	}
}

func (r *reader) texts() []string {
	n := r.number()
	if n == 0 {
		return nil
	}
	all := make([]string, n)
	for i := range all {
		all[i] = r.text()
	}
	return all
}

func (r *reader) bits(all ...*bool) {
	n := r.number()
	for i, b := range all {
		*b = n&(1<<i) != 0
	}
}
