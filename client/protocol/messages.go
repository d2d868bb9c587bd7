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
}

// LookupHead comes before the answers.
type LookupHead struct {
	Namespace string `cbor:"namespace"`
	Stamp     uint64 `cbor:"stamp"` // ledger sequence as of which all was found
}

// LookupAnswer is what was found of one key.
type LookupAnswer struct {
	At     int    `cbor:"at"` // place of the key in the question
	State  string `cbor:"state"`
	Lease  string `cbor:"lease,omitempty"`
	Cause  string `cbor:"cause,omitempty"`
	Waited bool   `cbor:"waited,omitempty"`
	*FoundFragment
}

// FoundFragment is the fragment, if it is there.
type FoundFragment struct {
	Coding string   `cbor:"coding,omitempty"`
	Age    float64  `cbor:"age"`            // seconds
	Left   float64  `cbor:"left"`           // seconds
	Type   string   `cbor:"type,omitempty"` // with details
	CostMS float64  `cbor:"cost,omitempty"` // milliseconds, with details
	Tags   []string `cbor:"tags,omitempty"`
	Body   []byte   `cbor:"body"`
}

// Offer is a fragment that is to be stored, or (Failed) a lease that is given back.
type Offer struct {
	Key    string   `cbor:"key"`
	Lease  string   `cbor:"lease"`
	Failed bool     `cbor:"failed,omitempty"`
	Type   string   `cbor:"type,omitempty"`
	Coding string   `cbor:"coding,omitempty"`
	Life   float64  `cbor:"life,omitempty"`  // seconds
	Stale  float64  `cbor:"stale,omitempty"` // seconds
	CostMS float64  `cbor:"cost,omitempty"`  // milliseconds
	Tags   []string `cbor:"tags,omitempty"`
	Parts  []string `cbor:"parts,omitempty"`
	Body   []byte   `cbor:"body,omitempty"`
}

// Stored is what became of an offer.
type Stored struct {
	At      int    `cbor:"at"`
	Stored  bool   `cbor:"stored"`
	Refused string `cbor:"refused,omitempty"` // invalid, overtaken, too-large
	Why     string `cbor:"why,omitempty"`
}

// encoding and decoding are made once; neither changes.
var (
	encoding = must(cbor.EncOptions{}.UserBufferEncMode())
	decoding = must(cbor.DecOptions{
		MaxNestedLevels: 16, MaxArrayElements: 1 << 20, MaxMapPairs: 1 << 16,
		IndefLength: cbor.IndefLengthForbidden, TagsMd: cbor.TagsForbidden,
	}.DecMode())
)

func must[T any](v T, err error) T {
	if err != nil {
		panic(err) // the options are written above
	}
	return v
}

// Append writes a message behind those that a buffer has.
func Append(b *bytes.Buffer, message any) error { return encoding.MarshalToBuffer(message, b) }

// Next reads the first message of a sequence, and returns what follows it. Members that the
// message does not have are passed over.
func Next(sequence []byte, message any) (rest []byte, err error) {
	rest, err = decoding.UnmarshalFirst(sequence, message)
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return rest, err
}

// Reader reads messages as they come.
type Reader struct{ decoder *cbor.Decoder }

// NewReader reads from a source.
func NewReader(source io.Reader) Reader { return Reader{decoding.NewDecoder(source)} }

// Next reads the next message; io.EOF after the last.
func (r Reader) Next(message any) error { return r.decoder.Decode(message) }
