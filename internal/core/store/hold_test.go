package store

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/tags"
)

func sized(key string, bytes int) *Entry {
	return &Entry{Key: key, Subject: tags.Subject{Route: "r", Path: key}, Body: make([]byte, bytes), Browser: httprules.Unset, Idle: httprules.Unset}
}

// TestPromise6WhatIsReadStaysInTheAccount: however entries come, are read, leave and are read
// on, what the store says that it uses is what is there.
func TestPromise6WhatIsReadStaysInTheAccount(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := NewMemory(2<<20, noon)
		now := time.Unix(1000, 0)
		held := map[*Holder]*Entry{}
		var made []*Entry
		var reserved, borrowed, aside int64
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			switch rapid.IntRange(0, 8).Draw(t, "step") {
			case 0, 1:
				e := sized(fmt.Sprint(rapid.IntRange(0, 9).Draw(t, "key")), rapid.IntRange(1, 500_000).Draw(t, "size"))
				if rapid.Bool().Draw(t, "read while it comes") {
					held[m.Hold(e, nil, func() {})] = e
				}
				if size := int64(len(e.Body)); rapid.Bool().Draw(t, "reserved") && m.Reserve(size) {
					e.Reserved = size
				}
				if rapid.IntRange(0, 4).Draw(t, "overtaken") == 0 || m.Put(e, now) != nil {
					m.Abandon(e)
				}
				made = append(made, e)
			case 2, 3:
				if len(made) > 0 {
					e := rapid.SampledFrom(made).Draw(t, "entry")
					held[m.Hold(e, nil, func() {})] = e
				}
			case 4:
				for h := range held {
					h.Release()
					delete(held, h)
					break
				}
			case 5:
				if len(made) > 0 {
					m.Remove(rapid.SampledFrom(made).Draw(t, "entry"), Purged)
				}
			case 6:
				if more := rapid.Int64Range(1, 400_000).Draw(t, "bytes"); m.Reserve(more) {
					reserved += more
				}
			case 7:
				if more := rapid.Int64Range(1, 200_000).Draw(t, "bytes"); m.Borrow(more) {
					borrowed += more
				}
			case 8:
				aside = rapid.Int64Range(0, 100_000).Draw(t, "bytes")
				m.SetAside(aside)
			}
			f := m.Figures()
			_, stored := m.Audit()
			pinned := int64(0)
			seen := map[*holding]bool{}
			for h := range held {
				if h.of.pinned && !seen[h.of] {
					seen[h.of] = true
					pinned += h.of.bytes
				}
				if r := held[h].kept.Load(); r != nil {
					require.Equal(t, !r.is(resident), h.of.pinned)
				}
			}
			require.Equal(t, pinned, f.Pinned)
			require.Equal(t, stored+reserved+borrowed+pinned+aside+f.Structure+f.Ready, f.Used)
			require.Equal(t, reserved+borrowed, f.Reserved)
			require.LessOrEqual(t, borrowed, f.Limit/4)
		}
		for h := range held {
			h.Release()
		}
		m.Release(reserved)
		m.Return(borrowed)
		m.SetAside(0)
		_, stored := m.Audit()
		require.Equal(t, stored+m.Figures().Structure+m.Figures().Ready, m.Figures().Used)
		require.LessOrEqual(t, m.Figures().Used, m.Figures().Limit)
	})
}

// TestWhoHoldsTooMuchIsAskedToGo, once something else has no room.
func TestWhoHoldsTooMuchIsAskedToGo(t *testing.T) {
	m := NewMemory(2<<20, noon)
	now := time.Unix(1000, 0)
	asked := 0
	var holders []*Holder
	for i := range 3 {
		e := sized(fmt.Sprint(i), 600_000)
		require.NoError(t, m.Put(e, now))
		holders = append(holders, m.Hold(e, nil, func() { asked++ }))
	}
	assert.ErrorIs(t, m.Put(sized("more", 1_500_000), now), ErrNoRoom, "all of it is being read")
	assert.NotZero(t, asked)
	for _, h := range holders {
		h.Release()
	}
	assert.NoError(t, m.Put(sized("more", 1_500_000), now))
}

// TestPromise6NothingTakesTheRoomOfAFill between its reservation and its entry, which somebody
// reads meanwhile, whether it is put or not.
func TestPromise6NothingTakesTheRoomOfAFill(t *testing.T) {
	const size = 700_000
	m := NewMemory(2<<20, noon)
	now := time.Now()
	var all sync.WaitGroup
	for who := range 4 {
		all.Go(func() {
			for i := range 300 {
				if !m.Reserve(size) {
					continue
				}
				e := sized(fmt.Sprint(who, i%3), size)
				e.Reserved = size
				h := m.Hold(e, nil, func() {})
				if m.Put(e, now) != nil {
					m.Abandon(e)
				}
				assert.LessOrEqual(t, m.Figures().Used, m.Limit()+3*16<<10, "but for what surrounds each body")
				h.Release()
			}
		})
	}
	all.Wait()
	assert.Zero(t, m.Figures().Reserved+m.Figures().Pinned)
}

// TestReadersAndEvictionsTogether: for the race detector, and the account after them.
func TestReadersAndEvictionsTogether(t *testing.T) {
	m := NewMemory(2<<20, noon)
	now := time.Now()
	var all sync.WaitGroup
	for who := range 4 {
		all.Go(func() {
			for i := range 300 {
				e := sized(fmt.Sprint(i%7), 20_000*(1+who))
				h := m.Hold(e, nil, func() {})
				if m.Put(e, now) != nil {
					m.Abandon(e)
				}
				if found := m.Find(fmt.Append(nil, (i+who)%7), nil).Entry; found != nil {
					m.Hold(found, nil, func() {}).Release()
				}
				if i%5 == 0 {
					m.Sweep(tags.Purge{All: true, Sequence: tags.Stamp(i)})
				}
				h.Release()
			}
		})
	}
	all.Wait()
	_, stored := m.Audit()
	assert.Equal(t, stored+m.Figures().Structure+m.Figures().Ready, m.Figures().Used)
	assert.Zero(t, m.Figures().Pinned)
}
