package disk

import (
	"cmp"
	"slices"
	"time"

	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

const (
	// mostBuffered is how many bytes of records are written together.
	mostBuffered = 256 << 10
	// twice is how much an entry must have been used to be written while the disk is full.
	twice = 1.5
)

// Takes implements store.Lower.
func (t *Tier) Takes(bytes int64, uses float64, cost time.Duration) bool {
	if t.isOff() || cost <= time.Duration(t.readTook.Load()) || bytes > t.mostBytes() {
		return false
	}
	return uses >= twice || t.taken.Load()+2*t.target < t.Limit
}

// mostBytes is how long a record may be.
func (t *Tier) mostBytes() int64 { return t.Limit / 8 }

// take takes so much of the budget; false if there is too little.
func (t *Tier) take(bytes int64) bool {
	if t.Writes == 0 {
		return true
	}
	b, now := &t.budget, t.Now()
	most := max(t.Writes*budgetSeconds, t.mostBytes())
	b.left = min(most, b.left+int64(float64(t.Writes)*max(0, now.Sub(b.at).Seconds())))
	b.at = now
	if b.left < bytes {
		return false
	}
	b.left -= bytes
	return true
}

// Write implements store.Lower.
func (t *Tier) Write(images []*store.Image) {
	t.writing.Lock()
	defer t.writing.Unlock()
	for _, i := range images {
		if t.isOff() || t.closed {
			return
		}
		t.write(i)
	}
	t.flush()
	t.commit(false)
	t.account()
}

func (t *Tier) write(i *store.Image) {
	subject, err := i.Subject()
	if err != nil {
		t.count(err)
		return
	}
	upTo, verdict := t.Marks.Stamp(), t.Marks.JudgeSince(&subject, i.Known)
	switch verdict {
	case tags.Dropped:
		return
	case tags.Softened:
		i.Softened = true
	}
	i.Known = max(i.Known, upTo)
	terms := t.termsOf(&subject)
	bytes := int64(headBytes+8*len(terms)+len(i.Meta)+len(i.Body)) + unit
	if bytes > t.mostBytes() || !t.take(bytes) {
		t.refused.Add(1)
		return
	}
	if !t.roomInHead(bytes, t.Limit-t.target) {
		t.refused.Add(1)
		return
	}
	at := t.head.size.Load() + int64(len(t.buffer))
	hash := t.Hash([]byte(i.Key))
	var h head
	t.buffer, h = appendRecord(t.buffer, i, hash, terms)
	notes := uint16(0)
	if i.Softened {
		notes = softened
	}
	t.waiting = append(t.waiting, waiting{head: h, at: at, notes: notes, subject: subject, terms: terms, since: i.Left, gone: i.Gone})
	if len(t.buffer) > mostBuffered {
		t.flush()
	}
}

// roomInHead makes sure that there is a head with room for so many bytes, while all files stay
// within a limit.
func (t *Tier) roomInHead(bytes, limit int64) bool {
	for range 4 { // making room may fill the head
		if !t.makeRoom(bytes+startBytes, limit) {
			return false
		}
		if h := t.head; h != nil {
			rows := len(h.known.rows) + len(t.waiting)
			if rows == 0 || rows < mostRows && h.size.Load()+int64(len(t.buffer))+bytes <= t.target {
				return true
			}
		}
		if t.roll(); !t.begin() {
			return false
		}
	}
	return false
}

// roll ends the head.
func (t *Tier) roll() {
	t.flush()
	s := t.head
	if s == nil {
		return
	}
	t.head = nil
	t.headMemory.Store(0)
	if s.live.Load() == 0 || t.seal(s) != nil {
		t.drop(s, store.Broken)
	}
}

// begin begins a segment.
func (t *Tier) begin() bool {
	s := &segment{number: t.newest + 1, epoch: t.Epoch}
	file, err := t.files.Create(nameOf(s.number))
	if err == nil {
		if _, err = file.Write(s.start()); err != nil {
			file.Close()
			_ = t.files.Remove(nameOf(s.number))
		}
	}
	if err != nil {
		t.failed(&t.failedWrites, "writing", err)
		return false
	}
	s.file = file
	s.size.Store(startBytes)
	t.newest++
	t.head = s
	t.taken.Add(2 * block)
	t.segmentsMu.Lock()
	t.segments[s.number] = s
	t.segmentsMu.Unlock()
	return true
}

// flush writes the buffer, and makes what stands in it found.
func (t *Tier) flush() {
	if len(t.buffer) == 0 {
		return
	}
	s, all, bytes := t.head, t.waiting, int64(len(t.buffer))
	n, err := s.file.Write(t.buffer)
	t.written.Add(int64(n))
	if t.buffer = t.buffer[:0]; cap(t.buffer) > 4*mostBuffered {
		t.buffer = nil
	}
	t.waiting = nil
	if err != nil {
		t.failed(&t.failedWrites, "writing", err)
		if t.head = nil; s.file.Truncate(s.size.Load()) != nil || s.live.Load() == 0 || t.seal(s) != nil {
			t.drop(s, store.Broken)
		}
		return
	}
	t.failedWrites.Store(0)
	s.mu.Lock()
	for i := range all {
		s.known.add(all[i].at, &all[i].head, all[i].terms, all[i].subject.Route)
	}
	t.headMemory.Store(s.known.memory())
	s.mu.Unlock()
	s.size.Add(bytes)
	t.taken.Add(room(bytes))
	for i := range all {
		t.find(s, &all[i])
	}
}

// find makes a record found, unless its key was given something else since it left memory.
func (t *Tier) find(s *segment, w *waiting) {
	sh, tag := t.index.of(w.head.hash)
	at := uint32(w.at / unit)
	sh.mu.Lock()
	ok := t.Moment() == w.since && w.since%2 == 0 && (w.gone == nil || !w.gone.Load())
	switch old := sh.at(tag, w.before.segment, w.before.at); {
	case !ok:
	case w.before.segment == 0:
		t.displace(sh, tag, w.variant())
		t.added.Add(1)
		ok = t.put(sh, cell{tag: tag, own: w.head.own, family: w.head.family, notes: w.notes, segment: s.number, at: at, units: uint32(w.head.size() / unit)}, s)
	case old == nil:
		ok = false
	default:
		if before := t.segment(old.segment); before != nil {
			before.live.Add(-old.bytesOf())
		}
		t.countCell(old, -1)
		old.segment, old.at, old.units = s.number, at, uint32(w.head.size()/unit)
		if old.notes &^= hitMask; old.notes&softened != 0 {
			t.log.add(s.number, at, kindSoftened)
		}
		s.live.Add(old.bytesOf())
		t.countCell(old, 1)
	}
	sh.mu.Unlock()
	if !ok {
		t.log.add(s.number, at, kindRemoved)
		return
	}
	if t.Marks.Stamp() == w.head.known { // what came later was not there when it looked for what it concerns
		return
	}
	if verdict := t.Marks.JudgeSince(&w.subject, w.head.known); verdict != tags.Alive {
		t.purge(w.head.hash, s.number, at, verdict == tags.Dropped)
	}
}

func (w *waiting) variant() store.Variant {
	return store.Variant{Family: w.head.family, Own: w.head.own}
}

// purge takes an entry out, or marks it stale; it reports whether that was news, of an entry that
// memory does not have.
func (t *Tier) purge(hash uint64, segment, at uint32, drop bool) (news bool) {
	sh, tag := t.index.of(hash)
	sh.mu.Lock()
	defer sh.mu.Unlock()
	c := sh.at(tag, segment, at)
	switch {
	case c == nil:
	case drop:
		news = c.notes&above == 0
		t.takeOut(sh, c, store.Purged)
	case c.notes&softened == 0:
		news = c.notes&above == 0
		c.notes |= softened
		t.log.add(segment, at, kindSoftened)
	}
	return news
}

// seal writes a segment's tail; its contents are not kept in memory any more.
func (t *Tier) seal(s *segment) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	tail := s.known.tail(s.size.Load())
	if _, err := s.file.Write(tail); err != nil {
		t.failed(&t.failedWrites, "writing", err)
		return err
	}
	s.size.Add(int64(len(tail)))
	t.taken.Add(room(int64(len(tail))))
	s.filter = newFilter(s.known.terms)
	t.indexBytes.Add(s.filter.bytes())
	s.sealed, s.known = true, contents{}
	return nil
}

// makeRoom lets segments give way until so many bytes more stay within a limit.
func (t *Tier) makeRoom(bytes, limit int64) bool {
	for {
		coming := bytes + int64(len(t.buffer)) + int64(len(t.waiting)+1)*(rowBytes+16*postingBytes) + 2*block
		if t.head != nil {
			coming += t.head.known.tailBytes()
		}
		if t.taken.Load()+coming <= limit {
			return true
		}
		s := t.victim()
		if s == nil || t.reclaiming {
			return false
		}
		t.reclaim(s)
	}
}

// victim is the segment that gives way next: one of which little is of use, or the oldest; nil if
// there is none but the head.
func (t *Tier) victim() (victim *segment) {
	t.segmentsMu.RLock()
	defer t.segmentsMu.RUnlock()
	least := 0.25
	for _, s := range t.segments {
		if s.readers.Load() > 0 {
			continue // its room would not be had
		}
		if share := float64(s.live.Load()) / float64(s.size.Load()); s != t.head && share < least {
			least, victim = share, s
		}
	}
	if victim != nil {
		return victim
	}
	for _, s := range t.segments {
		if s != t.head && (victim == nil || s.number < victim.number) {
			victim = s
		}
	}
	return victim
}

// reclaim lets a segment give way; what was asked for since it was written is written anew, as far
// as that is not more than half of it.
func (t *Tier) reclaim(s *segment) {
	var used []cell
	t.eachOf(s, func(_ *shard, c *cell) {
		if c.notes&hitMask > 0 && c.notes&softened == 0 {
			used = append(used, *c)
		}
	})
	slices.SortFunc(used, func(a, b cell) int { return cmp.Compare(b.notes&hitMask, a.notes&hitMask) })
	t.reclaiming = true
	for rest := min(s.size.Load(), t.target) / 2; len(used) > 0 && used[0].bytesOf() <= rest; used = used[1:] {
		if rest -= used[0].bytesOf(); !t.rewrite(s, &used[0]) {
			break
		}
	}
	t.flush()
	t.reclaiming = false
	t.drop(s, store.Evicted)
}

// rewrite writes a record anew behind the newest.
func (t *Tier) rewrite(s *segment, c *cell) bool {
	h, front, body, err := s.read(c.at, c.units)
	if err != nil {
		t.failed(&t.failedReads, "reading", err)
		return true
	}
	since := t.Moment()
	i := h.image(front, body, s.epoch)
	subject, err := i.Subject()
	if err != nil {
		return true
	}
	known := max(h.known, t.Swept())
	upTo := t.Marks.Stamp()
	if t.Marks.JudgeSince(&subject, known) != tags.Alive {
		return true
	}
	if !t.take(h.size()) || !t.roomInHead(h.size()+unit, t.Limit) {
		return false
	}
	at, terms := t.head.size.Load()+int64(len(t.buffer)), h.termsOf(front)
	if i, err = i.Since(t.Epoch); err != nil {
		return true
	}
	t.buffer, h = appendRecord(t.buffer, &i, h.hash, terms)
	h.known = max(known, upTo)
	t.waiting = append(t.waiting, waiting{head: h, at: at, subject: subject, terms: terms, since: since, before: spot{c.segment, c.at}})
	if len(t.buffer) > mostBuffered {
		t.flush()
	}
	return true
}

// eachOf visits the cells of a segment. Under their shard's lock.
func (t *Tier) eachOf(s *segment, visit func(*shard, *cell)) {
	for i := range t.index.shards {
		sh := &t.index.shards[i]
		sh.mu.Lock()
		for j := 0; j < len(sh.cells); j++ {
			c := &sh.cells[j]
			for c.segment == s.number && s.number > 0 {
				before := *c
				if visit(sh, c); *c == before {
					break
				} // another one has moved up
			}
		}
		sh.mu.Unlock()
	}
}

// drop lets a segment go with all that is in it.
func (t *Tier) drop(s *segment, why store.Removal) {
	if s.live.Load() > 0 {
		t.eachOf(s, func(sh *shard, c *cell) {
			t.countCell(c, -1)
			if c.notes&above == 0 {
				t.removed[why].Add(1)
			}
			sh.remove(c)
		})
	}
	s.mu.Lock()
	file := s.file
	s.file = nil // nobody reads it any more, but for those who do
	t.indexBytes.Add(-s.filter.bytes())
	s.filter = nil
	s.mu.Unlock()
	t.segmentsMu.Lock()
	delete(t.segments, s.number)
	if s.readers.Load() > 0 && file != nil {
		t.lingering[s] = file
	} else if file != nil {
		file.Close()
	}
	t.segmentsMu.Unlock()
	if err := t.files.Remove(nameOf(s.number)); err != nil {
		t.count(err)
		t.switchOff("a segment that gave way could not be removed: " + err.Error())
	}
	t.account()
}
