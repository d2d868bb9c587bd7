package httprules

import (
	"strings"
	"time"
)

// Header holds a message's field lines by canonical name ("Cache-Control"). It has
// the shape of net/http's Header and converts to it and from it without a copy.
type Header map[string][]string

// Get returns the first line of a field, or "". The name must be canonical.
func (h Header) Get(name string) string {
	if lines := h[name]; len(lines) > 0 {
		return lines[0]
	}
	return ""
}

// Joined returns all lines of a field as one, as RFC 9110 §5.3 allows for list
// fields. It allocates only when there is more than one line.
func (h Header) Joined(name string) string {
	switch lines := h[name]; len(lines) {
	case 0:
		return ""
	case 1:
		return lines[0]
	default:
		return strings.Join(lines, ", ")
	}
}

// Has reports whether the field is present, even if empty.
func (h Header) Has(name string) bool { return len(h[name]) > 0 }

// Clone returns a deep copy.
func (h Header) Clone() Header {
	c := make(Header, len(h))
	for name, lines := range h {
		c[name] = append([]string(nil), lines...)
	}
	return c
}

// hopByHop are the fields that concern one connection only (RFC 9110 §7.6.1).
var hopByHop = []string{
	"Connection", "Keep-Alive", "Proxy-Authenticate", "Proxy-Authentication-Info", "Proxy-Authorization",
	"Proxy-Connection", "Te", "Trailer", "Transfer-Encoding", "Upgrade",
}

// DropHopByHop removes the fields of one connection, and those that Connection
// lists, from h (RFC 9110 §7.6.1, RFC 9111 §3.1).
func DropHopByHop(h Header) {
	for _, line := range h["Connection"] {
		for name := range strings.SplitSeq(line, ",") {
			delete(h, CanonicalName(strings.TrimSpace(name)))
		}
	}
	for _, name := range hopByHop {
		delete(h, name)
	}
}

// CanonicalName writes a field name the way Header holds it: first letters upper
// case, the rest lower. Names that are no token are returned as they are.
func CanonicalName(name string) string {
	upper := true
	canonical := true
	for i := range len(name) {
		c := name[i]
		if !isTokenByte(c) {
			return name
		}
		if upper && 'a' <= c && c <= 'z' || !upper && 'A' <= c && c <= 'Z' {
			canonical = false
		}
		upper = c == '-'
	}
	if canonical {
		return name
	}
	b := []byte(name)
	upper = true
	for i, c := range b {
		if upper && 'a' <= c && c <= 'z' {
			b[i] = c - 'a' + 'A'
		} else if !upper && 'A' <= c && c <= 'Z' {
			b[i] = c - 'A' + 'a'
		}
		upper = c == '-'
	}
	return string(b)
}

// IsToken reports whether s is a token (RFC 9110 §5.6.2): a method or a field name.
func IsToken(s string) bool {
	for i := range len(s) {
		if !isTokenByte(s[i]) {
			return false
		}
	}
	return s != ""
}

func isTokenByte(c byte) bool {
	switch {
	case 'a' <= c && c <= 'z', 'A' <= c && c <= 'Z', '0' <= c && c <= '9':
		return true
	}
	return strings.IndexByte("!#$%&'*+-.^_`|~", c) >= 0
}

// dateForms are the three forms of an HTTP date (RFC 9110 §5.6.7).
var dateForms = []string{"Mon, 02 Jan 2006 15:04:05 GMT", time.RFC850, time.ANSIC}

// ParseDate reads an HTTP date (RFC 9110 §5.6.7).
func ParseDate(s string) (time.Time, bool) {
	for _, form := range dateForms {
		if t, err := time.Parse(form, s); err == nil {
			return t.UTC(), true
		}
	}
	return time.Time{}, false
}

// FormatDate writes an HTTP date (RFC 9110 §5.6.7).
func FormatDate(t time.Time) string { return t.UTC().Format(dateForms[0]) }

// MediaType returns the media type of a Content-Type, or of a member of Accept, in lower case and
// without its parameters (RFC 9110 §8.3.1).
func MediaType(field string) string {
	kind, _, _ := strings.Cut(field, ";")
	return strings.ToLower(strings.TrimSpace(kind))
}
