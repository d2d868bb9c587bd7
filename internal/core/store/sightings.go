package store

import (
	"hash/maphash"
	"sync"
	"time"
	"unsafe"
)

// Sightings count how often keys were asked for lately, for those that are stored only then. They
// are a table of fixed size: where too many keys are asked for at once, the ones seen longest ago
// are forgotten.
type Sightings struct {
	seed  maphash.Seed
	limit int64

	mu    sync.Mutex
	cells [][4]sightedKey // made when something is counted
}

// sightedKey is a key that was asked for: when first and last, as far as that counts, and how often
// in between.
type sightedKey struct {
	tag, count  uint32
	first, last int64 // unix ns
}

// NewSightings returns an empty table of so many bytes, about.
func NewSightings(bytes int64) *Sightings {
	return &Sightings{seed: maphash.MakeSeed(), limit: bytes}
}

// Bytes is how much memory it takes.
func (s *Sightings) Bytes() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return int64(len(s.cells)) * int64(unsafe.Sizeof([4]sightedKey{}))
}

// Sight notes that a key is asked for, and returns for which time that is within a span of time.
// What has left the span is taken to have come evenly.
func (s *Sightings) Sight(key string, now time.Time, within time.Duration) (times int) {
	hash := maphash.String(s.seed, key)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cells == nil {
		s.cells = make([][4]sightedKey, max(16, s.limit/int64(unsafe.Sizeof([4]sightedKey{}))))
	}
	k, at := sighted(&s.cells[hash%uint64(len(s.cells))], uint32(hash>>32)), now.UnixNano()
	switch from := at - int64(within); {
	case k.count == 0 || k.last <= from:
		k.count, k.first = 0, at
	case k.first <= from:
		k.count = max(1, uint32(float64(k.count)*float64(k.last-from)/float64(max(1, k.last-k.first))))
		k.first = from + 1
	}
	k.count++
	k.last = max(k.last, at)
	return int(k.count)
}

// sighted is the cell of a tag: its own, or that of the key that was seen longest ago.
func sighted(all *[4]sightedKey, tag uint32) *sightedKey {
	oldest := &all[0]
	for i := range all {
		switch k := &all[i]; {
		case k.tag == tag && k.count > 0:
			return k
		case k.last < oldest.last:
			oldest = k
		}
	}
	*oldest = sightedKey{tag: tag}
	return oldest
}
