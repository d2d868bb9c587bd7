package protocol

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Header fields. Those with which a page tells of the fragments in it go no further than to the
// edge, and to engineers who send ExplainField with a token.
const (
	// LifeField holds how many seconds the shortest-lived fragment of a page still has, and the
	// ledger sequence as of which the fragments were found: 12.3;as-of=812.
	LifeField = "Gerastic-Life"
	// PartsField lists the fragments, with what became of each and how deep in the page it is.
	PartsField = "Gerastic-Parts"
	// WorkField holds what an answer or a fragment took to make, as its maker counts it: queries=7, rows=120.
	WorkField = "Gerastic-Work"
	// ExplainField holds the token of an engineer who may see what is decided, and why.
	ExplainField = "Gerastic-Explain"
	// GroupField holds the group of a visitor, for origins. Visitors cannot send it.
	GroupField = "Gerastic-Group"
)

// Limits that a node holds to.
const (
	MaxTag   = 1024 // bytes of a tag
	MaxTags  = 1000 // of one entry
	MaxKey   = 1024 // bytes of a fragment's key
	MaxParts = 1000 // of a fragment, that are remembered
	MaxKeys  = 1000 // of one lookup, and fragments of one store call
)

// IsName reports whether a text can be a namespace, or a fragment's name: 1 to 64 letters,
// digits, -, _ and dots.
func IsName(s string) bool {
	if s == "" || len(s) > 64 {
		return false
	}
	for i := range len(s) {
		c := s[i]
		if (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && c != '-' && c != '_' && c != '.' {
			return false
		}
	}
	return true
}

// IsText reports whether a text can be kept: it is UTF-8 without NUL.
func IsText(s string) bool { return utf8.ValidString(s) && strings.IndexByte(s, 0) < 0 }

// Textual writes what is not text, control characters and bytes that are not UTF-8, in
// percent-encoding: what visitors and origins send comes to be kept and shown.
func Textual(s string) string {
	if utf8.ValidString(s) && strings.IndexFunc(s, unicode.IsControl) < 0 {
		return s
	}
	var b strings.Builder
	for i, r := range s {
		size := utf8.RuneLen(r)
		if r == utf8.RuneError && !strings.HasPrefix(s[i:], string(utf8.RuneError)) {
			size = 1
		} else if !unicode.IsControl(r) {
			b.WriteRune(r)
			continue
		}
		for _, c := range []byte(s[i : i+size]) {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}
