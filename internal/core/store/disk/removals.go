package disk

import (
	"encoding/binary"
	"hash/crc32"
	"sync"
)

// removals log what has left before its segment, and what was marked stale: sixteen bytes each.
type removals struct {
	mu      sync.Mutex
	file    File
	size    int64
	pending []byte
}

const (
	removalsName = "removals"
	removalBytes = 16
	kindRemoved  = 1
	kindSoftened = 2
)

// spotOf names a record in maps.
func spotOf(segment, at uint32) uint64 { return uint64(segment)<<32 | uint64(at) }

// add notes one; commit writes it.
func (r *removals) add(segment, at uint32, kind uint32) {
	r.mu.Lock()
	defer r.mu.Unlock()
	b := make([]byte, 0, removalBytes)
	for _, n := range []uint32{segment, at, kind} {
		b = binary.LittleEndian.AppendUint32(b, n)
	}
	b = binary.LittleEndian.AppendUint32(b, crc32.Checksum(b, castagnoli))
	r.pending = append(r.pending, b...)
}

// forget takes back what was noted of segments that are gone, and is not written yet.
func (r *removals) forget(gone func(segment uint32) bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	kept := r.pending[:0]
	for b := r.pending; len(b) > 0; b = b[removalBytes:] {
		if !gone(binary.LittleEndian.Uint32(b)) {
			kept = append(kept, b[:removalBytes]...)
		}
	}
	r.pending = kept
}

// commit writes what was noted, so that it is there when the process is killed; last makes it last
// when the machine ends.
func (r *removals) commit(last bool) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.pending) > 0 && r.file != nil {
		if _, err := r.file.Write(r.pending); err != nil {
			return err
		}
		r.size += int64(len(r.pending))
		r.pending = r.pending[:0]
		if cap(r.pending) > 1<<16 {
			r.pending = nil
		}
	}
	if last && r.file != nil {
		return r.file.Sync()
	}
	return nil
}

// readRemovals reads the log. Its end may be too short: the process was killed as it wrote. What is of
// full length and not as it was written is an error, also there: nobody knows what has left.
func readRemovals(f File) (kinds map[uint64]uint32, size int64, err error) {
	total, err := f.Size()
	if err != nil {
		return nil, 0, err
	}
	kinds = map[uint64]uint32{}
	buffer := make([]byte, 1<<16)
	for size+removalBytes <= total {
		some := buffer[:min(int64(len(buffer)), (total-size)/removalBytes*removalBytes)]
		if _, err := f.ReadAt(some, size); err != nil {
			return nil, 0, err
		}
		for ; len(some) > 0; some = some[removalBytes:] {
			le := binary.LittleEndian
			if crc32.Checksum(some[:removalBytes-4], castagnoli) != le.Uint32(some[removalBytes-4:]) {
				return nil, 0, errRecord
			}
			at, kind := spotOf(le.Uint32(some), le.Uint32(some[4:])), le.Uint32(some[8:])
			if kinds[at] != kindRemoved {
				kinds[at] = kind
			}
			size += removalBytes
		}
	}
	return kinds, size, nil
}
