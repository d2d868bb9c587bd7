package rules

import (
	"strings"

	"github.com/dunglas/httpsfv"
)

// MaxGroups is how many groups of one response are kept (RFC 9875 §2.1 asks for at least 32).
const MaxGroups = 1000

// MaxGroupLength is the longest group name kept, in bytes.
const MaxGroupLength = 1024

// Groups reads a Cache-Groups or Cache-Group-Invalidation field: a list of strings
// (RFC 9875 §2, §3). A field that does not parse is ignored as a whole, members of
// another type one by one. cut counts what was over the limits.
func Groups(lines []string) (groups []string, cut int) {
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
		if !ok || name == "" {
			continue
		}
		if len(groups) >= MaxGroups || len(name) > MaxGroupLength {
			cut++
			continue
		}
		groups = append(groups, name)
	}
	return groups, cut
}

// PlainGroups reads a tag field of an origin that cannot send structured fields:
// names between separators.
func PlainGroups(lines []string, separator string) (groups []string, cut int) {
	for _, line := range lines {
		for name := range strings.SplitSeq(line, separator) {
			if name = strings.TrimSpace(name); name == "" {
				continue
			}
			if len(groups) >= MaxGroups || len(name) > MaxGroupLength {
				cut++
				continue
			}
			groups = append(groups, name)
		}
	}
	return groups, cut
}
