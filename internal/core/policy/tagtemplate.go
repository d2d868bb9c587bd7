package policy

import (
	"fmt"
	"slices"
	"strings"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/changes"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
)

// TagTemplate is a tag with places to fill from the request: "port:{port}".
type TagTemplate struct {
	text  string
	parts []tagPart
}

// tagPart is literal text, or a placeholder.
type tagPart struct {
	literal string
	from    source
	name    string
}

// source is where the value of a placeholder comes from.
type source uint8

const (
	literally source = iota
	fromPath
	fromHost
	fromQuery
	fromHeader
	fromCookie
	fromBody   // of the request, in writes
	fromAnswer // its body, in writes
)

// sources are the names of those that a placeholder names before a colon, and of the part of the key
// that holds them.
var sources = map[string]struct {
	from source
	key  string
}{"query": {fromQuery, "query"}, "header": {fromHeader, "headers"}, "cookie": {fromCookie, "cookies"}}

// parseTagTemplate reads a tag template. pathNames are the names that the route's path
// gives values to; a template that uses another is an error.
func parseTagTemplate(text string, pathNames []string) (TagTemplate, error) {
	t := TagTemplate{text: text}
	err := changes.Placeholders(text, func(literal string) {
		t.parts = append(t.parts, tagPart{literal: literal})
	}, func(placeholder string) error {
		p, err := parsePlaceholder(placeholder, pathNames)
		t.parts = append(t.parts, p)
		return err
	})
	return t, err
}

func parsePlaceholder(placeholder string, pathNames []string) (tagPart, error) {
	kind, name, named := strings.Cut(placeholder, ":")
	known, isSource := sources[kind]
	switch {
	case slices.Contains(pathNames, placeholder):
		return tagPart{from: fromPath, name: placeholder}, nil
	case placeholder == "host":
		return tagPart{from: fromHost}, nil
	case named && isSource && name != "" && (known.from != fromHeader || httprules.IsToken(name)):
		if known.from == fromHeader {
			name = httprules.CanonicalName(name)
		}
		return tagPart{from: known.from, name: name}, nil
	}
	if now := renamedPlaceholder(placeholder); now != "" {
		return tagPart{}, fmt.Errorf("{%s} is written {%s} by now", placeholder, now)
	}
	if !named && !isSource && httprules.IsToken(placeholder) {
		return tagPart{}, fmt.Errorf("{%s}: the route's path has no {%s}", placeholder, placeholder)
	}
	return tagPart{}, fmt.Errorf("{%s} is not a placeholder; write {NAME} for a value of the path, {query:NAME}, {header:NAME}, {cookie:NAME} or {host}", placeholder)
}

// renamedPlaceholder is how a placeholder is written that was written with a dot before; "" if it was not.
func renamedPlaceholder(placeholder string) string {
	kind, name, dotted := strings.Cut(placeholder, ".")
	if !dotted || name == "" {
		return ""
	}
	if kind == "path" {
		return name
	}
	if _, isSource := sources[kind]; isSource {
		return kind + ":" + name
	}
	return ""
}

// String returns the template as written.
func (t TagTemplate) String() string { return t.text }

// outsideKey finds a placeholder whose value a key does not hold: a tag may only be made of what
// all who share an entry agree on. ok is false if there is none.
func (t TagTemplate) outsideKey(spec *key.Spec) (placeholder, list, name string, ok bool) {
	for _, p := range t.parts {
		held := true
		kind := ""
		switch p.from {
		case fromQuery:
			kind, held = "query", spec.Query.Holds(p.name)
		case fromHeader:
			kind, held = "header", slices.Contains(spec.Headers, p.name)
		case fromCookie:
			kind, held = "cookie", slices.Contains(spec.Cookies, p.name)
		}
		if !held {
			return kind + ":" + p.name, sources[kind].key, p.name, true
		}
	}
	return "", "", "", false
}

// Tag fills the template. ok is false when the request lacks one of its values: such
// an entry does not carry the tag.
func (t TagTemplate) Tag(r *key.Request, query *key.Query, pathValue func(name string) string) (tag string, ok bool) {
	if len(t.parts) == 1 && t.parts[0].from == literally {
		return t.text, true
	}
	var b strings.Builder
	for _, p := range t.parts {
		value, present := p.value(r, query, pathValue)
		if !present || value == "" {
			return "", false
		}
		b.WriteString(protocol.Textual(value))
	}
	if b.Len() > protocol.MaxTag {
		return "", false
	}
	return b.String(), true
}

// value is what stands for the part in a request's tag.
func (p *tagPart) value(r *key.Request, query *key.Query, pathValue func(name string) string) (value string, present bool) {
	switch p.from {
	case fromHost:
		return r.Host, true
	case fromPath:
		return pathValue(p.name), true
	case fromQuery:
		return query.Value(r.Query, p.name)
	case fromHeader:
		return r.Header.Joined(p.name), r.Header.Has(p.name)
	case fromCookie:
		return key.CookieValue(r.Header, p.name)
	}
	return p.literal, true
}
