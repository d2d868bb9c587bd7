package disk

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// layout is the version of the format.
const layout = "3"

// ErrOtherLayout says that the directory holds another version of the format.
var ErrOtherLayout = errors.New("the disk tier's directory is of another version")

// Options say how a tier is.
type Options struct {
	Limit  int64       // bytes that it may take of its device, everything counted
	Index  int64       // bytes of memory that it may take
	Writes int64       // bytes a second that it may write, over ten seconds; 0: any
	Marks  *tags.Marks // which judge what is written
	Epoch  time.Time   // from which the memory counts times
	Now    func() time.Time
}

// Tier is a store's tier on disk. It is safe for concurrent use.
type Tier struct {
	Options
	files   Files
	seed    []byte
	index   index
	target  int64 // bytes of a segment
	log     removals
	forgets atomic.Uint32 // odd while everything that is named goes, whatever the marks say

	segmentsMu sync.RWMutex
	segments   map[uint32]*segment
	// lingering have given way, and are still read.
	lingering map[*segment]File

	writing sync.Mutex // held by who writes; guards what follows
	head    *segment
	buffer  []byte
	waiting []waiting
	newest  uint32 // number of a segment
	budget  budget
	closed  bool
	// reclaiming: what is written comes from a segment that gives way.
	reclaiming bool

	sweeps sweeps

	swept                         atomic.Uint64 // up to where in the ledger all that is here was judged
	opened                        atomic.Int64  // files, by who reads a body
	taken, indexBytes, headMemory atomic.Int64
	entries, bytes                atomic.Int64 // that memory does not have
	added                         atomic.Int64
	written, refused, errors      atomic.Int64
	readTook                      atomic.Int64 // ns, the least lately
	removed                       [store.Removals]atomic.Int64
	failedReads, failedWrites     atomic.Int32 // in a row
	off                           atomic.Pointer[string]
}

// waiting is a record that stands in the buffer.
type waiting struct {
	head    head
	at      int64
	notes   uint16
	subject tags.Subject
	terms   []uint64
	since   store.Moment
	gone    *atomic.Bool // nil: it is on disk
	before  spot         // where it stands until then; zero: it comes from memory
}

// spot is where a record stands.
type spot struct{ segment, at uint32 }

// budget is how much may be written: a second's worth comes each second, and ten are kept.
type budget struct {
	left int64
	at   time.Time
}

const budgetSeconds = 10

// judgedName is the file that says up to where in the ledger all that is here was judged.
const judgedName = "judged"

// Judged is a place in the ledger: its number there, and the identity of its row.
type Judged struct {
	Sequence tags.Stamp `json:"sequence"`
	Row      string     `json:"row"`
	Known    bool       `json:"known"` // there was one
}

// Least is the least limit that a tier is of use with.
const Least = 16 << 20

// Open opens a tier, with all that is in its directory and can be believed. All of that was judged
// up to a place in the ledger.
func Open(files Files, o Options) (*Tier, Judged, error) {
	var at Judged
	t := &Tier{Options: o, files: files, segments: map[uint32]*segment{}, lingering: map[*segment]File{}}
	t.target = min(max(o.Limit/64, 1<<20), 64<<20)
	t.budget = budget{left: o.Writes * budgetSeconds, at: o.Now()}
	t.readTook.Store(int64(100 * time.Microsecond))
	names, err := files.List()
	if err != nil {
		return nil, at, err
	}
	version, err := t.small("layout", names)
	if err != nil || version != nil && string(version) != layout+"\n" {
		return nil, at, errors.Join(ErrOtherLayout, err)
	}
	note := t.judged(names)
	seed, _ := t.small("seed", names)
	if note != nil {
		at = *note
	}
	if len(seed) != sha256.Size || note == nil {
		for _, name := range names { // nothing that is here can be believed
			if err := files.Remove(name); err != nil {
				return nil, at, err
			}
		}
		names, at, seed = nil, Judged{}, make([]byte, sha256.Size)
		_, _ = rand.Read(seed)
	}
	t.seed = seed
	if err := errors.Join(files.Replace("layout", []byte(layout+"\n")), files.Replace("seed", seed)); err != nil {
		return nil, at, err
	}
	t.swept.Store(uint64(at.Sequence))
	if err := t.load(names, at.Sequence); err != nil {
		return nil, at, err
	}
	return t, at, nil
}

// judged reads up to where in the ledger all that is here was judged; nil if that is not known.
func (t *Tier) judged(names []string) *Judged {
	text, err := t.small(judgedName, names)
	sum, note, _ := strings.Cut(string(text), " ")
	at := Judged{}
	if err != nil || sum != sumOf(note) || json.Unmarshal([]byte(note), &at) != nil {
		return nil
	}
	return &at
}

func sumOf(text string) string {
	return fmt.Sprintf("%08x", crc32.Checksum([]byte(text), castagnoli))
}

// small reads a small file, if it is there.
func (t *Tier) small(name string, names []string) ([]byte, error) {
	if !slices.Contains(names, name) {
		return nil, nil
	}
	f, err := t.files.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	size, err := f.Size()
	if err != nil || size > block {
		return nil, errors.Join(errRecord, err)
	}
	b := make([]byte, size)
	_, err = f.ReadAt(b, 0)
	return b, err
}

// load reads what is there, the newest segments first.
func (t *Tier) load(names []string, upTo tags.Stamp) (err error) {
	kinds := map[uint64]uint32{}
	wholeLog := true
	if slices.Contains(names, removalsName) {
		if t.log.file, err = t.files.Open(removalsName); err == nil {
			kinds, t.log.size, err = readRemovals(t.log.file)
		}
		wholeLog = err == nil
		if err == nil {
			err = t.log.file.Truncate(t.log.size)
		}
	}
	if !wholeLog || t.log.file == nil {
		if t.log.file, err = t.files.Create(removalsName); err != nil {
			return err
		}
		t.log.size = 0
	}
	if err != nil {
		return err
	}
	slices.Sort(names)
	for _, name := range slices.Backward(names) {
		number := uint32(0)
		if n, err := fmt.Sscanf(name, "segment-%08x", &number); n != 1 || err != nil || nameOf(number) != name {
			if name != "layout" && name != "seed" && name != judgedName && name != removalsName {
				_ = t.files.Remove(name) // half written
			}
			continue
		}
		t.newest = max(t.newest, number)
		if !wholeLog { // it is not known what has left
			t.count(errRecord)
			_ = t.files.Remove(name)
			continue
		}
		if err := t.loadSegment(number, kinds, upTo); err != nil {
			t.count(err)
			_ = t.files.Remove(name)
		}
	}
	t.commit(false)
	t.account()
	for t.taken.Load() > t.Limit-t.target && len(t.segments) > 0 {
		t.drop(t.victim(), store.Evicted)
	}
	return nil
}

// loadSegment reads what is known of a segment's records, and seals it if it is not.
func (t *Tier) loadSegment(number uint32, kinds map[uint64]uint32, upTo tags.Stamp) (err error) {
	s := &segment{number: number}
	if s.file, err = t.files.Open(nameOf(number)); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			s.file.Close()
		}
	}()
	size, err := s.file.Size()
	if err != nil {
		return err
	}
	s.size.Store(size)
	if err = s.readStart(); err != nil {
		return err
	}
	tail := tailReader{}
	c := &tail.contents
	if s.sealed = tail.read(s.file, size) == nil; !s.sealed {
		s.scan(func(front []byte, h *head) (string, error) {
			i := h.image(front, nil, s.epoch)
			subject, err := i.Subject()
			return subject.Route, err
		})
		if err = s.file.Truncate(s.size.Load()); err != nil {
			return err
		}
		c = &s.known
	}
	t.segments[number] = s
	for i := range c.rows {
		t.loadRow(s, &c.rows[i], kinds, upTo)
	}
	if s.live.Load() == 0 {
		delete(t.segments, number)
		return errors.New("nothing in the segment is of use")
	}
	if !s.sealed {
		return t.seal(s)
	}
	s.filter = newFilter(c.terms)
	t.indexBytes.Add(s.filter.bytes())
	return nil
}

// loadRow makes a record found, unless it has left, something newer has taken its place, or what
// came into the ledger since it was judged may have been lost.
func (t *Tier) loadRow(s *segment, r *row, kinds map[uint64]uint32, upTo tags.Stamp) {
	spot := spotOf(s.number, r.at)
	if kinds[spot] == kindRemoved {
		return
	}
	notes := uint16(0)
	if r.flags&flagSoftened != 0 || kinds[spot] == kindSoftened {
		notes = softened
	}
	sh, tag := t.index.of(r.hash)
	ok := r.known <= upTo
	sh.each(tag, func(c *cell) bool {
		ok = ok && !c.displaces(store.Variant{Family: r.family, Own: r.own})
		return ok
	})
	if !ok || !t.put(sh, cell{tag: tag, own: r.own, family: r.family, notes: notes, segment: s.number, at: r.at, units: r.units}, s) {
		t.log.add(s.number, r.at, kindRemoved) // for good: what is in its way now may leave
	}
}

// put adds a cell to a shard, if there is room in memory, and counts it. Under the shard's lock.
func (t *Tier) put(sh *shard, c cell, s *segment) bool {
	grows := sh.grows()
	if grows > 0 && t.indexBytes.Load()+grows > t.Index && !t.giveWay(sh, &c) {
		return false
	} else if grows > 0 && sh.grows() > 0 {
		t.indexBytes.Add(grows)
	}
	sh.add(c)
	s.live.Add(c.bytesOf())
	t.countCell(&c, 1)
	return true
}

// giveWay takes a smaller entry out of a table that is full, for a larger one. Under the shard's lock.
func (t *Tier) giveWay(sh *shard, c *cell) bool {
	const some = 8
	var least *cell
	seen := 0
	for i := range sh.cells {
		other := &sh.cells[(i+int(c.at))&(len(sh.cells)-1)]
		if other.segment > 0 && (least == nil || other.units < least.units) {
			least = other
		}
		if other.segment > 0 {
			if seen++; seen == some {
				break
			}
		}
	}
	if least == nil || least.units >= c.units {
		return false
	}
	t.takeOut(sh, least, store.Evicted)
	return true
}

// countCell counts an entry that comes or goes.
func (t *Tier) countCell(c *cell, sign int64) {
	if c.notes&above == 0 {
		t.entries.Add(sign)
		t.bytes.Add(sign * c.bytesOf())
	}
}

// takeOut takes a cell out. Under the shard's lock.
func (t *Tier) takeOut(sh *shard, c *cell, why store.Removal) {
	t.countCell(c, -1)
	if c.notes&above == 0 {
		t.removed[why].Add(1)
	}
	t.log.add(c.segment, c.at, kindRemoved)
	if s := t.segment(c.segment); s != nil {
		s.live.Add(-c.bytesOf())
	}
	sh.remove(c)
}

// segment returns a segment; nil if it has given way.
func (t *Tier) segment(number uint32) *segment {
	t.segmentsMu.RLock()
	defer t.segmentsMu.RUnlock()
	return t.segments[number]
}

// Hash implements store.Lower.
func (t *Tier) Hash(key []byte) uint64 { return t.digest('k', key) }

// digest is a hash that nobody outside can foresee.
func (t *Tier) digest(kind byte, text []byte) uint64 {
	var room [512]byte
	b := append(append(append(room[:0], t.seed...), kind), text...)
	sum := sha256.Sum256(b)
	return binary.LittleEndian.Uint64(sum[:])
}

// termsOf are the hashes that a purge finds an entry by.
func (t *Tier) termsOf(s *tags.Subject) []uint64 {
	terms := make([]uint64, 0, len(s.Tags)+3)
	terms = append(terms, t.digest('r', []byte(s.Route)), t.digest('h', []byte(s.Host)), t.digest('p', []byte(s.Path)))
	for _, tag := range s.Tags {
		if len(terms) == mostTerms {
			break
		}
		terms = append(terms, t.digest('t', []byte(tag)))
	}
	return terms
}

func (t *Tier) isOff() bool { return t.off.Load() != nil }

// mostFailures is after how many errors in a row the tier is switched off.
const mostFailures = 8

// count counts an error.
func (t *Tier) count(err error) { t.errors.Add(1); _ = err }

// failed counts an error of reading or writing, and switches the tier off when there were many in a
// row.
func (t *Tier) failed(in *atomic.Int32, what string, err error) {
	t.count(err)
	if in.Add(1) >= mostFailures {
		t.switchOff(fmt.Sprintf("%s failed %d times in a row: %v", what, mostFailures, err))
	}
}

// switchOff leaves the disk alone until the next start, which believes nothing that is there: what
// leaves from now on is not noted.
func (t *Tier) switchOff(why string) {
	if !t.off.CompareAndSwap(nil, &why) {
		return
	}
	_ = t.files.Remove(judgedName)
	for i := range t.index.shards {
		sh := &t.index.shards[i]
		sh.mu.Lock()
		sh.cells, sh.count = nil, 0
		sh.mu.Unlock()
	}
	t.indexBytes.Store(0)
}

// Moment implements store.Lower.
func (t *Tier) Moment() store.Moment { return store.Moment(t.forgets.Load()) }

// Commit implements store.Lower.
func (t *Tier) Commit() {
	if !t.isOff() {
		t.commit(false)
	}
}

func (t *Tier) commit(last bool) {
	if err := t.log.commit(last); err != nil {
		t.count(err)
		t.switchOff("what has left could not be noted: " + err.Error())
	}
}

// Confirm notes that all that is here was judged up to a place in the ledger.
func (t *Tier) Confirm(at Judged) error {
	if t.isOff() {
		return nil
	}
	t.swept.Store(uint64(at.Sequence))
	t.commit(true)
	t.tidyLog()
	at.Known = true
	note, err := json.Marshal(at)
	if err == nil && !t.isOff() {
		err = t.files.Replace(judgedName, []byte(sumOf(string(note))+" "+string(note)))
	}
	if err != nil {
		t.failed(&t.failedWrites, "writing", err)
	}
	t.account()
	return err
}

// tidyLog writes the log anew without what was in segments that have given way, when it is long.
func (t *Tier) tidyLog() {
	t.writing.Lock() // no segment gives way meanwhile
	defer t.writing.Unlock()
	t.log.mu.Lock()
	defer t.log.mu.Unlock()
	if t.log.size < max(t.Limit/256, 64<<10) || t.log.file == nil {
		return
	}
	kinds, _, err := readRemovals(t.log.file)
	if err != nil {
		t.count(err)
		return
	}
	short := removals{}
	for spot, kind := range kinds {
		if t.segment(uint32(spot>>32)) != nil {
			short.add(uint32(spot>>32), uint32(spot), kind)
		}
	}
	if err = t.files.Replace(removalsName, short.pending); err != nil {
		t.count(err)
		return
	}
	if file, err := t.files.Open(removalsName); err == nil {
		t.log.file.Close()
		t.log.file, t.log.size = file, int64(len(short.pending))
	} else {
		t.switchOff("the log of what has left could not be opened: " + err.Error())
	}
}

// account counts what the files take.
func (t *Tier) account() {
	t.log.mu.Lock()
	taken := 4*block + room(t.log.size+int64(len(t.log.pending)))
	t.log.mu.Unlock()
	t.segmentsMu.RLock()
	for _, s := range t.segments {
		taken += room(s.size.Load()) + block/8 // and its name
	}
	for s := range t.lingering {
		taken += room(s.size.Load())
	}
	t.segmentsMu.RUnlock()
	t.taken.Store(taken)
}

// Figures implements store.Lower.
func (t *Tier) Figures() store.LowerFigures {
	f := store.LowerFigures{
		Limit: t.Limit, Bytes: t.bytes.Load(), Taken: t.taken.Load(), Entries: t.entries.Load(), Added: t.added.Load(), Written: t.written.Load(), Refused: t.refused.Load(), Errors: t.errors.Load(),
		Removed: map[string]int64{},
	}
	for why := range t.removed {
		f.Removed[store.Removal(why).String()] = t.removed[why].Load()
	}
	if off := t.off.Load(); off != nil {
		f.Off, f.Bytes, f.Entries = *off, 0, 0
	}
	return f
}

// Bytes implements store.Lower.
func (t *Tier) Bytes() int64 {
	return t.indexBytes.Load() + t.headMemory.Load()
}

// Swept implements store.Lower.
func (t *Tier) Swept() tags.Stamp {
	if t.isOff() {
		return everLater // there is nothing
	}
	return tags.Stamp(t.swept.Load())
}

// Close seals the head, and closes all files.
func (t *Tier) Close() {
	t.writing.Lock()
	defer t.writing.Unlock()
	if t.closed {
		return
	}
	t.closed = true
	if !t.isOff() {
		t.roll()
		t.commit(true)
	}
	t.segmentsMu.Lock()
	defer t.segmentsMu.Unlock()
	for _, s := range t.segments {
		s.mu.Lock()
		if s.file != nil {
			s.file.Close()
			s.file = nil
		}
		s.mu.Unlock()
	}
	t.log.mu.Lock()
	defer t.log.mu.Unlock()
	if t.log.file != nil {
		t.log.file.Close()
		t.log.file = nil
	}
}
