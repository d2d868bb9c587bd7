package httprules

import (
	"strings"

	"gerastic.example/client/protocol"
)

// ParsePlainGroups reads a tag field of an origin that cannot send structured fields:
// names between separators.
func ParsePlainGroups(lines []string, separator string) (groups []string, cut int) {
	for _, line := range lines {
		for name := range strings.SplitSeq(line, separator) {
			if name = strings.TrimSpace(name); name == "" {
				continue
			}
			name = protocol.Textual(name)
			if len(groups) >= protocol.MaxTags || len(name) > protocol.MaxTag {
				cut++
				continue
			}
			groups = append(groups, name)
		}
	}
	return groups, cut
}
