package store

import (
	"maps"
	"slices"
	"sync"
	"sync/atomic"
)

// HoldFrom is from how many bytes on whoever writes a body to somebody holds its entry: less
// than that goes without, and what they may keep from being freed is bounded by how many
// connections there are.
const HoldFrom = 16 << 10

// Holder is somebody who reads an entry's body. What they still read when the entry has left
// the store stays in the account.
type Holder struct {
	store *Memory
	entry *Entry
	cut   func() // ends the reading if it takes long; it must not wait for the store
}

// Hold says that somebody reads the entry's body from now on. cut is called when entries that
// have left, and are still being read, take more than a quarter of the memory and something
// else has no room. Every Holder must be released.
func (m *Memory) Hold(e *Entry, cut func()) *Holder {
	h := &Holder{m, e, cut}
	e.holding.Lock()
	defer e.holding.Unlock()
	e.holders = append(e.holders, h)
	if e.left && !e.pinned {
		m.pin(e)
	}
	return h
}

// Release ends the reading.
func (h *Holder) Release() {
	e := h.entry
	e.holding.Lock()
	defer e.holding.Unlock()
	e.holders = slices.DeleteFunc(e.holders, func(other *Holder) bool { return other == h })
	if len(e.holders) == 0 && e.pinned {
		h.store.unpin(e)
	}
}

// pins are the entries that have left and are still read.
type pins struct {
	mu    sync.Mutex
	all   map[*Entry]struct{}
	bytes atomic.Int64 // part of used
}

// pin counts an entry that has left and is still read. Under e.holding.
func (m *Memory) pin(e *Entry) {
	e.pinned = true
	m.used.Add(e.size.Load())
	m.pinned.bytes.Add(e.size.Load())
	m.pinned.mu.Lock()
	defer m.pinned.mu.Unlock()
	m.pinned.all[e] = struct{}{}
}

// unpin ends that. Under e.holding.
func (m *Memory) unpin(e *Entry) {
	e.pinned = false
	m.used.Add(-e.size.Load())
	m.pinned.bytes.Add(-e.size.Load())
	m.pinned.mu.Lock()
	defer m.pinned.mu.Unlock()
	delete(m.pinned.all, e)
}

// hurry ends what takes long, when there is much of it.
func (m *Memory) hurry() {
	if m.pinned.bytes.Load() <= m.limit/4 {
		return
	}
	m.pinned.mu.Lock()
	all := slices.Collect(maps.Keys(m.pinned.all))
	m.pinned.mu.Unlock()
	for _, e := range all {
		e.holding.Lock()
		for _, h := range e.holders {
			h.cut()
		}
		e.holding.Unlock()
	}
}

// Abandon says that an entry will not be put: whoever reads it holds what nobody counts
// otherwise.
func (m *Memory) Abandon(e *Entry) {
	e.size.Store(e.Size())
	m.leave(e)
}

// leave ends an entry's own account.
func (m *Memory) leave(e *Entry) {
	e.holding.Lock()
	defer e.holding.Unlock()
	e.left = true
	if len(e.holders) > 0 && !e.pinned {
		m.pin(e)
	}
}

// Borrow counts bytes that a request under way needs, besides entries and fills: bodies of
// visitors, and answers that are not stored, as long as their visitor has not read them. It
// reports false when such bytes would take more than a quarter of the memory. Every byte
// must be given back with Return.
func (m *Memory) Borrow(bytes int64) bool {
	if m.borrowed.Add(bytes) <= m.limit/4 && m.Reserve(bytes) {
		return true
	}
	m.borrowed.Add(-bytes)
	return false
}

// Return gives borrowed bytes back.
func (m *Memory) Return(bytes int64) {
	m.Release(bytes)
	m.borrowed.Add(-bytes)
}

// SetAside counts what is kept for caching outside of entries, such as marks and memos, in
// place of what it was before; entries make room for it.
func (m *Memory) SetAside(bytes int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.used.Add(bytes - m.aside)
	m.aside = bytes
	m.makeRoom(0)
}
