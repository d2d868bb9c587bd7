package changes

import (
	"fmt"
	"strings"
)

// Template is a tag with places for field values: "port:{from_port}".
type Template struct {
	text  string
	parts []part
}

// part is literal text, or a place when field is set.
type part struct{ literal, field string }

// ParseTemplate reads a tag template.
func ParseTemplate(text string) (Template, error) {
	t := Template{text: text}
	for rest := text; rest != ""; {
		literal, after, open := strings.Cut(rest, "{")
		if literal != "" {
			t.parts = append(t.parts, part{literal: literal})
		}
		if !open {
			break
		}
		field, after, closed := strings.Cut(after, "}")
		if !closed {
			return t, fmt.Errorf("the { in %q is not closed", text)
		}
		if !isPath(field) {
			return t, fmt.Errorf("in %q: {%s} is no field; write {id} or {vessel.name}. Old and new values are taken alike", text, field)
		}
		t.parts = append(t.parts, part{field: field})
		rest = after
	}
	if len(t.parts) == 0 {
		return t, fmt.Errorf("a tag needs at least one character")
	}
	return t, nil
}

// String is the template as written.
func (t Template) String() string { return t.text }

// Tags fills the template: with one tag, none when a value is missing, or several when
// a value is a list.
func (t Template) Tags(f Fields) []string {
	tags := []string{""}
	for _, p := range t.parts {
		values := []string{p.literal}
		if p.field != "" {
			values = f.Texts(p.field)
		}
		var next []string
		for _, head := range tags {
			for _, v := range values {
				next = append(next, head+v)
			}
		}
		tags = next
	}
	return tags
}

// isPath tells whether text names a field: letters, digits, _ and - with dots between.
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
