package httprules

import (
	"slices"
	"strings"
)

// Fields are the lines of a request's fields. A Header is one; so is whatever knows how
// a field would read at the origin.
type Fields interface {
	// Lines returns a field's lines by canonical name; none if it is absent.
	Lines(name string) []string
}

// Lines implements Fields.
func (h Header) Lines(name string) []string { return h[name] }

// connectionOptions are what Connection lists that are not the names of fields of ours
// to drop: Upgrade is judged on its own.
var connectionOptions = map[string]bool{"Close": true, "Keep-Alive": true, "Upgrade": true, "Te": true}

// DropConnectionFields removes the fields that Connection lists (RFC 9110 §7.6.1). They
// end at this hop: a key must not hold what the origin will not see.
func DropConnectionFields(h Header) {
	for _, line := range h["Connection"] {
		for name := range strings.SplitSeq(line, ",") {
			if name = CanonicalName(strings.Trim(name, " \t")); !connectionOptions[name] && name != "Connection" {
				delete(h, name)
			}
		}
	}
}

// Credential reports whether a field's name says that it carries a credential, in any
// spelling: whoever sends it may get what is for them alone.
func Credential(name string) bool {
	for i := range max(0, len(name)-3) {
		var found bool
		switch at := name[i:]; [2]byte{at[0] | 0x20, at[1] | 0x20} { // each request asks this of each field
		case [2]byte{'a', 'u'}:
			found = spelled(at, "auth")
		case [2]byte{'a', 'p'}:
			found = spelled(at, "apikey") || spelled(at, "api-key")
		case [2]byte{'t', 'o'}:
			found = spelled(at, "token")
		case [2]byte{'s', 'e'}:
			found = spelled(at, "secret") || spelled(at, "session")
		}
		if found {
			return !isHopByHop(name)
		}
	}
	return false
}

// spelled reports whether s begins with a word, whatever the case, and with _ for -.
func spelled(s, word string) bool {
	if len(s) < len(word) {
		return false
	}
	for i := range len(word) {
		if lower(s[i]) != word[i] {
			return false
		}
	}
	return true
}

func lower(c byte) byte {
	switch {
	case 'A' <= c && c <= 'Z':
		return c - 'A' + 'a'
	case c == '_':
		return '-'
	}
	return c
}

// Steering reports whether a field's name says that it could make an origin answer as if
// another method or URL had been asked for, in any spelling.
func Steering(name string) bool {
	plain := make([]byte, len(name))
	for i := range len(name) {
		plain[i] = lower(name[i])
	}
	text := string(plain)
	for _, word := range [...]string{"override", "rewrite", "original", "forwarded"} {
		if strings.Contains(text, word) {
			return true
		}
	}
	for _, end := range [...]string{"-host", "-method", "-url", "-uri", "-scheme"} {
		if strings.HasSuffix(text, end) {
			return true
		}
	}
	return false
}

func isHopByHop(name string) bool {
	return slices.Contains(hopByHop, name)
}

// SessionCookie holds a sign-in on the console. Cookies do not know ports, so that browsers send
// it to whatever else listens on the same host; the edge takes it off.
const SessionCookie = "gerastic_session"

// IsSessionCookie reports whether a cookie holds a sign-in on the console.
func IsSessionCookie(name string) bool {
	return strings.TrimPrefix(name, "__Host-") == SessionCookie
}
