package disk

import (
	"errors"
	"time"

	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// Has implements store.Lower.
func (t *Tier) Has(hash uint64) (has bool) {
	if t.isOff() {
		return false
	}
	sh, tag := t.index.of(hash)
	sh.mu.RLock()
	defer sh.mu.RUnlock()
	sh.each(tag, func(*cell) bool {
		has = true
		return false
	})
	return has
}

// Read implements store.Lower.
func (t *Tier) Read(hash uint64, visit func(*store.Image, store.Spot)) {
	if t.isOff() {
		return
	}
	var there []cell
	sh, tag := t.index.of(hash)
	sh.mu.RLock()
	sh.each(tag, func(c *cell) bool {
		if c.notes&above == 0 {
			there = append(there, *c)
		}
		return len(there) < store.MaxVariants
	})
	sh.mu.RUnlock()
	for i := range there {
		if image, ok := t.readNear(&there[i]); ok && image.hash == hash {
			image.spot.Alone = len(there) == 1
			image.spot.Again = t.asked(hash, image.spot)
			visit(&image.Image, image.spot)
		}
	}
}

// asked counts that an entry was asked for; it reports whether it was before.
func (t *Tier) asked(hash uint64, at store.Spot) (before bool) {
	sh, tag := t.index.of(hash)
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if c := sh.at(tag, at.Segment, at.At); c != nil {
		if before = c.notes&hitMask > 0; c.notes&hitMask < hitMask {
			c.notes++
		}
	}
	return before
}

// stored is an image, and where it stands.
type stored struct {
	store.Image
	hash uint64
	spot store.Spot
}

// readNear reads what a cell says, but for a long body.
func (t *Tier) readNear(c *cell) (i stored, ok bool) {
	if c.bytesOf() <= store.FarFrom {
		return t.read(c)
	}
	s := t.segment(c.segment)
	if s == nil {
		return i, false
	}
	h, front, err := s.readFront(c.at, c.units)
	if !t.isRead(c, err) {
		return i, false
	}
	i = t.storedAs(c, &h, front, nil, s.epoch)
	i.Far = &farBody{tier: t, segment: s, cell: *c, at: int64(c.at)*unit + int64(h.front()), bytes: int64(h.body), sum: h.bodySum}
	return i, true
}

// isRead reports whether something could be read. What cannot, or is not as it was written, goes.
func (t *Tier) isRead(c *cell, err error) bool {
	switch {
	case err == nil:
		t.failedReads.Store(0)
		return true
	case !errors.Is(err, errGone):
		t.failed(&t.failedReads, "reading", err)
		t.lose(c)
	}
	return false
}

func (t *Tier) storedAs(c *cell, h *head, front, body []byte, epoch time.Time) stored {
	i := stored{h.image(front, body, epoch), h.hash, store.Spot{Segment: c.segment, At: c.at, Bytes: c.bytesOf()}}
	i.Known, i.Softened = max(i.Known, t.Swept()), c.notes&softened != 0
	return i
}

// read reads what a cell says.
func (t *Tier) read(c *cell) (i stored, ok bool) {
	s := t.segment(c.segment)
	if s == nil {
		return i, false
	}
	began := t.Now()
	h, front, body, err := s.read(c.at, c.units)
	if !t.isRead(c, err) {
		return i, false
	}
	// The quickest lately: one that had to wait for something else says little.
	took := t.readTook.Load()
	t.readTook.Store(max(1000, min(int64(t.Now().Sub(began)), took+took/64)))
	return t.storedAs(c, &h, front, body, s.epoch), true
}

// lose takes out what cannot be read.
func (t *Tier) lose(lost *cell) {
	for i := range t.index.shards {
		sh := &t.index.shards[i]
		sh.mu.Lock()
		if c := sh.at(lost.tag, lost.segment, lost.at); c != nil {
			t.takeOut(sh, c, store.Broken)
		}
		sh.mu.Unlock()
	}
	t.commit(false)
}

// Raise implements store.Lower.
func (t *Tier) Raise(hash uint64, at store.Spot) bool {
	sh, tag := t.index.of(hash)
	sh.mu.Lock()
	defer sh.mu.Unlock()
	c := sh.at(tag, at.Segment, at.At)
	if c == nil || t.isOff() {
		return false
	}
	t.countCell(c, -1)
	c.notes |= above
	t.countCell(c, 1)
	return true
}

// Lapse implements store.Lower.
func (t *Tier) Lapse(hash uint64, v store.Variant) (has bool) {
	if t.isOff() {
		return false
	}
	sh, tag := t.index.of(hash)
	sh.mu.Lock()
	defer sh.mu.Unlock()
	sh.each(tag, func(c *cell) bool {
		if has = c.is(v); has {
			t.countCell(c, -1)
			c.notes &^= above
			t.countCell(c, 1)
		}
		return !has
	})
	return has
}

// Displace implements store.Lower.
func (t *Tier) Displace(hash uint64, v store.Variant) {
	sh, tag := t.index.of(hash)
	sh.mu.Lock()
	defer sh.mu.Unlock()
	t.displace(sh, tag, v)
}

func (t *Tier) displace(sh *shard, tag uint32, v store.Variant) {
	t.takeOutAll(sh, tag, store.Replaced, func(c *cell) bool { return c.displaces(v) })
}

// Remove implements store.Lower.
func (t *Tier) Remove(hash uint64, v store.Variant, why store.Removal) {
	sh, tag := t.index.of(hash)
	sh.mu.Lock()
	defer sh.mu.Unlock()
	t.takeOutAll(sh, tag, why, func(c *cell) bool { return c.is(v) })
}

// takeOutAll takes out the cells of a tag that are named. Under the shard's lock.
func (t *Tier) takeOutAll(sh *shard, tag uint32, why store.Removal, named func(*cell) bool) {
	for again := true; again; {
		again = false
		sh.each(tag, func(c *cell) bool {
			if again = named(c); again {
				t.takeOut(sh, c, why) // the others may have moved
			}
			return !again
		})
	}
}

// Each implements store.Lower.
func (t *Tier) Each(named tags.Purge, visit func(*store.Image, store.Spot)) {
	t.sweep(&sweeping{Purge: named, preview: true, visit: visit})
}

// Routes implements store.Lower.
func (t *Tier) Routes() map[string]int {
	counts := map[string]int{}
	for route, n := range t.sweep(&sweeping{Purge: tags.Purge{All: true}, preview: true, counts: true}).Routes {
		counts[route] = int(n)
	}
	return counts
}

// At implements store.Lower.
func (t *Tier) At(segment, at uint32) (found *store.Image, spot store.Spot) {
	for n := range t.index.shards {
		sh := &t.index.shards[n]
		var c cell
		sh.mu.RLock()
		for i := range sh.cells {
			if sh.cells[i].segment == segment && sh.cells[i].at == at {
				c = sh.cells[i]
			}
		}
		sh.mu.RUnlock()
		if c.segment == 0 || t.isOff() {
			continue
		}
		if i, ok := t.read(&c); ok {
			i.Length = int64(len(i.Body))
			return &i.Image, i.spot
		}
	}
	return nil, spot
}
