package policy

import (
	"fmt"

	"github.com/goccy/go-yaml/token"
)

// Bounds of a policy. Whoever may check one must not keep a node busy with it: what is
// deep, or repeats, costs its reader far more than its length.
const (
	maxSource   = 1 << 20 // bytes
	maxNesting  = 64
	maxKeys     = 1000 // of one mapping
	maxMarkers  = 200  // anchors, aliases and tags, in all
	maxProblems = 100
)

// beyond says which bound the file's tokens go beyond, and where; "" if none.
func beyond(tokens token.Tokens) (what string, at *token.Token) {
	var flow []int         // keys of the mappings that are open in brackets
	block := map[int]int{} // keys of those that are indented, by their column
	line, onLine, markers := 0, 0, 0
	for _, t := range tokens {
		if t.Position.Line != line {
			line, onLine = t.Position.Line, 0
		}
		switch t.Type {
		case token.SequenceStartType, token.MappingStartType:
			flow = append(flow, 0)
		case token.SequenceEndType, token.MappingEndType:
			if len(flow) > 0 {
				flow = flow[:len(flow)-1]
			}
		case token.SequenceEntryType, token.MappingKeyType:
			onLine++
		case token.AnchorType, token.AliasType, token.TagType:
			markers++
		case token.MappingValueType:
			keys := 0
			if n := len(flow); n > 0 {
				flow[n-1]++
				keys = flow[n-1]
			} else if t.Prev != nil {
				column := t.Prev.Position.Column
				for other := range block {
					if other > column {
						delete(block, other)
					}
				}
				block[column]++
				keys = block[column]
			}
			if keys > maxKeys {
				return fmt.Sprintf("a mapping has more than %d keys", maxKeys), t
			}
		}
		switch {
		case len(flow)+onLine > maxNesting || len(block) > maxNesting:
			return fmt.Sprintf("lists and mappings stand in one another more than %d deep", maxNesting), t
		case markers > maxMarkers:
			return fmt.Sprintf("it has more than %d anchors, aliases and tags", maxMarkers), t
		}
	}
	return "", nil
}
