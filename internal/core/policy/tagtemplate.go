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
}{"query": {fromQuery, "query"}, "header": {fromHeader, "headers"}, "cookie": {fromCookie, "cookies"}, "body": {fromBody, "body"}}

// parseMessageTag reads a tag template, which may be filled from messages of these names, too: body and
// answer. pathNames are the names that the path gives values to; a template that uses another is an
// error.
func parseMessageTag(text string, pathNames []string, messages ...string) (TagTemplate, error) {
	t := TagTemplate{text: text}
	err := changes.Placeholders(text, func(literal string) {
		t.parts = append(t.parts, tagPart{literal: literal})
	}, func(placeholder string) error {
		kind, name, named := strings.Cut(placeholder, ":")
		isMessage := slices.Contains(messages, kind) && (named || !slices.Contains(pathNames, placeholder))
		if isMessage && badPath(name) {
			return fmt.Errorf("{%s} does not say which member; write {%s:NAME}, or {%s:NAME.NAME}", placeholder, kind, kind)
		}
		p, err := tagPart{from: map[string]source{"body": fromBody, "answer": fromAnswer}[kind], name: name}, error(nil)
		if !isMessage {
			if p, err = parsePlaceholder(placeholder, pathNames); err != nil {
				err = fmt.Errorf("%w; {%s:NAME} is of a body", err, strings.Join(messages, ":NAME} or {"))
			}
		}
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
	case named && isSource && known.from != fromBody && name != "" && (known.from != fromHeader || httprules.IsToken(name)):
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
		case fromBody:
			kind, held = "body", (spec.Body == key.JSON || spec.Body == key.GraphQL) && spec.Members.Holds(p.name)
		}
		if !held {
			return kind + ":" + p.name, sources[kind].key, p.name, true
		}
	}
	return "", "", "", false
}

// filling is what a template is filled from.
type filling struct {
	request      *key.Request
	query        *key.Query
	paths        Paths
	body, answer *Message // nil: not known
}

// mostFilled is how many tags one template gives at most.
const mostFilled = 1000

// fill fills the template with each value of its places; with none if a value is missing. Where one is
// not known, or there are too many, begins is what stands before it.
func (t *TagTemplate) fill(f *filling) (filled, begins []string) {
	if len(t.parts) == 1 && t.parts[0].from == literally {
		return []string{t.text}, nil
	}
	filled = []string{""}
	for i := range t.parts {
		values, known := t.parts[i].values(f)
		if !known || len(filled)*len(values) > mostFilled {
			return nil, filled
		}
		var longer []string
		for _, before := range filled {
			for _, value := range values {
				longer = append(longer, before+protocol.Textual(value))
			}
		}
		filled = longer
	}
	return slices.DeleteFunc(filled, func(tag string) bool { return len(tag) > protocol.MaxTag || tag == "" }), nil
}

// values are what stands for the part; known is false if that cannot be told.
func (p *tagPart) values(f *filling) (values []string, known bool) {
	switch p.from {
	case literally:
		return []string{p.literal}, true
	case fromBody:
		return f.body.Values(p.name)
	case fromAnswer:
		return f.answer.Values(p.name)
	}
	if value, present := p.value(f); present && value != "" {
		return []string{value}, true
	}
	return nil, true
}

// value is what stands for a part of the request's head or path.
func (p *tagPart) value(f *filling) (value string, present bool) {
	r := f.request
	switch p.from {
	case fromHost:
		return r.Host, true
	case fromPath:
		return f.paths.Value(r.Path, p.name), true
	case fromQuery:
		return f.query.Value(r.Query, p.name)
	case fromHeader:
		return r.Header.Joined(p.name), r.Header.Has(p.name)
	default:
		return key.CookieValue(r.Header, p.name)
	}
}
