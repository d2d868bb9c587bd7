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

	tag   uint32 // of its key's hash
	body  uint32 // bytes of the body
	meta  uint32 // bytes of what is known of it
	idle  uint32 // seconds that it stays without being asked for; 0: for ever
	place uint32 // in Memory.places
	// next and last are others with the same path: places + 1; 0: none. Of a coded form, next is
	// another form of the same entry, and last the entry.
	next, last uint32
	forms      uint32 // the first of its coded forms: place + 1; 0: none
	terms      uint16 // how many: its route, and its tags
	words      uint16 // how many words it holds besides
	shard      uint8
	traits     traits
	which      uint8 // of a form: which of httprules.Codings
}

// traits are what is either so or not, and stays so.
type traits uint8

const (
	isFailure traits = 1 << iota
	isForm           // a coded form of another record
	isApart          // the body is not in the record
	isBounded        // its last term is the name of its bound
)

// state is what changes of an entry while it is kept, and is shared by all who have it.
type state struct {
	judged atomic.Uint64 // ledger sequence up to which the marks have nothing new to say of it
	used   atomic.Uint32 // the last use, see moment
	cost   atomic.Uint32 // microseconds that its fill takes, smoothed
	notes  atomic.Uint32 // see below
}

// Notes of a state, a bit each. Those that say which coded forms are being made, and which would
// not gain, stand in front; behind them is how many times nobody makes a form yet.
const (
	making   = 1
	useless  = making << len(httprules.Codings)
	softened = useless << len(httprules.Codings) // counted by a softening purge: for ever, also for who still reads it
	removed  = softened << 1                     // it has left the store
	resident = removed << 1                      // it is in the store; set and taken off under Memory.mu
	lowered  = resident << 1                     // the tier below has it, too, unless it has let it go meanwhile
	resting  = lowered << 1
)

// moment is a time in quarters of a second since 2020, which is what is known of the last use.
func moment(t time.Time) uint32 {
	const from = 1577836800 // 2020-01-01
	return uint32(max(0, t.Unix()-from))<<2 | uint32(t.Nanosecond()/250_000_000)
}

func (s *state) is(note uint32) bool { return s.notes.Load()&note != 0 }

// note notes something; it reports whether that was not noted before.
func (s *state) note(note uint32) bool { return s.notes.Or(note)&note == 0 }

// slot is one of a record's terms, and where the record stands among the term's postings.
type slot struct{ word, at uint32 }

const (
	headBytes = int(unsafe.Sizeof(record{}))
	slotBytes = int(unsafe.Sizeof(slot{}))
	wordBytes = 4
	// nowhere is no place among postings.
	nowhere = math.MaxUint32
	// apartFrom is the length from which a body is not copied into its record.
	apartFrom = 32 << 10
)

// shape is how much room a record has for what.
type shape struct{ terms, words, meta, body int }

func (s shape) bytes() int {
	return headBytes + s.terms*slotBytes + s.words*wordBytes + s.meta + s.body
}

// newRecord returns an empty record.
func newRecord(s shape) *record {
	words := make([]uint64, (s.bytes()+7)/8)
	r := (*record)(unsafe.Pointer(unsafe.SliceData(words)))
	r.terms, r.words, r.meta = uint16(s.terms), uint16(s.words), uint32(s.meta)
	return r
}

// slots are the record's terms: its route first. Guarded by Memory.mu, but for their words.
func (r *record) slots() []slot {
	if r.terms == 0 {
		return nil // what is behind may be no memory of the record's
	}
	return unsafe.Slice((*slot)(unsafe.Add(unsafe.Pointer(r), headBytes)), int(r.terms))
}

// held are the numbers of the other words that it holds.
func (r *record) held() []uint32 {
	if r.words == 0 {
		return nil
	}
	return unsafe.Slice((*uint32)(unsafe.Add(unsafe.Pointer(r), headBytes+int(r.terms)*slotBytes)), int(r.words))
}

// behind is the memory of so many bytes behind the words, from some place on.
func (r *record) behind(from, length int) []byte {
	if length == 0 {
		return nil
	}
	return unsafe.Slice((*byte)(unsafe.Add(unsafe.Pointer(r), headBytes+int(r.terms)*slotBytes+int(r.words)*wordBytes+from)), length)
}

// size is how many bytes the record is counted with, its body included.
func (r *record) size() int64 {
	s := shape{int(r.terms), int(r.words), int(r.meta), int(r.body)}
	if !r.has(isApart) {
		return allocated(s.bytes())
	}
	s.body = 0
	return allocated(s.bytes()) + allocated(int(r.body))
}

// known is what is written down of the entry.
func (r *record) known() []byte { return r.behind(0, int(r.meta)) }

// inline is the body, if it is in the record.
func (r *record) inline() []byte { return r.behind(int(r.meta), int(r.body)) }

func (r *record) has(t traits) bool { return r.traits&t != 0 }

// Texts stand in a record with one of these in their first number's lowest bits.
const (
	textInline = iota // its length, and the text
	textWord          // which of the record's words
	textInKey         // its length, and where in the end of the key it stands
	textDate          // the seconds of a time as HTTP writes it
	textKinds
)

// writer writes what is known of an entry. Under words.mu.
type writer struct {
	bytes  []byte
	key    string
	words  *words // nil: every text is written as it is
	taken  []uint32
	part   []byte // what may become a word
	fields []string
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

// plain writes a text as it is.
func (w *writer) plain(s string) {
	w.number(uint64(len(s)) * textKinds)
	w.bytes = append(w.bytes, s...)
}

// text writes a text in the shortest way.
func (w *writer) text(s string) {
	if date, ok := dateOf(s); ok {
		w.number(date*textKinds + textDate)
		return
	}
	if len(s) >= shortestWord && len(s) < len(w.key) {
		if at := strings.Index(w.key, s); at >= 0 {
			w.number(uint64(len(s))*textKinds + textInKey)
			w.number(uint64(at))
			return
		}
	}
	if w.words == nil || len(w.taken) == math.MaxUint16 {
		w.plain(s)
	} else if n, ok := w.words.take(s); ok {
		w.number(uint64(len(w.taken))*textKinds + textWord)
		w.taken = append(w.taken, n)
	} else {
		w.plain(s)
	}
}

// dateOf reads a time as HTTP writes it, to the seconds since 1970.
func dateOf(s string) (seconds uint64, ok bool) {
	if len(s) != len("Sun, 06 Nov 1994 08:49:37 GMT") || !strings.HasSuffix(s, " GMT") {
		return 0, false
	}
	t, ok := httprules.ParseDate(s)
	return uint64(t.Unix()), ok && t.Unix() >= 0 && httprules.FormatDate(t) == s
}

// together writes what put writes as one text, which others may have, too.
func (w *writer) together(put func()) {
	whole := w.bytes
	w.bytes = w.part[:0]
	put()
	w.part, w.bytes = w.bytes, whole
	w.text(unsafe.String(unsafe.SliceData(w.part), len(w.part)))
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
	key   string // what stands of it here
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
	case textDate:
		return httprules.FormatDate(time.Unix(int64(n/textKinds), 0))
	default:
		return r.take(n / textKinds)
	}
}

// apart returns a reader of what was written together.
func (r *reader) apart() *reader {
	text := r.text()
	return &reader{bytes: unsafe.Slice(unsafe.StringData(text), len(text)), key: r.key, words: r.words, taken: r.taken}
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
