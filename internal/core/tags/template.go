package tags

import (
	"fmt"
	"strings"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
)

// Template is a tag with places to fill from the request: "port:{path.port}".
type Template struct {
	text  string
	parts []part
}

// part is literal text, or a place when source is set.
type part struct {
	literal      string
	source, name string
}

// ParseTemplate reads a tag template. pathNames are the names that the route's path
// gives values to; a template that uses another is an error.
func ParseTemplate(text string, pathNames []string) (Template, error) {
	t := Template{text: text}
	err := Split(text, func(literal string) {
		t.parts = append(t.parts, part{literal: literal})
	}, func(place string) error {
		p, err := parsePlace(place, pathNames)
		t.parts = append(t.parts, p)
		return err
	})
	return t, err
}

// Split calls back for the literals and the {places} of a tag template, in their order.
func Split(text string, literal func(string), place func(string) error) error {
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
		if err := place(name); err != nil {
			return fmt.Errorf("in %q: %w", text, err)
		}
		rest = after
	}
	return nil
}

func parsePlace(place string, pathNames []string) (part, error) {
	if place == "host" {
		return part{source: "host"}, nil
	}
	source, name, _ := strings.Cut(place, ".")
	switch source {
	case "path":
		for _, known := range pathNames {
			if name == known {
				return part{source: source, name: name}, nil
			}
		}
		return part{}, fmt.Errorf("{%s}: the route's path has no {%s}", place, name)
	case "query", "cookie":
		if name != "" {
			return part{source: source, name: name}, nil
		}
	case "header":
		if httprules.IsToken(name) {
			return part{source: source, name: httprules.CanonicalName(name)}, nil
		}
	}
	return part{}, fmt.Errorf("{%s}: a place is {path.NAME}, {query.NAME}, {header.NAME}, {cookie.NAME} or {host}", place)
}

// String is the template as written.
func (t Template) String() string { return t.text }

// Reads lists what the template takes from the request besides path and host, as
// "query.page": a tag may only be made of what the key holds.
func (t Template) Reads() []string {
	var reads []string
	for _, p := range t.parts {
		if p.source != "" && p.source != "host" && p.source != "path" {
			reads = append(reads, p.source+"."+p.name)
		}
	}
	return reads
}

// Tag fills the template. ok is false when the request lacks one of its values: such
// an entry does not carry the tag.
func (t Template) Tag(r *key.Request, pathValue func(name string) string) (tag string, ok bool) {
	if len(t.parts) == 1 && t.parts[0].source == "" {
		return t.text, true
	}
	var b strings.Builder
	for _, p := range t.parts {
		var value string
		present := true
		switch p.source {
		case "":
			value = p.literal
		case "host":
			value = r.Host
		case "path":
			value = pathValue(p.name)
		case "query":
			value, present = key.Param(r.Query, p.name)
		case "header":
			value, present = r.Header.Joined(p.name), r.Header.Has(p.name)
		case "cookie":
			value, present = key.CookieValue(r.Header, p.name)
		}
		if !present || value == "" {
			return "", false
		}
		b.WriteString(httprules.Textual(value))
	}
	if b.Len() > httprules.MaxGroupLength {
		return "", false
	}
	return b.String(), true
}
