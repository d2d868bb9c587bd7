package changes

import (
	"fmt"
	"strings"

	"gerastic.example/client/protocol"
)

// Template is a tag with placeholders for field values: "port:{from_port}".
type Template struct {
	text  string
	parts []part
}

// part is literal text, or a placeholder when field is set: for the items of a list that came or went,
// if it is of what changed.
type part struct {
	literal, field string
	changed        bool
}

// onlyChanged is behind the name of a list of which the items that came or went are meant.
const onlyChanged = ":changed"

// ParseTemplate reads a tag template.
func ParseTemplate(text string) (Template, error) {
	t := Template{text: text}
	err := Placeholders(text, func(literal string) {
		t.parts = append(t.parts, part{literal: literal})
	}, func(placeholder string) error {
		field, changed := strings.CutSuffix(placeholder, onlyChanged)
		t.parts = append(t.parts, part{field: field, changed: changed})
		if !isPath(field) {
			return fmt.Errorf("{%s} is not a field; write {id} or {vessel.name}, or {topics:changed} for the items of a list that came or went. Old and new values are taken alike", placeholder)
		}
		return nil
	})
	return t, err
}

// Placeholders calls back for the literals and the {placeholders} of a tag template, in their order. The
// error says what is wrong with the template, or is that of a placeholder.
func Placeholders(text string, literal func(string), placeholder func(string) error) error {
	if text == "" {
		return fmt.Errorf("a tag needs at least one character")
	}
	for rest := text; rest != ""; {
		before, after, open := strings.Cut(rest, "{")
		if before != "" {
			literal(before)
		}
		if !open {
			break
		}
		name, after, closed := strings.Cut(after, "}")
		if !closed {
			return fmt.Errorf("the { in %q is not closed", text)
		}
		if err := placeholder(name); err != nil {
			return fmt.Errorf("in %q: %w", text, err)
		}
		rest = after
	}
	return nil
}

// String returns the template as written.
func (t Template) String() string { return t.text }

// Tags fills the template: with one tag, none when a value is missing, or several when
// values are lists; ok is false when they would be more than most. other are the values on the
// other side of the change, nil if they are not known. What is longer than any entry's tag is left
// out.
func (t Template) Tags(f, other Fields, most int) (filled []string, ok bool) {
	lists, many := make([][]string, len(t.parts)), 1
	for i, p := range t.parts {
		if lists[i] = []string{p.literal}; p.field != "" {
			lists[i] = f.Texts(p.field)
		}
		if p.changed {
			lists[i] = without(lists[i], other.Texts(p.field))
		}
		if many *= len(lists[i]); many > most {
			return nil, false
		}
	}
	filled = []string{""}
	for _, values := range lists {
		var next []string
		for _, head := range filled {
			for _, v := range values {
				if len(head)+len(v) <= protocol.MaxTag {
					next = append(next, head+v)
				}
			}
		}
		filled = next
	}
	return filled, true
}

// without are the items that another list has not.
func without(list, others []string) (rest []string) {
	had := make(map[string]bool, len(others))
	for _, item := range others {
		had[item] = true
	}
	for _, item := range list {
		if !had[item] {
			rest = append(rest, item)
		}
	}
	return rest
}

// isPath reports whether text names a field: letters, digits, _ and - with dots between.
func isPath(text string) bool {
	for name := range strings.SplitSeq(text, ".") {
		if name == "" || strings.ContainsFunc(name, func(r rune) bool { return !isNameRune(r) }) {
			return false
		}
	}
	return true
}

func isNameRune(r rune) bool {
	return r == '_' || r == '-' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= 0x80
}
