package disk

import (
	"sync"

	"gerastic/internal/core/store"
)

// cell is what is known in memory of an entry on disk.
type cell struct {
	tag     uint32 // of its hash
	own     uint32
	family  uint16
	notes   uint16
	segment uint32 // 0: nothing stands here
	at      uint32 // in units
	units   uint32 // that it takes
}

const (
	cellBytes = 24

	above    = 1 << 8 // memory has it, too
	softened = 1 << 9
	hitMask  = 0xFF // how often it was raised since it was written
)

const shardCount = 64

// index finds entries by part of the hash of their key: open-addressed tables without pointers.
type index struct {
	shards [shardCount]shard
}

type shard struct {
	mu    sync.RWMutex
	cells []cell
	count int
}

func (ix *index) of(hash uint64) (s *shard, tag uint32) {
	return &ix.shards[hash%shardCount], uint32(hash >> 32)
}

// grows is by how many bytes the table grows when one more comes.
func (s *shard) grows() int64 {
	if 8*(s.count+1) <= 7*len(s.cells) {
		return 0
	}
	return int64(max(8, 2*len(s.cells))-len(s.cells)) * cellBytes
}

// add puts a cell in. Under mu.
func (s *shard) add(c cell) {
	if s.grows() > 0 {
		old := s.cells
		s.cells = make([]cell, max(8, 2*len(old)))
		for _, c := range old {
			if c.segment > 0 {
				s.place(c)
			}
		}
	}
	s.place(c)
	s.count++
}

func (s *shard) place(c cell) {
	i := int(c.tag) & (len(s.cells) - 1)
	for s.cells[i].segment > 0 {
		i = (i + 1) & (len(s.cells) - 1)
	}
	s.cells[i] = c
}

// each visits the cells of a tag, until visit returns false. Under mu.
func (s *shard) each(tag uint32, visit func(*cell) bool) {
	if s.count == 0 {
		return
	}
	for i := int(tag) & (len(s.cells) - 1); s.cells[i].segment > 0; i = (i + 1) & (len(s.cells) - 1) {
		if s.cells[i].tag == tag && !visit(&s.cells[i]) {
			return
		}
	}
}

// at finds the cell of a spot; nil if it has left. Under mu.
func (s *shard) at(tag, segment, at uint32) (found *cell) {
	s.each(tag, func(c *cell) bool {
		if c.segment == segment && c.at == at {
			found = c
		}
		return found == nil
	})
	return found
}

// remove takes a cell out; those behind it move up. Under mu.
func (s *shard) remove(c *cell) {
	last := len(s.cells) - 1
	gap := int(c.tag) & last
	for &s.cells[gap] != c {
		gap = (gap + 1) & last
	}
	s.count--
	for i := (gap + 1) & last; s.cells[i].segment > 0; i = (i + 1) & last {
		if home := int(s.cells[i].tag) & last; (i-home)&last >= (i-gap)&last {
			s.cells[gap], gap = s.cells[i], i
		}
	}
	s.cells[gap] = cell{}
}

// displaces reports whether a variant that comes may answer the same requests as what stands in a
// cell.
func (c *cell) displaces(v store.Variant) bool { return c.family != v.Family || c.own == v.Own }

func (c *cell) is(v store.Variant) bool { return c.family == v.Family && c.own == v.Own }

// bytesOf is how many bytes an entry takes on disk.
func (c *cell) bytesOf() int64 { return int64(c.units) * unit }
