package store

import (
	"errors"
	"hash/maphash"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"gerastic/internal/core/httprules"
)

// Found is what a key holds for a request.
type Found struct {
	Entry    *Entry // that answers it; nil: none does
	Failure  *Entry // of its origin, stored since Entry was; nil: there is none, or it is Entry itself
	Variants int    // under the key
}

// Why an entry is not put.
var (
	ErrNoRoom    = errors.New("it does not fit into the store")
	ErrOvertaken = errors.New("a fill that began later was faster")
)

// Removal is why an entry left the store.
type Removal uint8

// Every removal has one reason.
const (
	Evicted Removal = iota // memory was full
	Purged
	Replaced // a newer response took its place
	Idle     // nobody asked for it for its route's idle time
	Crowded  // its key had too many variants
	removals
)

// String is the reason's name in metrics.
func (r Removal) String() string {
	return [...]string{"evicted", "purged", "replaced", "idle", "crowded"}[r]
}

// MaxVariants is how many variants one key may have; beyond it the oldest goes.
const MaxVariants = 64

const shardCount = 256

// Memory is the tier in memory. Its limit holds for everything it keeps: bodies,
// headers, keys, tags, indexes and their overhead.
type Memory struct {
	seed   maphash.Seed
	shards [shardCount]shard

	limit    int64
	used     atomic.Int64 // bytes, entries and reservations
	reserved atomic.Int64 // bytes of fills under way, part of used
	entries  atomic.Int64
	removed  [removals]atomic.Int64
	refused  atomic.Int64 // entries that did not fit
	borrowed atomic.Int64 // bytes that requests under way need, part of reserved
	pinned   pins
	ghosts   ghosts

	mu       sync.Mutex // index, eviction, aside and what Entry says it guards
	aside    int64      // bytes kept outside of entries, part of used
	index    index
	eviction Eviction
}

type shard struct {
	mu      sync.RWMutex
	buckets map[uint64]*bucket
	_       [64]byte // keep shards on cache lines of their own
}

// bucket holds the variants of one key, those whose fill began last first, and the failures
// that stand beside them; next is another key of the same hash.
type bucket struct {
	key      string
	variants []*Entry
	failures []*Entry
	next     *bucket
}

// beside is the list that an entry belongs to.
func (b *bucket) beside(e *Entry) *[]*Entry {
	if e.Failure {
		return &b.failures
	}
	return &b.variants
}

func (b *bucket) len() int { return len(b.variants) + len(b.failures) }

// NewMemory returns an empty tier of at most limit bytes.
func NewMemory(limit int64, eviction Eviction) *Memory {
	m := &Memory{seed: maphash.MakeSeed(), limit: limit, index: index{}, eviction: eviction, ghosts: newGhosts(limit), pinned: pins{all: map[*Entry]struct{}{}}}
	for i := range m.shards {
		m.shards[i].buckets = map[uint64]*bucket{}
	}
	return m
}

func (m *Memory) shard(hash uint64) *shard { return &m.shards[hash%shardCount] }

// Find returns how many entries a key has and the one among them that answers the request: the
// newest whose Vary matches, else the newest without one (RFC 9111 §4.1). The hash only finds the
// bucket; the whole key is compared.
func (m *Memory) Find(canonical []byte, request httprules.Fields) Found {
	hash := maphash.Bytes(m.seed, canonical)
	s := m.shard(hash)
	s.mu.RLock()
	defer s.mu.RUnlock()
	for b := s.buckets[hash]; b != nil; b = b.next {
		if b.key == string(canonical) {
			return b.find(request)
		}
	}
	return Found{}
}

func (b *bucket) find(request httprules.Fields) Found {
	f := Found{Entry: choose(b.variants, request), Variants: b.len()}
	if len(b.failures) == 0 {
		return f
	}
	switch failure := choose(b.failures, request); {
	case failure == nil:
	case f.Entry == nil:
		f.Entry = failure
	case !failure.Fill.Before(f.Entry.Fill):
		f.Failure = failure
	}
	return f
}

// choose takes the variant that answers a request, whose codings it accepts: the newest that
// says what it depends on, else the newest that does not (RFC 9111 §4.1). The latter is no
// answer to a request that says something where a newer one is known to depend on it.
func choose(variants []*Entry, request httprules.Fields) (plain *Entry) {
	for i, e := range variants {
		switch {
		case !httprules.Accepts(request, e.Encodings) || !httprules.Matches(e.Vary, request):
		case len(e.Vary) > 0:
			return e
		case plain == nil && !depends(variants[:i], request):
			plain = e
		}
	}
	return plain
}

// depends reports whether one of the variants depends on something that a request says,
// codings apart.
func depends(variants []*Entry, request httprules.Fields) bool {
	for _, e := range variants {
		for _, v := range e.Vary {
			if v.Name != "Accept-Encoding" && len(request.Lines(v.Name)) > 0 {
				return true
			}
		}
	}
	return false
}

// Variants returns all entries under a key, newest first.
func (m *Memory) Variants(canonical []byte) []*Entry {
	hash := maphash.Bytes(m.seed, canonical)
	s := m.shard(hash)
	s.mu.RLock()
	defer s.mu.RUnlock()
	for b := s.buckets[hash]; b != nil; b = b.next {
		if b.key == string(canonical) {
			return slices.Concat(b.variants, b.failures)
		}
	}
	return nil
}

// Put stores an entry, in place of the one that answers the same requests. It returns ErrNoRoom
// when the entry does not fit at all, and ErrOvertaken when what answers the same requests comes
// from a fill that began later.
func (m *Memory) Put(e *Entry, now time.Time) error {
	e.used.Store(now.UnixNano())
	e.size.Store(e.Size())
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.makeRoom(e.size.Load()) {
		m.refused.Add(1)
		return ErrNoRoom
	}
	replaced, crowded, ok := m.insert(e)
	if !ok {
		return ErrOvertaken
	}
	for _, old := range replaced {
		m.forget(old, Replaced)
	}
	if crowded != nil {
		m.forget(crowded, Crowded)
	}
	m.used.Add(e.size.Load())
	m.entries.Add(1)
	e.resident = true
	m.index.add(e)
	m.eviction.Added(e)
	return nil
}

// insert puts e into its bucket, in its place among those whose fills began before and after,
// and takes out the variants that would answer the same requests; ok is false when one of
// those began later.
func (m *Memory) insert(e *Entry) (replaced []*Entry, crowded *Entry, ok bool) {
	hash := maphash.String(m.seed, e.Key)
	s := m.shard(hash)
	s.mu.Lock()
	defer s.mu.Unlock()
	b := s.buckets[hash]
	for b != nil && b.key != e.Key {
		b = b.next
	}
	if b == nil {
		b = &bucket{key: e.Key, next: s.buckets[hash]}
		s.buckets[hash] = b
	}
	if b.overtakes(e) {
		return nil, nil, false
	}
	list := b.beside(e)
	kept, placed := make([]*Entry, 0, len(*list)+1), false // a new slice: readers may hold the old one
	for _, old := range *list {
		if sameVariant(old, e) {
			replaced = append(replaced, old)
			continue
		}
		if !placed && !e.Fill.Before(old.Fill) {
			kept, placed = append(kept, e), true
		}
		kept = append(kept, old)
	}
	if !placed {
		kept = append(kept, e)
	}
	if !e.Failure { // the origin is well again
		b.failures = slices.DeleteFunc(slices.Clone(b.failures), func(failure *Entry) bool {
			over := overlap(failure, e)
			if over {
				replaced = append(replaced, failure)
			}
			return over
		})
	}
	if len(kept) > MaxVariants {
		last := len(kept) - 1
		if kept[last] == e {
			last-- // whoever is put is in the store
		}
		crowded = kept[last]
		kept = slices.Delete(kept, last, last+1)
	}
	*list = kept
	return replaced, crowded, true
}

// overtakes reports whether a fill that began after that of e has stored what may answer the
// same requests: nothing goes back in time.
func (b *bucket) overtakes(e *Entry) bool {
	later := func(other *Entry) bool { return e.Fill.Before(other.Fill) && overlap(other, e) }
	return slices.ContainsFunc(b.variants, later) || e.Failure && slices.ContainsFunc(b.failures, later)
}

// overlap reports whether there may be requests that either of two entries answers: nothing
// that both depend on tells them apart.
func overlap(a, b *Entry) bool {
	if !slices.Equal(a.Encodings, b.Encodings) {
		return false
	}
	for _, v := range a.Vary {
		for _, w := range b.Vary {
			if v.Name == w.Name && v != w {
				return false
			}
		}
	}
	return true
}

// sameVariant reports whether two entries answer the same requests.
func sameVariant(a, b *Entry) bool {
	return slices.Equal(a.Vary, b.Vary) && slices.Equal(a.Encodings, b.Encodings)
}

// Remove takes an entry out, if it is still in. One that was handed out stays readable.
func (m *Memory) Remove(e *Entry, why Removal) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.remove(e, why)
}

func (m *Memory) remove(e *Entry, why Removal) {
	if !e.resident {
		return
	}
	hash := maphash.String(m.seed, e.Key)
	s := m.shard(hash)
	s.mu.Lock()
	s.drop(hash, e)
	s.mu.Unlock()
	m.ghosts.remember(hash, why)
	m.forget(e, why)
}

// drop takes e out of its bucket, and the bucket out when it is empty.
func (s *shard) drop(hash uint64, e *Entry) {
	var before *bucket
	for b := s.buckets[hash]; b != nil; before, b = b, b.next {
		if b.key != e.Key {
			continue
		}
		list := b.beside(e)
		kept := make([]*Entry, 0, len(*list))
		for _, v := range *list {
			if v != e {
				kept = append(kept, v)
			}
		}
		*list = kept
		switch {
		case b.len() > 0:
		case before != nil:
			before.next = b.next
		case b.next != nil:
			s.buckets[hash] = b.next
		default:
			delete(s.buckets, hash)
		}
		return
	}
}

// forget ends the accounts of an entry that no bucket holds any more.
func (m *Memory) forget(e *Entry, why Removal) {
	if !e.resident {
		return
	}
	e.resident = false
	e.removed.Store(true)
	m.index.remove(e)
	m.eviction.Removed(e)
	m.used.Add(-e.size.Load())
	m.leave(e)
	m.entries.Add(-1)
	m.removed[why].Add(1)
}

// makeRoom evicts until size more bytes fit. What is still being read of entries that have
// left cannot be had. Under mu.
func (m *Memory) makeRoom(size int64) bool {
	for m.used.Load()+size > m.limit {
		if size+m.reserved.Load()+m.pinned.bytes.Load()+m.aside > m.limit {
			m.hurry()
			return false
		}
		victim := m.eviction.Victim()
		if victim == nil {
			return false
		}
		m.remove(victim, Evicted)
	}
	return true
}

// Reserve counts bytes that a fill holds before its entry is put, evicting for them;
// false when they do not fit. Every reserved byte must be given back with Release.
func (m *Memory) Reserve(bytes int64) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.makeRoom(bytes) {
		m.refused.Add(1)
		return false
	}
	m.used.Add(bytes)
	m.reserved.Add(bytes)
	return true
}

// Release gives reserved bytes back.
func (m *Memory) Release(bytes int64) {
	m.used.Add(-bytes)
	m.reserved.Add(-bytes)
}

// Missing tells why a key that was once here is not any more; ok is false when nothing
// is remembered of it.
func (m *Memory) Missing(canonical []byte) (why Removal, ok bool) {
	return m.ghosts.of(maphash.Bytes(m.seed, canonical))
}

// SweepIdle removes up to limit entries that nobody asked for within their idle time.
func (m *Memory) SweepIdle(now time.Time, limit int) int {
	var idle []*Entry
	for i := range m.shards {
		m.shards[i].each(func(e *Entry) {
			if e.Idle != httprules.Unset && e.IdleFor(now) > e.Idle {
				idle = append(idle, e)
			}
		})
		if len(idle) >= limit {
			break
		}
	}
	for _, e := range idle {
		m.Remove(e, Idle)
	}
	return len(idle)
}

// Limit is how many bytes there may be.
func (m *Memory) Limit() int64 { return m.limit }

// Audit counts what is there, and what it was said to take when it was put.
func (m *Memory) Audit() (entries, bytes int64) {
	for i := range m.shards {
		m.shards[i].each(func(e *Entry) { entries, bytes = entries+1, bytes+e.size.Load() })
	}
	return entries, bytes
}

// each visits the shard's entries under its read lock.
func (s *shard) each(visit func(*Entry)) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, b := range s.buckets {
		for ; b != nil; b = b.next {
			for _, e := range b.variants {
				visit(e)
			}
			for _, e := range b.failures {
				visit(e)
			}
		}
	}
}

// Figures are the store's own counters.
type Figures struct {
	Limit, Used, Reserved int64 // bytes
	Pinned                int64 // of entries that have left and are still read, part of Used
	Aside                 int64 // kept outside of entries, part of Used
	Entries               int64
	Removed               map[string]int64 // by reason
	Refused               int64            // did not fit
}

// Figures returns the counters as of now.
func (m *Memory) Figures() Figures {
	m.mu.Lock()
	aside := m.aside
	m.mu.Unlock()
	f := Figures{Limit: m.limit, Used: m.used.Load(), Reserved: m.reserved.Load(), Pinned: m.pinned.bytes.Load(), Aside: aside, Entries: m.entries.Load(), Refused: m.refused.Load(), Removed: map[string]int64{}}
	for r := range removals {
		f.Removed[r.String()] = m.removed[r].Load()
	}
	return f
}

// AddEncoded gives a stored entry another form, if there is room for it.
func (m *Memory) AddEncoded(e *Entry, c httprules.Coding, body []byte) bool {
	f := &Encoded{Coding: c, Body: body, Header: httprules.Header{"Etag": nil, "Last-Modified": e.Header["Last-Modified"], "Date": e.Header["Date"]}}
	for _, l := range e.plain.Lines {
		switch l.Name {
		case "Content-Length":
			l.Values = []string{strconv.Itoa(len(body))}
		case "Content-Digest", "Repr-Digest", "Digest", "Content-Md5":
			continue // of other bytes (RFC 9530 §2, §3)
		case "Etag":
			l.Values = []string{httprules.CodedTag(l.Values[0], c)}
			f.Header["Etag"] = l.Values
		}
		f.Lines = append(f.Lines, l)
	}
	f.Lines = append(f.Lines, Line{"Content-Encoding", []string{string(c)}})
	size := int64(cap(body)) + int64(len(f.Lines))*int64(unsafe.Sizeof(Line{})) + 256
	m.mu.Lock()
	defer m.mu.Unlock()
	if !e.resident || !m.makeRoom(size) || !e.resident {
		return false
	}
	e.size.Add(size)
	m.used.Add(size)
	for i, known := range httprules.Codings {
		if known == c {
			e.coded[i].Store(f)
		}
	}
	return true
}
