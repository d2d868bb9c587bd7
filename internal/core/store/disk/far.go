package disk

import (
	"hash/crc32"
	"io"
	"sync"

	"gerastic/internal/core/store"
)

// farBody is the body of a record, which is read when it is sent.
type farBody struct {
	tier    *Tier
	segment *segment
	cell    cell
	at      int64 // in the segment's file
	bytes   int64
	sum     uint32
}

// Load implements store.FarBody.
func (f *farBody) Load() ([]byte, error) {
	_, _, body, err := f.segment.read(f.cell.at, f.cell.units)
	if !f.tier.isRead(&f.cell, err) {
		return nil, err
	}
	return body, nil
}

// Open implements store.FarBody. It opens the file once more, so that the system can send from it at a
// place of its own; where too many have done so, all read the segment's file.
func (f *farBody) Open() (store.OpenBody, error) {
	shared, err := f.segment.enter()
	if err == nil {
		if err = f.check(shared); err != nil {
			f.tier.leaveSegment(f.segment)
		}
	}
	if !f.tier.isRead(&f.cell, err) {
		return nil, err
	}
	o := &openBody{farBody: f, shared: shared}
	if f.tier.opened.Add(1) <= mostOpened {
		o.own, _ = f.tier.files.Open(nameOf(f.segment.number))
	}
	return o, nil
}

// mostOpened is how many readers have files of their own at a time.
const mostOpened = 256

// pieces are what bodies are checked by.
var pieces = sync.Pool{New: func() any { return new([128 << 10]byte) }}

// check compares the body with its sum.
func (f *farBody) check(file File) error {
	piece := pieces.Get().(*[128 << 10]byte)
	defer pieces.Put(piece)
	sum := uint32(0)
	for done := int64(0); done < f.bytes; {
		part := piece[:min(int64(len(piece)), f.bytes-done)]
		if _, err := file.ReadAt(part, f.at+done); err != nil {
			return err
		}
		sum = crc32.Update(sum, castagnoli, part)
		done += int64(len(part))
	}
	if sum != f.sum {
		return errRecord
	}
	return nil
}

// openBody is a far body that is being read.
type openBody struct {
	*farBody
	shared, own File // own may be nil
	once        sync.Once
}

// Section implements store.OpenBody.
func (o *openBody) Section(from, length int64) io.Reader {
	if o.own != nil {
		return o.own.Section(o.at+from, length)
	}
	return io.NewSectionReader(o.shared, o.at+from, length)
}

// Close implements store.OpenBody.
func (o *openBody) Close() (err error) {
	o.once.Do(func() {
		if o.own != nil {
			err = o.own.Close()
		}
		o.tier.opened.Add(-1)
		o.tier.leaveSegment(o.segment)
	})
	return err
}

// enter returns the segment's file for one more reader, who must leave the segment.
func (s *segment) enter() (File, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if s.file == nil {
		return nil, errGone
	}
	s.readers.Add(1)
	return s.file, nil
}

// leaveSegment ends the reading. A segment that has given way takes room of the device until its last
// reader leaves.
func (t *Tier) leaveSegment(s *segment) {
	t.segmentsMu.Lock()
	defer t.segmentsMu.Unlock()
	if file := t.lingering[s]; s.readers.Add(-1) == 0 && file != nil {
		file.Close()
		delete(t.lingering, s)
		t.taken.Add(-room(s.size.Load()))
	}
}
