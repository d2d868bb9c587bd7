package store

import (
	"sync"
	"sync/atomic"
)

// HoldFrom is from how many bytes on whoever writes a body to somebody holds its entry: less
// than that goes without, and what they may keep from being freed is bounded by how many
// connections there are.
const HoldFrom = 16 << 10

// Holder is somebody who reads a body. What they still read when its entry has left the store stays
// in the account.
type Holder struct {
	store *Memory
	of    *holding
	cut   func() // ends the reading if it takes long; it must not wait for the store
}

// holding is a body that is being read.
type holding struct {
	bytes   int64
	holders map[*Holder]struct{}
	pinned  bool // counted although it left, or will never be in the store
	by      any
}

// pins are the bodies that are being read, by what holds them: a record, or the entry that may
// become one.
type pins struct {
	mu    sync.Mutex
	held  map[any]*holding
	bytes atomic.Int64 // of those that have left; part of used
}

// Hold says that somebody reads an entry's body from now on, in the form f if that is not nil. cut
// is called when entries that have left, and are still being read, take more than a quarter of the
// memory and something else has no room. Every Holder must be released.
func (m *Memory) Hold(e *Entry, f *Encoded, cut func()) *Holder {
	r := e.kept.Load()
	if f != nil && f.kept != nil {
		r = f.kept
	}
	m.pinned.mu.Lock()
	defer m.pinned.mu.Unlock()
	by, left := any(e), e.abandoned
	if r == nil {
		r = e.kept.Load() // it came into the store just now
	}
	if r != nil {
		by, left = r, r.is(removed)
	}
	of := m.pinned.held[by]
	if of == nil {
		of = &holding{by: by, holders: map[*Holder]struct{}{}}
		m.pinned.held[by] = of
	}
	h := &Holder{m, of, cut}
	of.holders[h] = struct{}{}
	if left {
		m.pin(of)
	}
	return h
}

// Release ends the reading.
func (h *Holder) Release() {
	m, of := h.store, h.of
	m.pinned.mu.Lock()
	defer m.pinned.mu.Unlock()
	delete(of.holders, h)
	if len(of.holders) > 0 {
		return
	}
	delete(m.pinned.held, of.by)
	if of.pinned {
		of.pinned = false
		m.used.Add(-of.bytes)
		m.pinned.bytes.Add(-of.bytes)
	}
}

// pin counts what has left and is still read. Under pinned.mu.
func (m *Memory) pin(of *holding) {
	if of.pinned {
		return
	}
	switch by := of.by.(type) {
	case *record:
		of.bytes = by.size()
	case *Entry:
		of.bytes = allocated(cap(by.Body))
	}
	of.pinned = true
	m.used.Add(of.bytes)
	m.pinned.bytes.Add(of.bytes)
}

// leave counts a record that leaves for as long as somebody reads it.
func (m *Memory) leave(r *record) {
	m.pinned.mu.Lock()
	defer m.pinned.mu.Unlock()
	if of := m.pinned.held[r]; of != nil {
		m.pin(of)
	}
}

// Abandon says that an entry will not be put: whoever reads it holds what nobody counts
// otherwise. What Put refuses of a fill that reserved for it is abandoned.
func (m *Memory) Abandon(e *Entry) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.giveBack(e)
	m.abandon(e)
}

// abandon is Abandon. Under mu.
func (m *Memory) abandon(e *Entry) {
	m.pinned.mu.Lock()
	defer m.pinned.mu.Unlock()
	e.abandoned = true
	if of := m.pinned.held[e]; of != nil {
		m.pin(of)
	}
}

// settle makes those who read an entry while it came readers of its record.
func (m *Memory) settle(e *Entry, r *record) {
	m.pinned.mu.Lock()
	defer m.pinned.mu.Unlock()
	e.kept.Store(r)
	if of := m.pinned.held[e]; of != nil {
		delete(m.pinned.held, e)
		of.by = r
		m.pinned.held[r] = of
	}
}

// hurry ends what takes long, when there is much of it.
func (m *Memory) hurry() {
	if m.pinned.bytes.Load() <= m.limit/4 {
		return
	}
	m.pinned.mu.Lock()
	defer m.pinned.mu.Unlock()
	for _, of := range m.pinned.held {
		if of.pinned {
			for h := range of.holders {
				h.cut()
			}
		}
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
	m.evictFor(0, func() {}) // a purge comes into force meanwhile
}
