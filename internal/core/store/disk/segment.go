package disk

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"
	"sort"
	"sync"
	"sync/atomic"
	"time"

	"gerastic/internal/core/tags"
)

// segment is a file of records. The head is the one that is added to; the others are sealed: a
// tail says what is in them.
type segment struct {
	number uint32
	epoch  time.Time // from which its entries count their times
	live   atomic.Int64
	// readers are those who send from it.
	readers atomic.Int32

	mu     sync.RWMutex // read by who reads the file, written by who closes it
	file   File         // nil: it is gone
	sealed bool
	known  contents     // of the head
	filter filter       // of the others
	size   atomic.Int64 // of what was written
}

// contents are what is known of a segment's records.
type contents struct {
	rows   []row
	terms  []posting
	routes []string
}

// row is one record.
type row struct {
	at, units  uint32
	hash       uint64
	own        uint32
	family     uint16
	flags      uint16
	known      tags.Stamp
	used, uses uint32
	route      uint32 // in contents.routes
	_          uint32
}

// posting says that a record has a term.
type posting struct {
	term uint64
	row  uint32
}

const (
	rowBytes     = 48
	postingBytes = 12
	startBytes   = 64
	endBytes     = 64
	// mostRows bounds what is in memory of the head.
	mostRows = 4096
)

var startText, endText = []byte("gerastic segment"), []byte("gerastic tail...")

func nameOf(number uint32) string { return fmt.Sprintf("segment-%08x", number) }

// start is what stands in front of a segment.
func (s *segment) start() []byte {
	b := make([]byte, 0, startBytes)
	b = append(b, startText...)
	b = binary.LittleEndian.AppendUint32(b, s.number)
	b = binary.LittleEndian.AppendUint64(b, uint64(s.epoch.UnixNano()))
	b = append(b, make([]byte, startBytes-4-len(b))...)
	return binary.LittleEndian.AppendUint32(b, crc32.Checksum(b, castagnoli))
}

// add notes a record that was written.
func (c *contents) add(at int64, h *head, terms []uint64, route string) {
	number := slices.Index(c.routes, route)
	if number < 0 {
		number = len(c.routes)
		c.routes = append(c.routes, route)
	}
	n := uint32(len(c.rows))
	c.rows = append(c.rows, row{
		at: uint32(at / unit), units: uint32(h.size() / unit), hash: h.hash, own: h.own, family: h.family, flags: h.flags, known: h.known, used: h.used, uses: h.uses, route: uint32(number),
	})
	for _, term := range terms {
		c.terms = append(c.terms, posting{term, n})
	}
}

// tailBytes is how much they take behind the records.
func (c *contents) tailBytes() int64 {
	n := int64(len(c.rows))*rowBytes + int64(len(c.terms))*postingBytes + endBytes + 2
	for _, route := range c.routes {
		n += int64(len(route)) + 8
	}
	return n
}

// memory is how much they take there.
func (c *contents) memory() int64 { return int64(cap(c.rows))*rowBytes + int64(cap(c.terms))*16 }

// sort brings the terms into order.
func (c *contents) sort() {
	slices.SortFunc(c.terms, func(a, b posting) int { return cmp.Or(cmp.Compare(a.term, b.term), cmp.Compare(a.row, b.row)) })
}

// tail is what stands behind the records: rows, terms in order, routes, and an end that says where
// they are.
func (c *contents) tail(at int64) []byte {
	c.sort()
	le := binary.LittleEndian
	b := make([]byte, 0, c.tailBytes())
	for i := range c.rows {
		r := &c.rows[i]
		b = le.AppendUint32(b, r.at)
		b = le.AppendUint32(b, r.units)
		b = le.AppendUint64(b, r.hash)
		b = le.AppendUint32(b, r.own)
		b = le.AppendUint16(b, r.family)
		b = le.AppendUint16(b, r.flags)
		b = le.AppendUint64(b, uint64(r.known))
		for _, n := range []uint32{r.used, r.uses, r.route, 0} {
			b = le.AppendUint32(b, n)
		}
	}
	for _, p := range c.terms {
		b = le.AppendUint32(le.AppendUint64(b, p.term), p.row)
	}
	routes, _ := json.Marshal(c.routes) // texts always can
	b = append(b, routes...)
	sum := crc32.Checksum(b, castagnoli)
	end := append(make([]byte, 0, endBytes), endText...)
	end = le.AppendUint64(end, uint64(at))
	for _, n := range []uint32{uint32(len(c.rows)), uint32(len(c.terms)), uint32(len(routes)), sum} {
		end = le.AppendUint32(end, n)
	}
	end = append(end, make([]byte, endBytes-4-len(end))...)
	return append(b, le.AppendUint32(end, crc32.Checksum(end, castagnoli))...)
}

var errTail = errors.New("the segment's tail is not as it was written")

// tailReader reads tails, one after the other into the same memory.
type tailReader struct {
	contents
	buffer []byte
}

// read reads a sealed segment's tail, which is good until the next is read. Under the segment's mu.
func (t *tailReader) read(f File, size int64) error {
	le := binary.LittleEndian
	var end [endBytes]byte
	if size < startBytes+endBytes {
		return errTail
	}
	if _, err := f.ReadAt(end[:], size-endBytes); err != nil {
		return err
	}
	if !bytes.HasPrefix(end[:], endText) || crc32.Checksum(end[:endBytes-4], castagnoli) != le.Uint32(end[endBytes-4:]) {
		return errTail
	}
	at := int64(le.Uint64(end[16:]))
	rows, terms, routes, sum := int64(le.Uint32(end[24:])), int64(le.Uint32(end[28:])), int64(le.Uint32(end[32:])), le.Uint32(end[36:])
	if at < startBytes || at+rows*rowBytes+terms*postingBytes+routes != size-endBytes {
		return errTail
	}
	t.buffer = slices.Grow(t.buffer[:0], int(size-endBytes-at))[:size-endBytes-at]
	b := t.buffer
	if _, err := f.ReadAt(b, at); err != nil {
		return err
	}
	if crc32.Checksum(b, castagnoli) != sum {
		return errTail
	}
	return t.parse(b, int(rows), int(terms))
}

func (t *tailReader) parse(b []byte, rows, terms int) error {
	le := binary.LittleEndian
	t.rows, t.terms, t.routes = t.rows[:0], t.terms[:0], nil
	for ; rows > 0; rows, b = rows-1, b[rowBytes:] {
		t.rows = append(t.rows, row{
			at: le.Uint32(b), units: le.Uint32(b[4:]), hash: le.Uint64(b[8:]), own: le.Uint32(b[16:]), family: le.Uint16(b[20:]), flags: le.Uint16(b[22:]),
			known: tags.Stamp(le.Uint64(b[24:])), used: le.Uint32(b[32:]), uses: le.Uint32(b[36:]), route: le.Uint32(b[40:]),
		})
	}
	for ; terms > 0; terms, b = terms-1, b[postingBytes:] {
		t.terms = append(t.terms, posting{le.Uint64(b), le.Uint32(b[8:])})
	}
	if json.Unmarshal(b, &t.routes) != nil {
		return errTail
	}
	return nil
}

// carrying visits the rows that have a term. The terms are in order.
func (c *contents) carrying(term uint64, visit func(*row)) {
	i := sort.Search(len(c.terms), func(i int) bool { return c.terms[i].term >= term })
	for ; i < len(c.terms) && c.terms[i].term == term; i++ {
		visit(&c.rows[c.terms[i].row])
	}
}

// readStart reads what stands in front of a segment.
func (s *segment) readStart() error {
	b := make([]byte, startBytes)
	if _, err := s.file.ReadAt(b, 0); err != nil {
		return err
	}
	le := binary.LittleEndian
	if !bytes.HasPrefix(b, startText) || crc32.Checksum(b[:startBytes-4], castagnoli) != le.Uint32(b[startBytes-4:]) || le.Uint32(b[16:]) != s.number {
		return errors.New("the segment's start is not as it was written")
	}
	s.epoch = time.Unix(0, int64(le.Uint64(b[20:])))
	return nil
}

// scan finds the records of a segment that was not sealed, up to the first that is not whole.
func (s *segment) scan(route func(front []byte, h *head) (string, error)) {
	at := int64(startBytes)
	start := make([]byte, headBytes)
	size := s.size.Load()
	for at+headBytes <= size && len(s.known.rows) < 2*mostRows {
		if _, err := s.file.ReadAt(start, at); err != nil {
			break
		}
		h, err := readHead(start)
		if err != nil || at+h.size() > size {
			break
		}
		front := make([]byte, h.front())
		if _, err := s.file.ReadAt(front, at); err != nil || h.check(front) != nil {
			break
		}
		name, err := route(front, &h)
		if err != nil {
			break
		}
		s.known.add(at, &h, h.termsOf(front), name)
		at += h.size()
	}
	s.size.Store(at)
}

// readTogether is up to how many bytes a record is read at once. The body of a longer one has memory of
// its own, which stays where the rest does not.
const readTogether = 32 << 10

// read reads a record whole, and checks it. The memory is the caller's.
func (s *segment) read(at, units uint32) (h head, front, body []byte, err error) {
	if int64(units)*unit > readTogether {
		return s.readApart(at, units)
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	if s.file == nil {
		return h, nil, nil, errGone
	}
	record := make([]byte, int64(units)*unit)
	if _, err = s.file.ReadAt(record, int64(at)*unit); err != nil {
		return h, nil, nil, err
	}
	if h, err = readHead(record); err != nil || h.size() != int64(len(record)) {
		return h, nil, nil, errRecord
	}
	n := h.front()
	front, body = record[:n:n], record[n:n+int(h.body)]
	return h, front, body, errors.Join(h.check(front), h.checkBody(body))
}

// readApart reads the body after the rest.
func (s *segment) readApart(at, units uint32) (h head, front, body []byte, err error) {
	if h, front, err = s.readFront(at, units); err != nil {
		return h, nil, nil, err
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	if s.file == nil {
		return h, nil, nil, errGone
	}
	body = make([]byte, h.body)
	if _, err = s.file.ReadAt(body, int64(at)*unit+int64(h.front())); err != nil {
		return h, nil, nil, err
	}
	return h, front, body, h.checkBody(body)
}

// readFront reads a record's head and what stands before its body, and checks it.
func (s *segment) readFront(at, units uint32) (h head, front []byte, err error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if s.file == nil {
		return h, nil, errGone
	}
	const usual = 1 << 10
	front = make([]byte, min(int64(units)*unit, usual))
	if _, err = s.file.ReadAt(front, int64(at)*unit); err != nil {
		return h, nil, err
	}
	if h, err = readHead(front); err != nil || h.size() != int64(units)*unit {
		return h, nil, errRecord
	}
	if h.front() > len(front) {
		front = make([]byte, h.front())
		if _, err = s.file.ReadAt(front, int64(at)*unit); err != nil {
			return h, nil, err
		}
	}
	front = front[:h.front()]
	return h, front, h.check(front)
}

// errGone says that a segment has given way.
var errGone = errors.New("the segment has given way")
