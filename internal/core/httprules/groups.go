package httprules

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/dunglas/httpsfv"
)

// MaxGroups is how many groups of one response are kept (RFC 9875 §2.1 asks for at least 32).
const MaxGroups = 1000

// MaxGroupLength is the longest group name kept, in bytes.
const MaxGroupLength = 1024

// ParseGroups reads a Cache-Groups or Cache-Group-Invalidation field: a list of strings
// (RFC 9875 §2, §3), or of display strings, for names that are not ASCII (RFC 9651
// §3.3.8). A field that does not parse is ignored as a whole, members of
// another type one by one. cut counts what was over the limits.
func ParseGroups(lines []string) (groups []string, cut int) {
	if len(lines) == 0 {
		return nil, 0
	}
	list, err := httpsfv.UnmarshalList(lines)
	if err != nil {
		return nil, 0
	}
	for _, member := range list {
		item, ok := member.(httpsfv.Item)
		if !ok {
			continue
		}
		name, ok := item.Value.(string)
		if shown, isDisplay := item.Value.(httpsfv.DisplayString); isDisplay {
			name, ok = string(shown), true
		}
		if !ok || name == "" {
			continue
		}
		name = Textual(name)
		if len(groups) >= MaxGroups || len(name) > MaxGroupLength {
			cut++
			continue
		}
		groups = append(groups, name)
	}
	return groups, cut
}

// FormatGroups writes a Cache-Groups field that Groups reads.
func FormatGroups(groups []string) string {
	list := make(httpsfv.List, len(groups))
	for i, name := range groups {
		list[i] = httpsfv.NewItem(name)
		if strings.ContainsFunc(name, func(r rune) bool { return r < 0x20 || r > 0x7e }) {
			list[i] = httpsfv.NewItem(httpsfv.DisplayString(name))
		}
	}
	field, err := httpsfv.Marshal(list)
	if err != nil {
		return "" // a name that is no UTF-8; no tag is
	}
	return field
}

// ParsePlainGroups reads a tag field of an origin that cannot send structured fields:
// names between separators.
func ParsePlainGroups(lines []string, separator string) (groups []string, cut int) {
	for _, line := range lines {
		for name := range strings.SplitSeq(line, separator) {
			if name = strings.TrimSpace(name); name == "" {
				continue
			}
			name = Textual(name)
			if len(groups) >= MaxGroups || len(name) > MaxGroupLength {
				cut++
				continue
			}
			groups = append(groups, name)
		}
	}
	return groups, cut
}

// Textual writes what is no text, control characters and bytes that are not UTF-8, in
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
