package protocol

import (
	"bytes"
	"errors"
	"io"

	"github.com/fxamacker/cbor/v2"
)

// MediaType is that of a sequence of CBOR items (RFC 8742), which the calls for many fragments
// are made of.
const MediaType = "application/cbor-seq"

// Lookup asks for many fragments.
type Lookup struct {
	Keys    []string `cbor:"keys"`
	Wait    float64  `cbor:"wait,omitempty"`  // milliseconds, for what others fill
	Lease   *float64 `cbor:"lease,omitempty"` // milliseconds that a fill may take; 0: only look; nil: as the node thinks
	Fresh   bool     `cbor:"fresh,omitempty"` // what is stale counts as missing
	Renew   bool     `cbor:"renew,omitempty"` // a lease is wanted even for what is fresh
	Details bool     `cbor:"details,omitempty"`
	// Have are validators of bodies that the caller still has, by place; "" where it has none. With
	// it the answers have validators.
	Have []string `cbor:"have,omitempty"`
}

// LookupHead comes before the answers.
type LookupHead struct {
	Namespace string `cbor:"namespace"`
	Stamp     uint64 `cbor:"stamp"` // ledger sequence as of which all was found
}

// LookupAnswer is what was found of one key.
type LookupAnswer struct {
	At     int     `cbor:"at"` // place of the key in the lookup
	State  string  `cbor:"state"`
	Age    float64 `cbor:"age"`  // seconds
	Left   float64 `cbor:"left"` // seconds
	Body   Bytes   `cbor:"body"` // empty if it is not there
	Lease  string  `cbor:"lease,omitempty"`
	Cause  string  `cbor:"cause,omitempty"`
	Waited bool    `cbor:"waited,omitempty"`
	ETag   string  `cbor:"etag,omitempty"` // validator of the body, where the lookup has some

	Coding string   `cbor:"coding,omitempty"`
	Tags   []string `cbor:"tags,omitempty"`
	Type   string   `cbor:"type,omitempty"` // with details
	CostMS float64  `cbor:"cost,omitempty"` // milliseconds, with details

	LookupSame // in place of all that: an answer is of one key, or of these
}

// LookupSame is what was found of keys that are fresh and whose bodies the caller has: they are not sent.
type LookupSame struct {
	Same    []int      `cbor:"same,omitempty"`    // places of the keys in the lookup
	Ages    []float64  `cbor:"ages,omitempty"`    // seconds, of each
	Lives   []float64  `cbor:"lives,omitempty"`   // seconds that are left, of each
	TagSets [][]string `cbor:"tagsets,omitempty"` // of each; nil: none has any
}

// Add adds what was found of the key at a place.
func (s *LookupSame) Add(at int, age, left float64, tags []string) {
	if len(tags) > 0 || s.TagSets != nil {
		for len(s.TagSets) < len(s.Same) {
			s.TagSets = append(s.TagSets, []string{})
		}
		s.TagSets = append(s.TagSets, tags)
	}
	s.Same, s.Ages, s.Lives = append(s.Same, at), append(s.Ages, age), append(s.Lives, left)
}

// Whole reports whether it says of each key what belongs to it.
func (s *LookupSame) Whole() bool {
	n := len(s.Same)
	return len(s.Ages) == n && len(s.Lives) == n && (s.TagSets == nil || len(s.TagSets) == n)
}

// Tags are those of the n-th.
func (s *LookupSame) Tags(n int) []string {
	if s.TagSets == nil {
		return nil
	}
	return s.TagSets[n]
}

// PlainType is the type that an answer to a lookup with validators leaves out.
const PlainType = "text/html; charset=utf-8"

// Offer is a fragment that is to be stored, or (Failed) a lease that is given back.
type Offer struct {
	Key    string   `cbor:"key"`
	Lease  string   `cbor:"lease"`
	Failed bool     `cbor:"failed,omitempty"`
	Direct bool     `cbor:"direct,omitempty"` // nobody asked for it: what was just saved is stored
	Since  *uint64  `cbor:"since,omitempty"`  // ledger sequence from which on a purge of it refuses it; nil: the lease's
	Type   string   `cbor:"type,omitempty"`
	Coding string   `cbor:"coding,omitempty"`
	Life   float64  `cbor:"life,omitempty"`  // seconds
	Stale  float64  `cbor:"stale,omitempty"` // seconds
	CostMS float64  `cbor:"cost,omitempty"`  // milliseconds
	Tags   []string `cbor:"tags,omitempty"`
	Parts  []string `cbor:"parts,omitempty"`
	// Work is what it took to make, as the application counts it, but for what is in it.
	Work map[string]float64 `cbor:"work,omitempty"`
	Body Bytes              `cbor:"body,omitempty"`
}

// Stored is what became of an offer.
type Stored struct {
	At      int    `cbor:"at"`
	Stored  bool   `cbor:"stored"`
	Refused string `cbor:"refused,omitempty"` // Invalid, Overtaken or TooLarge
	Why     string `cbor:"why,omitempty"`
}

// Why a fragment is not stored: it is not right as it is, a purge or a newer fill came between, or it does not fit.
const (
	Invalid   = "invalid"
	Overtaken = "overtaken"
	TooLarge  = "too-large"
)

// Bytes is a byte string that is not copied when it is read: it points into what came in.
type Bytes []byte

// UnmarshalCBOR implements cbor.Unmarshaler, for an item that is known to be well-formed.
func (b *Bytes) UnmarshalCBOR(item []byte) error {
	const byteString, argument = 0x40, 0x1f
	if item[0]&^argument != byteString {
		return errors.New("something else where bytes should be")
	}
	head := 1
	if length := item[0] & argument; length >= 24 { // the length is in 1, 2, 4 or 8 bytes (RFC 8949 §3)
		head += 1 << (length - 24)
	}
	*b = item[head:]
	return nil
}

// encoding and decoding are made once; neither changes.
var (
	encoding = must(cbor.EncOptions{NilContainers: cbor.NilContainerAsEmpty}.UserBufferEncMode())
	decoding = must(cbor.DecOptions{
		MaxNestedLevels: 16, MaxArrayElements: 1 << 20, MaxMapPairs: 1 << 16,
		FieldNameMatching: cbor.FieldNameMatchingCaseSensitive, IndefLength: cbor.IndefLengthForbidden, TagsMd: cbor.TagsForbidden,
	}.DecMode())
)

func must[T any](v T, err error) T {
	if err != nil {
		panic(err) // the options are written above
	}
	return v
}

// Write writes a message.
func Write(w io.Writer, message any) error {
	var b bytes.Buffer
	if err := Append(&b, message); err != nil {
		return err
	}
	_, err := w.Write(b.Bytes())
	return err
}

// Append writes a message behind those that a buffer has.
func Append(b *bytes.Buffer, message any) error { return encoding.MarshalToBuffer(message, b) }

// Next reads the first message of a sequence, and returns what follows it. Members that the
// message does not have are passed over; Bytes point into the sequence. io.ErrUnexpectedEOF: it
// is not whole.
func Next(sequence []byte, message any) (rest []byte, err error) {
	rest, err = decoding.UnmarshalFirst(sequence, message)
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return rest, err
}
