package store

import (
	"errors"
	"hash/maphash"
	"math"
	"sync"
	"sync/atomic"
	"time"

	"gerastic/internal/core/worth"
)

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
	Broken   // what the tier below read was not what it had written
	Stranded // the policy changed, and no request has its key any more
	Removals // how many reasons there are
)

// String is the reason's name in metrics.
func (r Removal) String() string {
	return [...]string{"evicted", "purged", "replaced", "idle", "crowded", "broken", "stranded"}[r]
}

// MaxVariants is how many variants one key may have; beyond it the oldest goes.
const MaxVariants = 64

const shardCount = 256

// Memory is the tier in memory. Its limit holds for everything it keeps: bodies,
// headers, keys, tags, indexes and their overhead.
//
// A key's hash finds a shard, whose table names the places of the records that may have the key.
// Who reads holds the shard's read lock while they look; who changes anything holds mu, and the
// shard's lock as long as they change its table.
type Memory struct {
	seed    maphash.Seed
	epoch   time.Time // from which on times are counted
	shards  [shardCount]shard
	words   words
	places  numbered[place]
	ready   ready
	uses    uses
	scratch sync.Pool // of writers

	limit    int64
	used     atomic.Int64 // bytes, all of them
	reserved atomic.Int64 // bytes of fills under way, part of used
	entries  atomic.Int64
	removed  [Removals]atomic.Int64
	added    atomic.Int64
	lately   atomic.Int64 // when something was put last, ns after the epoch
	ages     atomic.Int64 // ns, summed, of entries when they were evicted
	refused  atomic.Int64 // entries that did not fit
	borrowed atomic.Int64 // bytes that requests under way need, part of reserved
	pinned   pins
	ghosts   ghosts
	lower    Lower // nil: there is none
	now      func() time.Time

	mu        sync.Mutex // what follows, places, postings, and what record says it guards
	aside     int64      // bytes kept outside of entries, part of used
	squeezed  int64      // bytes of the limit that cannot be had
	structure int64      // bytes of tables, part of used
	changes   int        // since structure was counted
	index     index
	policy    *worth.Policy
	idle      idle
	bounds    map[uint32]int64 // bytes, by the word of their bound
	turn      uint64           // of what is sampled among them

	descending descending
}

// place is where a record is kept, with its body if that is long. It is written under Memory.mu,
// before its number comes into a shard's table, and after it has left it; who finds it there reads
// it under the shard's lock.
type place struct {
	record *record
	body   *byte
}

type shard struct {
	mu    sync.RWMutex
	table table
	_     [64]byte // keep shards on cache lines of their own
}

// structureOf is about what an entry takes in tables, which the policy counts with it.
const structureOf = 128

// NewMemory returns an empty tier of at most limit bytes. epoch is some time not long ago, by the
// clock whose times will be handed in.
func NewMemory(limit int64, epoch time.Time) *Memory {
	seed := maphash.MakeSeed()
	m := &Memory{
		seed: seed, epoch: epoch, limit: limit, ghosts: newGhosts(limit), words: words{seed: seed}, pinned: pins{held: map[any]*holding{}}, bounds: map[uint32]int64{},
		policy: worth.New(limit, maphash.String(seed, "")),
	}
	m.index = index{words: &m.words, places: &m.places, routes: map[uint32]struct{}{}}
	m.ready.init(min(limit/readyShare, mostReady))
	m.uses.full = make(chan *useStripe, useStripes)
	m.scratch.New = func() any { return &writer{words: &m.words} }
	return m
}

func (m *Memory) shard(hash uint64) *shard { return &m.shards[hash%shardCount] }

// tagOf is the part of a hash that a shard's table keeps.
func tagOf(hash uint64) uint32 { return uint32(hash >> 32) }

// Put stores an entry, in place of the one that answers the same requests. It returns ErrNoRoom
// when the entry does not fit at all, and ErrOvertaken when what answers the same requests comes
// from a fill that began later.
func (m *Memory) Put(e *Entry, now time.Time) error {
	e.own.used.Store(moment(now))
	m.lately.Store(int64(now.Sub(m.epoch)))
	if len(e.Body) > math.MaxUint32 {
		return ErrNoRoom
	}
	r := m.record(e)
	if err := m.keep(e, r); err != nil {
		m.dropWords(r)
		return err
	}
	m.commit()
	return nil
}

func (m *Memory) keep(e *Entry, r *record) (err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	came := m.giveBack(e)
	defer func() {
		if err != nil && came {
			m.abandon(e)
		}
	}()
	if !m.makeRoomWithin(e.Bound, r.size()) || !m.makeRoom(r.size()) {
		m.refused.Add(1)
		return ErrNoRoom
	}
	hash := maphash.String(m.seed, e.Key)
	there := m.under(hash, []byte(e.Key))
	if overtakes(there, e, r.fill()) {
		return ErrOvertaken
	}
	gone, why := displaced(there, e)
	m.displaceBelow(e)
	for _, old := range gone {
		m.policy.Expire(old.place)
	}
	m.place(e, r, hash)
	s := m.shard(hash)
	s.mu.Lock()
	for i, old := range gone {
		s.table.remove(tagOf(hash), old.place)
		if why[i] == Replaced && e.Compress {
			m.inherit(e, old)
		}
	}
	s.table.add(tagOf(hash), r.place)
	s.mu.Unlock()
	for i, old := range gone {
		m.forget(old, why[i])
		m.dropWords(old)
	}
	return nil
}

// place gives a record its place, and everything that finds it, but for the shard's table.
func (m *Memory) place(e *Entry, r *record, hash uint64) {
	r.place, r.tag, r.shard = m.places.take(), tagOf(hash), uint8(hash%shardCount)
	*m.places.at(r.place) = place{record: r}
	if r.has(isApart) {
		m.places.at(r.place).body = &e.Body[0]
	} else if r.body > 0 {
		e.Body = r.inline()
	}
	r.state.set(&e.own)
	r.note(resident)
	m.settle(e, r)
	m.index.add(r, e.Subject.Path)
	m.bounded(r, r.size())
	m.idle.add(r)
	m.policy.Add(r.place, r.tag, r.size()+structureOf, e.Cost())
	m.used.Add(r.size())
	m.entries.Add(1)
	m.added.Add(1)
	m.weigh()
	m.tellSome()
}

// weigh counts the tables now and then, which grow and shrink with what is in them.
func (m *Memory) weigh() {
	if m.changes++; m.changes%64 != 1 {
		return
	}
	bytes := m.words.memory() + m.places.bytes() + m.index.memory() + m.policy.Bytes() + m.idle.bytes()
	if m.lower != nil {
		bytes += m.lower.Bytes()
	}
	for i := range m.shards {
		bytes += int64(len(m.shards[i].table.cells)) * cellBytes
	}
	m.used.Add(bytes - m.structure)
	m.structure = bytes
}

// Remove takes an entry out, if it is still in. One that was handed out stays readable.
func (m *Memory) Remove(e *Entry, why Removal) {
	r := e.kept.Load()
	switch {
	case r == nil && e.below.is:
		m.lower.Remove(e.below.hash, variantOf(e), why)
		m.commit()
		return
	case r == nil:
		return
	}
	m.mu.Lock()
	m.remove(r, why)
	m.mu.Unlock()
	m.commit()
}

func (m *Memory) remove(r *record, why Removal) {
	switch {
	case !r.is(resident):
	case r.has(isForm):
		m.removeForm(r)
	default:
		leaves := why == Evicted && m.leaveFor(r) // first: what is not found here is looked for there
		s := &m.shards[r.shard]
		s.mu.Lock()
		s.table.remove(r.tag, r.place)
		s.mu.Unlock()
		m.ghosts.remember(r.tag, why)
		m.forget(r, why)
		if !leaves {
			m.dropWords(r)
		}
	}
}

// forget ends the accounts of a record that no table names any more, but for its words.
func (m *Memory) forget(r *record, why Removal) {
	m.eachForm(r, m.freeForm)
	r.notes.And(^uint32(resident))
	r.note(removed)
	m.ready.drop(r)
	m.index.remove(r, m.pathOf(r))
	m.bounded(r, -r.size())
	m.idle.remove(r)
	if why != Evicted {
		m.leaveBelow(r, why)
	}
	if why != Evicted && why != Replaced {
		m.policy.Expire(r.place)
	}
	m.policy.Remove(r.place)
	m.used.Add(-r.size())
	m.leave(r)
	m.places.give(r.place)
	m.entries.Add(-1)
	m.removed[why].Add(1)
	if why == Evicted {
		m.ages.Add(max(0, m.lately.Load()-r.began))
	}
}

// stride is how many entries go before others may come between.
const stride = 32

// makeRoom evicts until size more bytes fit. What is still being read of entries that have
// left cannot be had. Under mu, which it lets others have now and then.
func (m *Memory) makeRoom(size int64) bool { return m.evictFor(size, m.letDescend) }

// evictFor is makeRoom; before each that goes, something may be waited for.
func (m *Memory) evictFor(size int64, before func()) bool {
	for gone := 1; ; gone++ {
		room := m.limit - m.ready.limit - m.descending.limit - m.squeezed
		if m.used.Load()+size <= room {
			return true
		}
		if size+m.reserved.Load()+m.pinned.bytes.Load()+m.aside > room {
			m.hurry()
			return false
		}
		before()
		victim, ok := m.policy.Victim()
		if !ok {
			return false
		}
		m.remove(m.places.at(victim).record, Evicted)
		if gone%stride == 0 {
			m.yield()
		}
	}
}

// Squeeze makes the store do with so many bytes less than its limit, but for a quarter of it, which
// it always has.
func (m *Memory) Squeeze(bytes int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.squeezed = min(bytes, m.limit*3/4)
	m.makeRoom(0)
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

// giveBack ends what was reserved for an entry and reports whether something was. Under mu, which
// is held until its body counts otherwise.
func (m *Memory) giveBack(e *Entry) bool {
	bytes := e.Reserved
	m.Release(bytes)
	e.Reserved = 0
	return bytes > 0
}

// Missing tells why a key that was once here is not any more; ok is false when nothing
// is remembered of it.
func (m *Memory) Missing(canonical []byte) (why Removal, ok bool) {
	return m.ghosts.of(tagOf(maphash.Bytes(m.seed, canonical)))
}

// Counted is how many bytes the store takes, everything counted, with what is on its way to the tier
// below.
func (m *Memory) Counted() int64 { return m.used.Load() + m.ready.bytes.Load() + m.Descending() }

// Limit is how many bytes there may be.
func (m *Memory) Limit() int64 { return m.limit }

// Audit counts what is there, and what it was said to take when it was put.
func (m *Memory) Audit() (entries, bytes int64) {
	for i := range m.shards {
		m.inShard(&m.shards[i], func(r *record) {
			entries, bytes = entries+1, bytes+r.size()
			m.eachForm(r, func(form *record) { bytes += form.size() })
		})
	}
	return entries, bytes
}

// inShard visits the shard's records under its read lock.
func (m *Memory) inShard(s *shard, visit func(*record)) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, c := range s.table.cells {
		if c.name > 0 {
			visit(m.places.at(c.name - 1).record)
		}
	}
}

// Figures are the store's own counters.
type Figures struct {
	Limit, Used, Reserved int64 // bytes
	Pinned                int64 // of entries that have left and are still read, part of Used
	Descending            int64 // on their way to the tier below; no part of Used
	Aside                 int64 // kept outside of entries, part of Used
	Ready                 int64 // of entries that are kept ready to be sent, part of Used
	Structure             int64 // of tables, part of Used
	Kept                  int64 // of entries and their coded forms, the rest of Used
	Entries               int64
	Added                 int64            // since the start
	Ages                  time.Duration    // of entries when they were evicted, summed
	Removed               map[string]int64 // by reason
	Refused               int64            // did not fit
}

// Figures returns the counters as of now.
func (m *Memory) Figures() Figures {
	m.mu.Lock()
	aside, structure, descending := m.aside, m.structure, m.descending.bytes
	m.mu.Unlock()
	f := Figures{
		Limit: m.limit, Used: m.used.Load() + m.ready.bytes.Load(), Reserved: m.reserved.Load(), Pinned: m.pinned.bytes.Load(), Descending: descending, Aside: aside, Ready: m.ready.bytes.Load(), Structure: structure,
		Added: m.added.Load(), Ages: time.Duration(m.ages.Load()), Entries: m.entries.Load(), Refused: m.refused.Load(), Removed: map[string]int64{},
	}
	f.Kept = f.Used - f.Reserved - f.Pinned - f.Aside - f.Ready - f.Structure
	for r := range Removals {
		f.Removed[r.String()] = m.removed[r].Load()
	}
	return f
}

// Sizes are what stores of other sizes would have saved since the start, and what this one did.
func (m *Memory) Sizes() (others []worth.Size, own worth.Size) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.policy.Sizes()
}
