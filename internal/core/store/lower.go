package store

import (
	"cmp"
	"context"
	"hash/maphash"
	"slices"
	"sync/atomic"
	"time"

	"gerastic/internal/core/tags"
)

// Lower is a tier below the memory, slower and larger. It takes the entries that memory gives up,
// and has them until they leave it, also while memory has them again. It is safe for concurrent
// use, and never calls the memory.
type Lower interface {
	// Hash is what it finds a key by, the same after a restart.
	Hash(key []byte) uint64
	// Has reports whether it may have something under a key.
	Has(hash uint64) bool
	// Read reads what of that memory does not have. The memory of an image is the caller's; a long
	// body is left where it is.
	Read(hash uint64, visit func(*Image, Spot))
	// Raise says that memory has what stands in a spot from now on; false if it has left the spot.
	Raise(hash uint64, at Spot) bool
	// Lapse says that memory has it no longer; false if the tier does not have it either.
	Lapse(hash uint64, v Variant) bool
	// Displace takes out what may answer the same requests as a variant that memory was given.
	Displace(hash uint64, v Variant)
	// Remove takes out one variant.
	Remove(hash uint64, v Variant, why Removal)
	// Takes reports whether it would write an image of so many bytes, which was used so often and
	// whose fill takes cost.
	Takes(bytes int64, uses float64, cost time.Duration) bool
	// Write keeps images, but for those that are Gone by the time that they would be found.
	Write(images []*Image)
	// Moment is the present one, see Image.Left.
	Moment() Moment
	// Commit makes what was taken out stay out, also if the process is killed.
	Commit()
	// Swept is up to where in the ledger no mark is needed for what it has.
	Swept() tags.Stamp
	// Sweep takes out what a purge covers, and counts what memory does not have; Preview counts it.
	Sweep(p tags.Purge) Matched
	Preview(p tags.Purge) Matched
	// Bytes is how much memory it takes.
	Bytes() int64
	// Each visits what a purge would cover and memory does not have, without bodies. At is what
	// stands somewhere, with its body; nil: it has left.
	Each(named tags.Purge, visit func(*Image, Spot))
	At(segment, at uint32) (*Image, Spot)
	// Routes counts, by route, what memory does not have.
	Routes() map[string]int
	Figures() LowerFigures
}

// Spot is where something stands in a tier below.
type Spot struct {
	Segment, At uint32
	Bytes       int64
	Again       bool // it was read before, since it was written
	Alone       bool // nothing else stands under its hash
}

// Moment is a moment between two sweeps that have no place in the ledger.
type Moment uint32

// LowerFigures are a tier's own counters.
type LowerFigures struct {
	Limit, Bytes int64 // Bytes: of entries that memory does not have
	Taken        int64 // of the device, everything counted
	Entries      int64 // that memory does not have
	Added        int64
	Removed      map[string]int64
	Written      int64 // bytes since the start
	Refused      int64 // images that were not written: no room in the index, the budget, the queue
	Errors       int64
	Off          string // why it was switched off; "" if it was not
}

// leaving is a record that memory has given up, on its way to the tier below. It holds its words.
type leaving struct {
	place
	hash  uint64
	uses  float64
	since Moment
	gone  *atomic.Bool
}

// onTheWay are those of a key.
type onTheWay struct {
	count int
	gone  *atomic.Bool // set when something newer comes, or one of them is not to be kept
}

// Over puts the memory over a tier below. It must be called before the memory is used; somebody
// must run Descend.
func (m *Memory) Over(lower Lower, now func() time.Time) {
	m.lower, m.now = lower, now
	m.descending.limit = min(m.limit/descendShare, mostDescending)
	m.descending.queue = make(chan leaving, 1<<14)
	m.descending.written = make(chan struct{})
	m.descending.keys = map[uint64]*onTheWay{}
}

// descending is what is on its way down.
type descending struct {
	queue chan leaving
	limit int64 // bytes that may be on their way

	some    atomic.Int64 // how many are on their way
	bytes   int64        // guarded by Memory.mu, as what follows
	keys    map[uint64]*onTheWay
	written chan struct{} // closed when some more have arrived
	slow    time.Time     // when waiting for that did not help
}

const (
	// descendShare is which part of the memory may be on its way down, and mostDescending how
	// much at most.
	descendShare   = 8
	mostDescending = 16 << 20
	// aloneShare is which part of the memory one may take that goes down alone, and mostAlone how much.
	aloneShare = 4
	mostAlone  = 64 << 20
	// patience is how long somebody who needs room waits for what goes down.
	patience = time.Second
	// descendBatch is how many go down at a time.
	descendBatch = 32
)

// lowerHash is what the tier below finds a record by. Under the lock of its shard, or mu.
func (m *Memory) lowerHash(r *record) (hash uint64, v Variant) {
	e := m.reader(r).read(m.epoch)
	return m.lower.Hash([]byte(e.Key)), variantOf(e)
}

// leaveFor sends a record that memory gives up to the tier below, if that takes it; it then holds
// its words. Under mu.
func (m *Memory) leaveFor(r *record) bool {
	if m.lower == nil || r.has(isFailure) {
		return false
	}
	if r.is(lowered) {
		if hash, v := m.lowerHash(r); m.lower.Lapse(hash, v) {
			return false
		}
	}
	uses, key := m.policy.Uses(r.place), m.keyOf(r)
	if !m.descending.takes(r.size(), m.limit) || !m.lower.Takes(r.size(), uses, time.Duration(r.cost.Load())*time.Microsecond) || !m.isAlike(r, key) {
		return false
	}
	d, hash := &m.descending, m.lower.Hash(key)
	way := d.keys[hash]
	if way == nil {
		way = &onTheWay{gone: new(atomic.Bool)}
	}
	select {
	case d.queue <- leaving{place: *m.places.at(r.place), hash: hash, uses: uses, since: m.lower.Moment(), gone: way.gone}:
		way.count++
		d.keys[hash] = way
		d.bytes += r.size()
		d.some.Add(1)
		return true
	default:
		return false
	}
}

// takes reports whether so many bytes more may be on their way down: what is longer than the limit goes
// alone. Under Memory.mu.
func (d *descending) takes(bytes, memory int64) bool {
	return d.bytes+bytes <= d.limit || d.bytes == 0 && bytes <= min(memory/aloneShare, mostAlone)
}

// displaceBelow takes out of the tier below, and of what is on its way there, what may answer the
// same requests as an entry that comes. Under mu.
func (m *Memory) displaceBelow(e *Entry) {
	if m.lower == nil || e.Failure {
		return
	}
	hash := m.lower.Hash([]byte(e.Key))
	m.descending.turnBack(hash)
	m.lower.Displace(hash, variantOf(e))
}

// turnBack keeps what is on its way down under a key from being found there.
func (d *descending) turnBack(hash uint64) {
	if way := d.keys[hash]; way != nil {
		way.gone.Store(true)
		way.gone = new(atomic.Bool)
	}
}

// keyOf is a record's key. Under the lock of its shard, or mu.
func (m *Memory) keyOf(r *record) []byte {
	reader := m.reader(r)
	return append([]byte(reader.skipKey()), reader.key...)
}

// isAlike reports whether all that memory has under a record's key is of its family, and other
// variants, so that what goes down answers no request that something here answers. Under mu.
func (m *Memory) isAlike(r *record, key []byte) bool {
	others := slices.DeleteFunc(m.records(nil, &m.shards[r.shard], r.tag, key), func(other *record) bool { return other == r })
	if len(others) == 0 {
		return true
	}
	own := variantOf(m.reader(r).read(m.epoch))
	return !slices.ContainsFunc(others, func(other *record) bool {
		v := variantOf(m.reader(other).read(m.epoch))
		return other.has(isFailure) || v.Family != own.Family || v.Own == own.Own
	})
}

// letDescend waits for a moment when there is much on its way down, so that what leaves next can go
// there, too. When that did not help, nobody waits for some time. Under mu, which others may have
// meanwhile.
func (m *Memory) letDescend() {
	d := &m.descending
	if m.lower == nil || d.bytes <= d.limit/2 || m.now().Sub(d.slow) < 5*patience {
		return
	}
	late := time.NewTimer(patience)
	defer late.Stop()
	for d.bytes > d.limit/2 {
		written := d.written
		m.mu.Unlock()
		select {
		case <-written:
			m.mu.Lock()
		case <-late.C:
			m.mu.Lock()
			d.slow = m.now()
			return
		}
	}
}

// Descend writes what memory gives up to the tier below, until the context ends.
func (m *Memory) Descend(ctx context.Context) {
	for m.lower != nil {
		select {
		case one := <-m.descending.queue:
			m.descend(one)
		case <-ctx.Done():
			return
		}
	}
}

// descend writes one and those behind it.
func (m *Memory) descend(one leaving) {
	some := append(make([]leaving, 0, descendBatch), one)
	for len(some) < cap(some) && len(m.descending.queue) > 0 {
		some = append(some, <-m.descending.queue)
	}
	var images []*Image
	var bytes int64
	m.mu.Lock()
	for _, l := range some {
		e := m.decodeAt(l.record, bodyOf(&l.place))
		i := imageOf(e, m.epoch)
		i.Uses, i.Left, i.Gone = l.uses, l.since, l.gone
		images = append(images, &i)
		bytes += l.record.size()
	}
	m.mu.Unlock()
	m.lower.Write(images)
	for _, l := range some {
		m.dropWords(l.record)
	}
	m.mu.Lock()
	for _, l := range some {
		if way := m.descending.keys[l.hash]; way.count == 1 {
			delete(m.descending.keys, l.hash)
		} else {
			way.count--
		}
	}
	m.descending.some.Add(-int64(len(some)))
	m.descending.bytes -= bytes
	close(m.descending.written)
	m.descending.written = make(chan struct{})
	m.mu.Unlock()
}

// Flush writes to the tier below what only memory has, that of the most worth first, until the
// context ends. Nobody may use the memory any more.
func (m *Memory) Flush(ctx context.Context) {
	if m.lower == nil {
		return
	}
	for len(m.descending.queue) > 0 && ctx.Err() == nil {
		m.descend(<-m.descending.queue)
	}
	type worthy struct {
		*record
		worth float64
	}
	var all []worthy
	m.mu.Lock()
	for i := range m.shards {
		m.inShard(&m.shards[i], func(r *record) {
			if !r.has(isFailure) && m.isAlike(r, m.keyOf(r)) {
				all = append(all, worthy{r, m.policy.Worth(r.place)})
			}
		})
	}
	m.mu.Unlock()
	slices.SortFunc(all, func(a, b worthy) int { return cmp.Compare(b.worth, a.worth) })
	for some := range slices.Chunk(all, descendBatch) {
		if ctx.Err() != nil {
			return
		}
		var images []*Image
		m.mu.Lock()
		for _, one := range some {
			if !one.is(resident) {
				continue
			}
			i := imageOf(m.decode(one.record), m.epoch)
			if m.lower.Lapse(m.lower.Hash([]byte(i.Key)), i.Variant) {
				continue
			}
			i.Uses, i.Left, i.Gone = m.policy.Uses(one.place), m.lower.Moment(), new(atomic.Bool)
			images = append(images, &i)
		}
		m.mu.Unlock()
		m.lower.Write(images)
	}
}

// awaitDescent waits for what is on its way down under a key, but not for long.
func (m *Memory) awaitDescent(hash uint64) {
	d := &m.descending
	if d.some.Load() == 0 {
		return
	}
	late := time.NewTimer(patience)
	defer late.Stop()
	m.mu.Lock()
	defer m.mu.Unlock()
	for d.keys[hash] != nil {
		written := d.written
		m.mu.Unlock()
		select {
		case <-written:
			m.mu.Lock()
		case <-late.C:
			m.mu.Lock()
			return
		}
	}
}

// below is where an entry is that memory does not have: in the tier below, under this hash.
type below struct {
	hash uint64
	is   bool
}

// raise looks for what the tier below has under a key. What was asked for there before comes up, and
// all of it if it is several; anything else passes by: it is returned, and memory does not have
// it. So does what memory has no room for, unless its body is far and wanted in memory. What came up alone
// is returned, too: it may give way before it is found.
func (m *Memory) raise(canonical []byte, need need) (passing *Entry, came bool) {
	if m.lower == nil {
		return nil, false
	}
	hash := m.lower.Hash(canonical)
	if !m.lower.Has(hash) {
		if m.awaitDescent(hash); !m.lower.Has(hash) { // also if it arrived before that looked
			return nil, false
		}
	}
	alone := true
	m.lower.Read(hash, func(i *Image, at Spot) {
		e, err := i.entry()
		switch {
		case err != nil:
			m.lower.Remove(hash, i.Variant, Broken)
		case e.Key != string(canonical):
		case i.Idle > 0 && moment(m.now())-i.Used > i.Idle<<2:
			m.lower.Remove(hash, i.Variant, Idle)
		case alone && at.Alone && m.passes(e, at, need):
			passing = m.passing(e, hash)
		default:
			came = m.bring(e, i, hash, at) || came
			if alone && at.Alone && e.Skeleton == nil && (e.Far == nil || need == needAny) && m.lower.Has(hash) {
				passing = m.passing(e, hash) // for want of room, or if it gives way again at once
			}
		}
		alone = false
	})
	if alone { // nothing was there to be read: somebody else brings it, or it moves
		m.awaitLift()
		came = true
	}
	return passing, came
}

// awaitLift waits for who brings something up.
func (m *Memory) awaitLift() {
	m.mu.Lock()
	defer m.mu.Unlock()
}

// passes reports whether an entry passes by, rather than that it comes up.
func (m *Memory) passes(e *Entry, at Spot, need need) bool {
	switch {
	case e.Skeleton != nil:
		return false
	case e.Far != nil:
		return need == needAny && m.mayStayFar(e.Length(), at)
	}
	return !at.Again && !m.hasRoom(e.Length())
}

func (m *Memory) passing(e *Entry, hash uint64) *Entry {
	e.below, e.abandoned = below{hash, true}, true
	return e
}

// bring puts an entry that the tier below has into memory, with its body.
func (m *Memory) bring(e *Entry, i *Image, hash uint64, at Spot) bool {
	if i.Far != nil {
		near := *i
		if !m.Reserve(i.Length) { // many may be read at once
			return false
		}
		body, err := i.Far.Load()
		m.Release(i.Length)
		if err != nil {
			return false
		}
		near.Body, near.Far = body, nil
		if e, err = near.entry(); err != nil {
			m.lower.Remove(hash, i.Variant, Broken)
			return false
		}
	}
	return m.lift(e, hash, at)
}

// hasRoom reports whether so many bytes fit without anything that leaves.
func (m *Memory) hasRoom(bytes int64) bool {
	return m.used.Load()+2*bytes <= m.limit-m.ready.limit-m.descending.limit
}

// lift puts an entry that the tier below has into memory, too.
func (m *Memory) lift(e *Entry, hash uint64, at Spot) bool {
	r := m.record(e)
	m.mu.Lock()
	ok := m.lifted(e, r, hash, at)
	m.mu.Unlock()
	if !ok {
		m.dropWords(r)
	}
	return ok
}

func (m *Memory) lifted(e *Entry, r *record, below uint64, at Spot) bool {
	if !m.makeRoomWithin(e.Bound, r.size()) || !m.makeRoom(r.size()) {
		m.refused.Add(1)
		return false
	}
	hash := maphash.String(m.seed, e.Key)
	there := m.under(hash, []byte(e.Key))
	if slices.ContainsFunc(there, func(v variant) bool { return v.is(e.Vary, e.Encodings) && v.has(isFailure) == e.Failure }) {
		return true // somebody else has brought it, or something newer has come
	}
	if overtakes(there, e, r.fill()) || !m.lower.Raise(below, at) {
		return false
	}
	m.place(e, r, hash)
	r.note(lowered)
	s := m.shard(hash)
	s.mu.Lock()
	s.table.add(tagOf(hash), r.place)
	s.mu.Unlock()
	return true
}

// freeStrandedBelow is FreeStranded in the tier below.
func (m *Memory) freeStrandedBelow(reached func(route, key string) bool) {
	m.lower.Each(tags.Purge{All: true}, func(i *Image, _ Spot) {
		if e, err := i.entry(); err == nil && !reached(e.Subject.Route, e.Key) {
			m.lower.Remove(m.lower.Hash([]byte(e.Key)), i.Variant, Stranded)
		}
	})
}

// commit makes last what was taken out of the tier below.
func (m *Memory) commit() {
	if m.lower != nil {
		m.lower.Commit()
	}
}

// leaveBelow takes out of the tier below what leaves memory for good. Under mu.
func (m *Memory) leaveBelow(r *record, why Removal) {
	if m.lower == nil || why == Purged || r.has(isFailure) { // the tier's own sweep takes what a purge covers
		return
	}
	hash, v := m.lowerHash(r)
	m.descending.turnBack(hash)
	m.lower.Remove(hash, v, why)
}

// LowerFigures are those of the tier below; ok is false if there is none.
func (m *Memory) LowerFigures() (f LowerFigures, ok bool) {
	if m.lower == nil {
		return f, false
	}
	return m.lower.Figures(), true
}

// Descending is how many bytes are on their way down.
func (m *Memory) Descending() int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.descending.bytes
}
