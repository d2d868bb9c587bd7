package cbor

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
	"unicode/utf8"
	"unsafe"
)

// ErrMalformed says that something else came than was to be read.
var ErrMalformed = errors.New("malformed CBOR")

// deepest is how far items may be nested inside what is skipped.
const deepest = 16

// step is how much room is made at a time: the allocator has pieces up to this size at hand,
// while larger ones it gets and clears one by one.
const step = 32 << 10

// Reader reads data items one after the other. The first error stays: what is read after it
// is zero.
type Reader struct {
	source io.Reader
	data   []byte // not read yet
	err    error
}

// NewReader reads from a source; expect is how many bytes are known to come, -1 if unknown.
func NewReader(source io.Reader, expect int64) *Reader {
	r := &Reader{source: source}
	if expect >= 0 && expect < step {
		r.data = make([]byte, 0, expect+1) // room to see the end
	}
	return r
}

// Err is the first error; io.EOF is none, between items.
func (r *Reader) Err() error { return r.err }

// More tells whether another item begins.
func (r *Reader) More() bool {
	return r.err == nil && (len(r.data) > 0 || r.fill(1) == nil)
}

// fill makes n bytes available. What was handed out before stays as it is: the bytes
// move to new room, never within it.
func (r *Reader) fill(n int) error {
	for len(r.data) < n {
		if r.source == nil {
			return io.ErrUnexpectedEOF
		}
		if len(r.data) == cap(r.data) {
			room := max(step, min(n, 2*len(r.data)+step))
			r.data = append(make([]byte, 0, room), r.data...)
		}
		got, err := r.source.Read(r.data[len(r.data):cap(r.data)])
		r.data = r.data[:len(r.data)+got]
		if err == io.EOF {
			r.source = nil
		} else if err != nil {
			return err
		}
	}
	return nil
}

// take returns the next n bytes.
func (r *Reader) take(n uint64) []byte {
	if n <= uint64(len(r.data)) && r.err == nil {
		taken := r.data[:n:n]
		r.data = r.data[n:]
		return taken
	}
	return r.await(n)
}

// await is take when not all of it is there.
func (r *Reader) await(n uint64) []byte {
	if r.err == nil && n > math.MaxInt32 {
		r.err = fmt.Errorf("%w: %d bytes in one item", ErrMalformed, n)
	}
	if r.err == nil {
		r.err = r.fill(int(n))
	}
	if r.err != nil {
		return nil
	}
	return r.take(n)
}

// head reads an initial byte and its argument; floats and simple values come back as the
// simple type with their initial byte in first.
func (r *Reader) head() (major, first byte, n uint64) {
	b := r.take(1)
	if b == nil {
		return 0, 0, 0
	}
	major, first = b[0]&0xe0, b[0]
	switch info := first & 0x1f; {
	case info < 24:
		return major, first, uint64(info)
	case info == 24:
		if b = r.take(1); b != nil {
			n = uint64(b[0])
		}
	case info == 25:
		if b = r.take(2); b != nil {
			n = uint64(binary.BigEndian.Uint16(b))
		}
	case info == 26:
		if b = r.take(4); b != nil {
			n = uint64(binary.BigEndian.Uint32(b))
		}
	case info == 27:
		if b = r.take(8); b != nil {
			n = binary.BigEndian.Uint64(b)
		}
	default: // reserved, or of indefinite length, which nobody here writes
		r.fail("an item of indefinite length")
	}
	return major, first, n
}

func (r *Reader) fail(found string) {
	if r.err == nil {
		r.err = fmt.Errorf("%w: found %s", ErrMalformed, found)
	}
}

var names = map[byte]string{unsigned: "a number", negative: "a number", byteString: "bytes", text: "a text", array: "an array", mapping: "a map", tagged: "a tag", simple: "a simple value"}

func (r *Reader) want(wanted byte) uint64 {
	if len(r.data) > 0 && r.data[0]&0xe0 == wanted && r.data[0]&0x1f < 24 && r.err == nil { // mostly
		n := r.data[0] & 0x1f
		r.data = r.data[1:]
		return uint64(n)
	}
	major, _, n := r.head()
	if r.err == nil && major != wanted {
		r.fail(names[major] + " where " + names[wanted] + " should be")
	}
	if r.err != nil {
		return 0
	}
	return n
}

// Map begins a map, and returns how many pairs it has.
func (r *Reader) Map() int { return r.count(mapping) }

// Array begins an array, and returns how many items it has.
func (r *Reader) Array() int { return r.count(array) }

func (r *Reader) count(major byte) int {
	n := r.want(major)
	if n > 1<<20 {
		r.fail("too many items")
		return 0
	}
	return int(n)
}

// Bytes reads a byte string; it points into what came in.
func (r *Reader) Bytes() []byte { return r.take(r.want(byteString)) }

// Text reads a text, and copies it.
func (r *Reader) Text() string { return strings.Clone(r.TextInPlace()) }

// TextInPlace reads a text that points into what came in: keeping it keeps all of that.
func (r *Reader) TextInPlace() string {
	s := r.take(r.want(text))
	if len(s) == 0 {
		return ""
	}
	if !utf8.Valid(s) {
		r.fail("a text that is no UTF-8")
		return ""
	}
	return unsafe.String(&s[0], len(s)) // nothing writes to what was read, see fill
}

// Fields reads a map: for each pair, field is told the name, and reads the value. A name that
// it does not know, it says so, and the value is passed over.
func (r *Reader) Fields(field func(name string) (known bool)) {
	for n := r.Map(); n > 0 && r.err == nil; n-- {
		if name := r.TextInPlace(); r.err == nil && !field(name) {
			r.Skip()
		}
	}
}

// Texts reads an array of texts, and copies them.
func (r *Reader) Texts() []string {
	all := r.TextsInPlace(nil)
	for i := range all {
		all[i] = strings.Clone(all[i])
	}
	return all
}

// TextsUpTo reads an array of texts, and copies the first of them, as many as are wanted and
// no longer than length.
func (r *Reader) TextsUpTo(most, length int) (all []string) {
	for n := r.Array(); n > 0 && r.err == nil; n-- {
		if text := r.TextInPlace(); len(all) < most && len(text) <= length {
			all = append(all, strings.Clone(text))
		}
	}
	return all
}

// BytesHead reads how long the byte string is whose bytes follow; read them with Body, or pass
// over them with Discard.
func (r *Reader) BytesHead() uint64 { return r.want(byteString) }

// Body returns the bytes that BytesHead announced.
func (r *Reader) Body(n uint64) []byte { return r.take(n) }

// Discard passes over bytes without holding them.
func (r *Reader) Discard(n uint64) {
	for n > 0 && r.err == nil {
		piece := min(n, step)
		r.take(piece)
		n -= piece
	}
}

// TextsInPlace reads an array of texts behind those that all has, as TextInPlace does.
func (r *Reader) TextsInPlace(all []string) []string {
	for n := r.Array(); n > 0 && r.err == nil; n-- {
		all = append(all, r.TextInPlace())
	}
	return all
}

// Number reads an integer or a float.
func (r *Reader) Number() float64 {
	major, first, n := r.head()
	if r.err != nil {
		return 0
	}
	switch {
	case major == unsigned:
		return float64(n)
	case major == negative:
		return -1 - float64(n)
	case first == double:
		return math.Float64frombits(n)
	case first == single:
		return float64(math.Float32frombits(uint32(n)))
	case first == half:
		return fromHalf(uint16(n))
	}
	r.fail(names[major] + " where a number should be")
	return 0
}

// fromHalf is a float of 16 bits (RFC 8949 appendix D).
func fromHalf(bits uint16) float64 {
	exponent, mantissa := int(bits>>10)&0x1f, float64(bits&0x3ff)
	var v float64
	switch exponent {
	case 0:
		v = math.Ldexp(mantissa, -24)
	case 31:
		v = math.Inf(1)
		if mantissa != 0 {
			v = math.NaN()
		}
	default:
		v = math.Ldexp(mantissa+1024, exponent-25)
	}
	if bits&0x8000 != 0 {
		return -v
	}
	return v
}

// Bool reads a boolean.
func (r *Reader) Bool() bool {
	_, first, _ := r.head()
	if r.err == nil && first != trueValue && first != falseValue {
		r.fail("something else where true or false should be")
	}
	return r.err == nil && first == trueValue
}

// Skip passes over one item.
func (r *Reader) Skip() { r.skip(0) }

func (r *Reader) skip(depth int) {
	if depth > deepest {
		r.fail("items nested too deeply")
	}
	major, _, n := r.head()
	if r.err != nil {
		return
	}
	switch major {
	case byteString, text:
		r.Discard(n)
	case array, mapping:
		if n > 1<<20 {
			r.fail("too many items")
			return
		}
		if major == mapping {
			n *= 2
		}
		for ; n > 0 && r.err == nil; n-- {
			r.skip(depth + 1)
		}
	case tagged:
		r.skip(depth + 1)
	}
}
