package policy

import (
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/tags"
)

// Write says what requests that change content purge.
type Write struct {
	Name    string
	Hosts   []HostPattern
	Methods []string
	Path    Paths
	Mode    tags.Mode
	tags    []TagTemplate
}

// mostWriteTags is how many tags one write purges at most.
const mostWriteTags = 1000

// unsafeMethods are those of a write that names none.
var unsafeMethods = []string{"POST", "PUT", "PATCH", "DELETE"}

func (d *document) write(n ast.Node, place int) *Write {
	w := &Write{Name: strconv.Itoa(place), Hosts: []HostPattern{"*"}, Methods: unsafeMethods}
	before := len(d.problems)
	var templates []ast.Node
	d.mapping(n, "a write",
		field{name: "name", read: func(n ast.Node) { w.Name = d.name(n, "a write's name") }},
		field{name: "match", read: func(n ast.Node) { d.matchWrite(n, w) }},
		field{name: "tags", read: func(n ast.Node) {
			d.strings(n, "tags", func(n ast.Node, _ string) { templates = append(templates, n) })
		}},
		field{name: "mode", read: func(n ast.Node) {
			if d.choice(n, "mode", "drop", "stale") == 1 {
				w.Mode = tags.Soften
			}
		}},
	)
	if len(d.problems) > before {
		return w
	}
	switch {
	case len(w.Path) == 0:
		d.fail(n, "the write matches nothing; write match: { path: /… }")
	case len(templates) == 0:
		d.fail(n, "the write purges nothing; name tags: [\"person:{id}\"]")
	}
	for _, n := range templates {
		text, _ := d.text(n, "tags")
		t, err := parseMessageTag(text, w.Path.Names(), "body", "answer")
		if err != nil {
			d.fail(n, "tags: %v", err)
			continue
		}
		w.tags = append(w.tags, t)
	}
	return w
}

func (d *document) matchWrite(n ast.Node, w *Write) {
	d.mapping(n, "match",
		field{name: "hosts", read: func(n ast.Node) { w.Hosts = d.hosts(n, "match.hosts") }},
		field{name: "methods", read: func(n ast.Node) {
			w.Methods = nil
			d.strings(n, "match.methods", func(n ast.Node, s string) {
				if method := strings.ToUpper(s); httprules.IsToken(s) && httprules.Unsafe(method) {
					w.Methods = append(w.Methods, method)
				} else {
					d.fail(n, "match.methods: %s changes nothing (RFC 9110 §9.2.1); a write is POST, PUT, PATCH or DELETE", s)
				}
			})
		}},
		field{name: "path", read: func(n ast.Node) { w.Path = d.paths(n) }},
	)
}

// WritesOf are those that a request matches, all that do.
func (p *Policy) WritesOf(method, host, path string) (all []*Write) {
	if len(p.Writes) == 0 || key.Climbs(path) {
		return nil
	}
	for _, w := range p.Writes {
		if slices.Contains(w.Methods, method) && anyHost(w.Hosts, host) && w.Path.Match(path) {
			all = append(all, w)
		}
	}
	return all
}

// Reads reports whether a write's tags are made of the request's body, and of the answer's.
func (w *Write) Reads() (body, answer bool) {
	for _, t := range w.tags {
		for _, p := range t.parts {
			body, answer = body || p.from == fromBody, answer || p.from == fromAnswer
		}
	}
	return body, answer
}

// Purge is what a write purges: tags, and how tags begin of which the rest is not known. It names
// nothing if all its values are missing.
func (w *Write) Purge(r *key.Request, body, answer *Message) tags.Purge {
	p := tags.Purge{Mode: w.Mode}
	f := &filling{request: r, query: &key.Query{}, paths: w.Path, body: body, answer: answer}
	for i := range w.tags {
		filled, begins := w.tags[i].fill(f)
		p.Tags, p.Begins = append(p.Tags, filled...), append(p.Begins, begins...)
	}
	p.Tags = slices.Compact(slices.Sorted(slices.Values(p.Tags)))
	p.Begins = slices.Compact(slices.Sorted(slices.Values(p.Begins)))
	if len(p.Tags) > mostWriteTags { // what is too much to name is all that may be meant
		p.Tags, p.Begins = nil, []string{""}
	}
	return p
}
