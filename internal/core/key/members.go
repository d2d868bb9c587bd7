package key

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"
	"strings"
)

// Members say which members of a body count, by their paths, variables.port; neither: all of them.
type Members struct {
	Only, Except [][]string
}

// All reports whether all members count.
func (m *Members) All() bool { return len(m.Only)+len(m.Except) == 0 }

// Holds reports whether the member at a path counts, as a whole.
func (m *Members) Holds(path string) bool {
	at := strings.Split(path, ".")
	if len(m.Only) > 0 {
		return slices.ContainsFunc(m.Only, func(p []string) bool { return len(p) <= len(at) && slices.Equal(p, at[:len(p)]) })
	}
	return !slices.ContainsFunc(m.Except, func(p []string) bool {
		n := min(len(p), len(at))
		return slices.Equal(p[:n], at[:n])
	})
}

// of is what counts of a value. Nothing of the value changes.
func (m *Members) of(value any) any {
	if m.All() {
		return value
	}
	if len(m.Only) > 0 {
		object, isObject := value.(map[string]any)
		if !isObject {
			return value // it has no members to choose among
		}
		return only(object, m.Only)
	}
	for _, path := range m.Except {
		value = without(value, path)
	}
	return value
}

func only(object map[string]any, paths [][]string) map[string]any {
	kept := map[string]any{}
	deeper := map[string][][]string{}
	for _, path := range paths {
		value, has := object[path[0]]
		switch {
		case !has:
		case len(path) == 1:
			kept[path[0]] = value
		default:
			deeper[path[0]] = append(deeper[path[0]], path[1:])
		}
	}
	for name, rest := range deeper {
		if _, whole := kept[name]; whole {
			continue
		}
		if inner, isObject := object[name].(map[string]any); isObject {
			kept[name] = only(inner, rest)
		} else {
			kept[name] = object[name]
		}
	}
	return kept
}

// without is a value without the member at a path; in a list, of each of its elements.
func without(value any, path []string) any {
	switch v := value.(type) {
	case map[string]any:
		inner, has := v[path[0]]
		if !has {
			return v
		}
		copied := maps.Clone(v)
		if len(path) == 1 {
			delete(copied, path[0])
		} else {
			copied[path[0]] = without(inner, path[1:])
		}
		return copied
	case []any:
		copied := slices.Clone(v)
		for i := range copied {
			copied[i] = without(copied[i], path)
		}
		return copied
	}
	return value
}

// parsed reads JSON that has a canonical form; numbers stay as they are written.
func parsed(text []byte) (value any, ok bool) {
	if canonical, ok := CanonicalJSON(text); ok {
		d := json.NewDecoder(bytes.NewReader([]byte(canonical)))
		d.UseNumber()
		return value, d.Decode(&value) == nil
	}
	return nil, false
}

// written is the canonical text of a value that was parsed.
func written(value any) string {
	text, err := json.Marshal(value)
	if err != nil {
		return "null" // no value that was parsed
	}
	canonical, _ := CanonicalJSON(text)
	return canonical
}
