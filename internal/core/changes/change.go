package changes

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"
)

// Op is what happened.
type Op string

// The operations. Unknown is for a source that only sees what there is now: it may be
// new or changed.
const (
	Create  Op = "create"
	Update  Op = "update"
	Delete  Op = "delete"
	Unknown Op = ""
)

// Fields are the values of one thing, as JSON has them; numbers are json.Number.
type Fields map[string]any

// Change is one thing that was created, updated or deleted.
type Change struct {
	ID     string // its own name, if it has one: the same change sent twice is one
	Kind   string
	Op     Op
	Before Fields // nil: there was nothing, or nobody knows
	After  Fields
	At     time.Time // of the commit, as far as that is known
}

// known reports whether it is certain what a side's values were: a missing side is, where
// the operation says that there was nothing.
func (c *Change) known(before bool) bool {
	if before {
		return c.Before != nil || c.Op == Create
	}
	return c.After != nil || c.Op == Delete
}

// Check says what is wrong with a change that came from outside, or nil.
func (c *Change) Check() error {
	switch {
	case c.Kind == "":
		return fmt.Errorf("a change has no kind; name the kind of thing, as the rules do")
	case c.Op != Create && c.Op != Update && c.Op != Delete && c.Op != Unknown:
		return fmt.Errorf("op %q: it is create, update or delete", c.Op)
	case c.Before == nil && c.After == nil:
		return fmt.Errorf("a %s has neither before nor after; give the values that it had, and those that it has", c.Kind)
	case c.Op == Create && c.Before != nil:
		return fmt.Errorf("a create has values from before; its op is update")
	case c.Op == Delete && c.After != nil:
		return fmt.Errorf("a delete has values from after; its op is update")
	}
	return nil
}

// ParseFields reads a JSON object; null and nothing are nil.
func ParseFields(text []byte) (Fields, error) {
	if text = bytes.TrimSpace(text); len(text) == 0 || string(text) == "null" {
		return nil, nil
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var f Fields
	if err := d.Decode(&f); err != nil {
		return nil, fmt.Errorf("values are a JSON object, such as {\"id\": 7}: %w", err)
	}
	if d.More() {
		return nil, fmt.Errorf("values are one JSON object; something follows it")
	}
	return f, nil
}

// at follows a path such as "vessel.name"; has is false where the values do not go so
// far, which is not the same as null: nobody said what is there.
func (f Fields) at(path string) (v any, has bool) {
	v = map[string]any(f)
	for name := range strings.SplitSeq(path, ".") {
		object, ok := v.(map[string]any)
		if !ok {
			return nil, v == nil && has // below null there is nothing
		}
		if v, has = object[name]; !has {
			return nil, false
		}
	}
	return v, true
}

// Texts returns the values at a path as texts: several for a list, none for nothing.
func (f Fields) Texts(path string) []string {
	v, _ := f.at(path)
	switch v := v.(type) {
	case []any:
		var all []string
		for _, item := range v {
			if text, ok := text(item); ok {
				all = append(all, text)
			}
		}
		return all
	default:
		if text, ok := text(v); ok {
			return []string{text}
		}
		return nil
	}
}

// text writes a plain value.
func text(v any) (string, bool) {
	switch v := v.(type) {
	case string:
		return v, v != ""
	case json.Number:
		return v.String(), true
	case bool:
		return fmt.Sprint(v), true
	}
	return "", false
}

// same reports whether the values at a path are certainly equal on both sides.
func same(a, b Fields, path string) bool {
	left, hasLeft := a.at(path)
	right, hasRight := b.at(path)
	return hasLeft && hasRight && reflect.DeepEqual(left, right)
}

// add puts what is missing at the end.
func add(all []string, more ...string) []string {
	for _, s := range more {
		if !slices.Contains(all, s) {
			all = append(all, s)
		}
	}
	return all
}
