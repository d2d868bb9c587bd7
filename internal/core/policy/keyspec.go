package policy

import (
	"fmt"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
)

func (d *document) key(n ast.Node, route *Route) {
	spec := &route.Key
	d.mapping(n, "key",
		field{name: "query", read: func(n ast.Node) { d.query(n, &spec.Query) }},
		field{name: "headers", read: func(n ast.Node) {
			d.strings(n, "key.headers", func(n ast.Node, s string) {
				switch name := httprules.CanonicalName(s); {
				case !httprules.IsToken(s):
					d.fail(n, "key.headers: %q is not a header name", s)
				case name == protocol.GroupField:
					d.fail(n, "key.headers: %s is set here, for the visitor; write key.group", name)
				case name == "Cookie" || name == "Authorization":
					d.fail(n, "key.headers: %s would make an entry for each visitor; name single cookies under key.cookies", name)
				default:
					spec.Headers = append(spec.Headers, name)
				}
			})
		}},
		field{name: "cookies", read: func(n ast.Node) {
			d.strings(n, "key.cookies", func(n ast.Node, s string) {
				if !httprules.IsToken(s) {
					d.fail(n, "key.cookies: %q is not a cookie name", s)
					return
				}
				spec.Cookies = append(spec.Cookies, s)
			})
		}},
		field{name: "identity", read: func(n ast.Node) { d.identity(n, &spec.Identity) }},
		field{name: "group", read: func(n ast.Node) { d.group(n, route) }},
		field{name: "body", read: func(n ast.Node) { d.keyBody(n, spec) }},
	)
}

func (d *document) identity(n ast.Node, id *key.Identity) {
	if _, isMap := n.(ast.MapNode); isMap {
		required := false
		d.mapping(n, "key.identity",
			field{name: "from", read: func(n ast.Node) { d.identity(n, id) }},
			field{name: "required", read: func(n ast.Node) { d.boolean(n, "key.identity.required", &required) }},
		)
		if id.From == 0 {
			d.fail(n, "key.identity needs to know where from: { from: \"cookie:session\", required: true }")
		}
		id.Required = required
		return
	}
	s, ok := d.text(n, "key.identity")
	if !ok {
		return
	}
	kind, name, _ := strings.Cut(s, ":")
	switch {
	case s == "none":
	case s == "authorization":
		*id = key.Identity{From: key.Field, Name: "Authorization"}
	case kind == "header" && httprules.IsToken(name):
		*id = key.Identity{From: key.Field, Name: httprules.CanonicalName(name)}
	case kind == "cookie" && httprules.IsToken(name):
		*id = key.Identity{From: key.Cookie, Name: name}
	default:
		d.fail(n, "key.identity cannot be %q; write none, authorization, header:NAME or cookie:NAME", s)
	}
}

func (d *document) query(n ast.Node, q *key.Query) {
	if _, isMap := n.(ast.MapNode); !isMap {
		switch d.choice(n, "key.query", "all", "none") {
		case 0:
			q.Mode = key.All // as it came: nobody said that two orders mean the same
		case 1:
			q.Mode = key.None
		}
		return
	}
	modes, ordered := 0, false
	var defaults ast.Node
	names := func(mode key.QueryMode, where string) func(ast.Node) {
		return func(n ast.Node) {
			modes++
			q.Mode = mode
			d.strings(n, where, func(n ast.Node, s string) {
				if strings.Count(s, "*") > 1 || s == "" {
					d.fail(n, "%s: %q must be a parameter's name with at most one *", where, s)
					return
				}
				q.Names = append(q.Names, key.Pattern(s))
			})
		}
	}
	d.mapping(n, "key.query",
		field{name: "only", read: names(key.Only, "key.query.only")},
		field{name: "except", read: names(key.Except, "key.query.except")},
		field{name: "default", read: func(n ast.Node) { defaults = n }},
		field{name: "order", read: func(n ast.Node) {
			ordered = true
			q.Sorted = d.choice(n, "key.query.order", "sorted", "keep") == 0
		}},
	)
	if !ordered {
		q.Sorted = q.Mode == key.Only || q.Mode == key.Except
	}
	if modes > 1 {
		d.fail(n, "key.query takes either only or except, not both")
	}
	if defaults != nil {
		d.queryDefaults(defaults, q)
	}
}

func (d *document) queryDefaults(n ast.Node, q *key.Query) {
	m, ok := d.resolve(n).(ast.MapNode)
	if !ok {
		d.fail(n, "key.query.default maps parameters to the values that they have when they are left out: { page: 1 }")
		return
	}
	q.Defaults = map[string]string{}
	for it := m.MapRange(); it.Next(); {
		name := fmt.Sprint(keyText(it.Key()))
		value, isText := d.text(d.resolve(it.Value()), "key.query.default."+name)
		switch _, twice := q.Defaults[name]; {
		case !isText:
		case twice:
			d.fail(it.Key(), "key.query.default: %s stands twice; keep one", name)
		case strings.Contains(name, "*"):
			d.fail(it.Key(), "key.query.default: %q is no parameter's name; a default is for one parameter", name)
		case !q.Holds(name):
			d.fail(it.Key(), "key.query.default: %s is not in the key, so that it needs no default; add it to key.query.only, or take it out here", name)
		default:
			q.Defaults[name] = value
		}
	}
}
