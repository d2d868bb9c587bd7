package client

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"reflect"
	"strconv"
	"time"
	"unicode/utf8"

	"gerastic.example/client/protocol"
)

// Fragment says what a part of a page is that the application makes, and how long it lives.
type Fragment struct {
	// Name is what fragments of its kind share: "row". Figures are kept by name.
	Name string
	// Parts tell fragments of one name apart: strings, numbers, booleans, times, byte slices.
	// They are typed and ordered: ("a", "bc") is another fragment than ("ab", "c"), 1 than "1".
	Parts []any
	// Version, if set, is the state of what it is made from, such as a changed-at time: with
	// another version it is another fragment.
	Version any
	// Lifetime is how long it is fresh; Forever leaves it to purges and versions. It is cut
	// to the shortest life of the fragments in it. There is no default.
	Lifetime time.Duration
	// Stale is how long beyond that it may be used while it is filled anew.
	Stale time.Duration
	// Nothing is how long it is known that a fill found nothing (ErrNothing); 0: that is not stored.
	Nothing time.Duration
	// Tags name what it shows; those of the fragments in it come on top.
	Tags []string
	// Type is its media type; text/html; charset=utf-8 if left out.
	Type string
}

// Forever is the lifetime of what only a purge or a new version ends.
const Forever = 100 * 365 * 24 * time.Hour

// Key writes name, parts and version as the text that the service knows the fragment by:
// row("tholm",7)@t"2026-05-17T06:00:00Z". Each value reads one way only: strings and numbers
// as in canonical JSON (RFC 8785), times behind t, bytes in hexadecimal behind x. An error
// says which value cannot be a part.
func (f *Fragment) Key() (string, error) {
	if !protocol.IsName(f.Name) {
		return "", fmt.Errorf("a fragment's name has 1 to 64 letters, digits, -, _ and .; %s is not one", f.Name)
	}
	b := make([]byte, 0, 64)
	b = append(append(b, f.Name...), '(')
	var err error
	for i, part := range f.Parts {
		if i > 0 {
			b = append(b, ',')
		}
		if b, err = appendValue(b, part); err != nil {
			return "", fmt.Errorf("a part of the fragment %s %w", f.Name, err)
		}
	}
	b = append(b, ')')
	if f.Version != nil {
		if b, err = appendValue(append(b, '@'), f.Version); err != nil {
			return "", fmt.Errorf("a part of the fragment %s %w", f.Name, err)
		}
	}
	if len(b) > protocol.MaxKey {
		return "", fmt.Errorf("the key of the fragment %s has more than %d bytes; use an identifier, or a digest, in place of a long text", f.Name, protocol.MaxKey)
	}
	return string(b), nil
}

// check returns what keeps a fragment from being stored.
func (f *Fragment) check(o *FragmentOptions) error {
	if f.Lifetime <= 0 && o.Lifetime <= 0 {
		return fmt.Errorf("the fragment %s has no lifetime; give one, such as 1h, or forever if only purges and versions end it", f.Name)
	}
	return nil
}

// usable is the key of a fragment that is in order; "" and an error that says what is wrong, if it is not.
func (f *Fragment) usable(o *FragmentOptions) (string, error) {
	if err := f.check(o); err != nil {
		return "", err
	}
	return f.Key()
}

// deepest is how deep lists in parts may be nested.
const deepest = 16

func appendValue(b []byte, v any) ([]byte, error) { return appendAt(b, v, 0) }

func appendAt(b []byte, v any, depth int) ([]byte, error) {
	switch v := v.(type) {
	case nil:
		return append(b, "null"...), nil
	case string:
		return appendString(b, v)
	case time.Time:
		return append(v.UTC().AppendFormat(append(b, `t"`...), time.RFC3339Nano), '"'), nil
	case []byte:
		return append(hex.AppendEncode(append(b, `x"`...), v), '"'), nil
	}
	switch r := reflect.ValueOf(v); r.Kind() {
	case reflect.String:
		return appendString(b, r.String())
	case reflect.Bool:
		return strconv.AppendBool(b, r.Bool()), nil
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return strconv.AppendInt(b, r.Int(), 10), nil
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return strconv.AppendUint(b, r.Uint(), 10), nil
	case reflect.Float32, reflect.Float64:
		f := r.Float()
		if math.IsNaN(f) || math.IsInf(f, 0) {
			return b, errNoValue
		}
		number, err := json.Marshal(f + 0) // as ECMAScript writes it; -0 is 0
		return append(b, number...), err
	case reflect.Pointer:
		if r.IsNil() {
			return append(b, "null"...), nil
		}
		return appendAt(b, r.Elem().Interface(), depth+1)
	case reflect.Slice, reflect.Array:
		if depth < deepest {
			return appendList(b, r, depth)
		}
		return b, errNoValue
	}
	if s, ok := v.(fmt.Stringer); ok {
		return appendString(b, s.String())
	}
	return b, errNoValue
}

// appendList writes a list as a JSON array.
func appendList(b []byte, list reflect.Value, depth int) (_ []byte, err error) {
	b = append(b, '[')
	for i := range list.Len() {
		if i > 0 {
			b = append(b, ',')
		}
		if b, err = appendAt(b, list.Index(i).Interface(), depth+1); err != nil {
			return b, err
		}
	}
	return append(b, ']'), nil
}

// What is wrong with a part, behind "a part of the fragment NAME".
var (
	errNotText = errors.New("is not text; make it bytes")
	errNoValue = errors.New("is not a value; parts are text, numbers, booleans, times, bytes, and lists of them")
)

// appendString quotes as RFC 8785 §3.2.2.2 says.
func appendString(b []byte, s string) ([]byte, error) {
	if !utf8.ValidString(s) {
		return b, errNotText
	}
	b = append(b, '"')
	for i := range len(s) {
		switch c := s[i]; c {
		case '"', '\\':
			b = append(b, '\\', c)
		case '\b', '\t', '\n', '\f', '\r':
			b = append(b, '\\', "btn\x00fr"[c-'\b'])
		default:
			if c < 0x20 {
				b = append(b, `\u00`...)
				b = hex.AppendEncode(b, []byte{c})
			} else {
				b = append(b, c)
			}
		}
	}
	return append(b, '"'), nil
}

// mediaType is the fragment's, or that of a part of a page.
func (f *Fragment) mediaType() string {
	if f.Type != "" {
		return f.Type
	}
	return "text/html; charset=utf-8"
}
