package httprules

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"
)

// VariesOnAll reports whether Vary holds "*": no later request matches (RFC 9111 §4.1).
func VariesOnAll(h Header) bool {
	for _, line := range h["Vary"] {
		for name := range strings.SplitSeq(line, ",") {
			if strings.TrimSpace(name) == "*" {
				return true
			}
		}
	}
	return false
}

// Varying is one field that Vary named, with what the request that brought the
// response said there, normalised.
type Varying struct {
	Name    string // canonical
	Value   string
	Present bool
}

// VaryNames are the fields that a response's Vary names, canonical, in its order, each
// once; without "*".
func VaryNames(response Header) []string {
	var names []string
	for _, line := range response["Vary"] {
		for name := range strings.SplitSeq(line, ",") {
			name = CanonicalName(strings.TrimSpace(name))
			if name != "" && name != "*" && !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names
}

// Shown is the value for people: of what may carry a credential, only a digest that tells one
// from another.
func (v Varying) Shown() string {
	return ShownValue(v.Name, v.Value)
}

// ShownValue is the same of a field's value.
func ShownValue(name, value string) string {
	if value == "" || name != "Cookie" && !Credential(name) {
		return value
	}
	sum := sha256.Sum256([]byte(value))
	return "sha-256:" + hex.EncodeToString(sum[:8])
}

// VaryingOf takes from a request what it says in the fields that a Vary named
// (RFC 9111 §4.1). What counts is how they reached the origin.
func VaryingOf(names []string, request Fields) []Varying {
	var varying []Varying
	for _, name := range names {
		lines := request.Lines(name)
		varying = append(varying, Varying{name, Normalised(name, lines), len(lines) > 0})
	}
	return varying
}

// Matches reports whether a request would have been answered with the response that
// these were taken for (RFC 9111 §4.1).
func Matches(varying []Varying, request Fields) bool {
	for i := range varying {
		v := &varying[i]
		lines := request.Lines(v.Name)
		if v.Present != (len(lines) > 0) {
			return false
		}
		// The common case, one line that reads the same, needs no normalising.
		if len(lines) == 1 && lines[0] == v.Value {
			continue
		}
		if Normalised(v.Name, lines) != v.Value {
			return false
		}
	}
	return true
}

// Normalised joins lines and drops white space around commas, which changes no
// field's meaning as a list (RFC 9111 §4.1); white space inside quotes stays. Of
// Accept-Encoding only what an origin could act on is left.
func Normalised(name string, lines []string) string {
	if name == "Accept-Encoding" {
		return NormalEncoding(lines)
	}
	joined := strings.Join(lines, ",")
	if !strings.ContainsAny(joined, " \t") {
		return joined
	}
	if strings.ContainsRune(joined, '"') {
		return strings.TrimSpace(joined)
	}
	parts := strings.Split(joined, ",")
	for i := range parts {
		parts[i] = strings.TrimSpace(parts[i])
	}
	return strings.Join(parts, ",")
}
