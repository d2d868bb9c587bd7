package fetch

import (
	"hash/maphash"
	"sync"
	"sync/atomic"
	"unsafe"
)

// memo remembers something about keys, by their hash: what it says is a hint, or is
// checked by who asks. It is bounded: when it is full it forgets all, which costs a request
// or two.
type memo[V any] struct {
	mu   sync.RWMutex
	kept map[uint64]V
	size atomic.Int64
}

const memoSize = 8192

// memoSeed is drawn once; it does not change.
var memoSeed = maphash.MakeSeed()

func (m *memo[V]) remember(key string, v V) {
	hash := maphash.String(memoSeed, key)
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.kept == nil || len(m.kept) >= memoSize {
		m.kept = map[uint64]V{}
	}
	m.kept[hash] = v
	m.size.Store(int64(len(m.kept)))
}

// bytes is about what the memo takes.
func (m *memo[V]) bytes() int64 {
	var v V
	return m.size.Load() * (48 + int64(unsafe.Sizeof(v)))
}

func (m *memo[V]) any() bool { return m.size.Load() > 0 }

func (m *memo[V]) of(key string) (v V, ok bool) {
	if !m.any() {
		return v, false
	}
	hash := maphash.String(memoSeed, key)
	m.mu.RLock()
	defer m.mu.RUnlock()
	v, ok = m.kept[hash]
	return v, ok
}

func (m *memo[V]) forget(key string) {
	if !m.any() {
		return
	}
	hash := maphash.String(memoSeed, key)
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.kept, hash)
	m.size.Store(int64(len(m.kept)))
}
