package disk

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"time"

	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// A record is a head of fixed size, the hashes of the entry's terms, what is known of it, and its
// body, filled up to a multiple of unit:
//
//	 0 magic      4 sum of the head from 8 on, with terms and meta    8 sum of the body
//	12 bytes of meta   16 bytes of body   20 terms   22 flags
//	24 hash of the key   32 own   36 family   38 —   40 known   48 cost, µs   52 used   56 idle   60 uses × 16
const (
	headBytes = 64
	unit      = 16
	magic     = 0x52_45_43_31
	mostTerms = 1<<16 - 1
)

const flagSoftened = 1

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

var errRecord = errors.New("what stands there is no record, or not as it was written")

// head is what stands in front of a record.
type head struct {
	meta, body       uint32
	terms, flags     uint16
	hash             uint64
	own              uint32
	family           uint16
	known            tags.Stamp
	cost, used, idle uint32
	uses             uint32
	bodySum          uint32
}

// size is how many bytes the record takes.
func (h *head) size() int64 {
	n := int64(headBytes) + int64(h.terms)*8 + int64(h.meta) + int64(h.body)
	return (n + unit - 1) / unit * unit
}

// front is how many of them stand before the body.
func (h *head) front() int { return headBytes + int(h.terms)*8 + int(h.meta) }

// appendRecord adds the record of an image to a buffer.
func appendRecord(buffer []byte, i *store.Image, hash uint64, terms []uint64) ([]byte, head) {
	h := head{
		meta: uint32(len(i.Meta)), body: uint32(len(i.Body)), terms: uint16(len(terms)), hash: hash, own: i.Variant.Own, family: i.Variant.Family,
		known: i.Known, cost: uint32(i.Cost / time.Microsecond), used: i.Used, idle: i.Idle, uses: uint32(min(i.Uses*16, 1<<31)),
		bodySum: crc32.Checksum(i.Body, castagnoli),
	}
	if i.Softened {
		h.flags |= flagSoftened
	}
	at := len(buffer)
	le := binary.LittleEndian
	buffer = le.AppendUint32(buffer, magic)
	buffer = le.AppendUint32(buffer, 0)
	buffer = le.AppendUint32(buffer, h.bodySum)
	buffer = le.AppendUint32(buffer, h.meta)
	buffer = le.AppendUint32(buffer, h.body)
	buffer = le.AppendUint16(buffer, h.terms)
	buffer = le.AppendUint16(buffer, h.flags)
	buffer = le.AppendUint64(buffer, h.hash)
	buffer = le.AppendUint32(buffer, h.own)
	buffer = le.AppendUint16(buffer, h.family)
	buffer = le.AppendUint16(buffer, 0)
	buffer = le.AppendUint64(buffer, uint64(h.known))
	for _, n := range []uint32{h.cost, h.used, h.idle, h.uses} {
		buffer = le.AppendUint32(buffer, n)
	}
	for _, term := range terms {
		buffer = le.AppendUint64(buffer, term)
	}
	buffer = append(buffer, i.Meta...)
	le.PutUint32(buffer[at+4:], crc32.Checksum(buffer[at+8:], castagnoli))
	buffer = append(buffer, i.Body...)
	return append(buffer, make([]byte, int(h.size())-(len(buffer)-at))...), h
}

// readHead reads a record's head, which is all of what is given or more.
func readHead(b []byte) (h head, err error) {
	le := binary.LittleEndian
	if len(b) < headBytes || le.Uint32(b) != magic {
		return h, errRecord
	}
	h = head{
		bodySum: le.Uint32(b[8:]), meta: le.Uint32(b[12:]), body: le.Uint32(b[16:]), terms: le.Uint16(b[20:]), flags: le.Uint16(b[22:]),
		hash: le.Uint64(b[24:]), own: le.Uint32(b[32:]), family: le.Uint16(b[36:]), known: tags.Stamp(le.Uint64(b[40:])),
		cost: le.Uint32(b[48:]), used: le.Uint32(b[52:]), idle: le.Uint32(b[56:]), uses: le.Uint32(b[60:]),
	}
	return h, nil
}

// check compares what stands before the body with its sum.
func (h *head) check(front []byte) error {
	if len(front) != h.front() || crc32.Checksum(front[8:], castagnoli) != binary.LittleEndian.Uint32(front[4:]) {
		return errRecord
	}
	return nil
}

func (h *head) checkBody(body []byte) error {
	if crc32.Checksum(body, castagnoli) != h.bodySum {
		return errRecord
	}
	return nil
}

// image is the record's image, of what stands before its body, which was checked, and its body.
func (h *head) image(front, body []byte, epoch time.Time) store.Image {
	return store.Image{
		Variant: store.Variant{Family: h.family, Own: h.own}, Known: h.known, Softened: h.flags&flagSoftened != 0, Cost: time.Duration(h.cost) * time.Microsecond,
		Used: h.used, Idle: h.idle, Uses: float64(h.uses) / 16, Length: int64(h.body), Epoch: epoch, Meta: front[headBytes+int(h.terms)*8:], Body: body,
	}
}

// termsOf are the hashes that stand in a record.
func (h *head) termsOf(front []byte) []uint64 {
	terms := make([]uint64, h.terms)
	for i := range terms {
		terms[i] = binary.LittleEndian.Uint64(front[headBytes+i*8:])
	}
	return terms
}
