package policy

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"gerastic/internal/core/key"
)

// Asks are what a request must ask for a route to match, beside its place: all of it.
type Asks struct {
	Operations []key.Pattern // names of a GraphQL query, one of which; "*" is also one without a name
	Members    []MemberRule
}

// MemberRule is a member of a JSON body, by its path, and the values of which it must have one.
type MemberRule struct {
	Path   string
	Values []string
}

// Fits reports whether a question is one of those; nil is none.
func (a *Asks) Fits(q *key.Question) bool {
	if a == nil {
		return true
	}
	if q == nil || len(a.Operations) > 0 && !(q.Queries && slices.ContainsFunc(a.Operations, func(p key.Pattern) bool { return p.Match(q.Operation) })) {
		return false
	}
	content := Message{q.Content}
	return !slices.ContainsFunc(a.Members, func(m MemberRule) bool {
		values, _ := content.Values(m.Path)
		return !slices.ContainsFunc(values, func(value string) bool { return slices.Contains(m.Values, value) })
	})
}

func (d *document) operations(n ast.Node, route *Route) {
	route.Asks = asksOf(route)
	d.strings(n, "match.operation", func(n ast.Node, s string) {
		if s == "" || strings.Count(s, "*") > 1 {
			d.fail(n, "match.operation: %q must be an operation's name with at most one *", s)
			return
		}
		route.Asks.Operations = append(route.Asks.Operations, key.Pattern(s))
	})
}

func (d *document) members(n ast.Node, route *Route) {
	m, ok := d.resolve(n).(ast.MapNode)
	if !ok {
		d.fail(n, "match.body must map members to values, not be %s; write { kind: [report] }", kindOf(n))
		return
	}
	route.Asks = asksOf(route)
	for it := m.MapRange(); it.Next(); {
		rule := MemberRule{Path: fmt.Sprint(keyText(it.Key()))}
		d.strings(d.resolve(it.Value()), "match.body."+rule.Path, func(_ ast.Node, s string) { rule.Values = append(rule.Values, s) })
		if badPath(rule.Path) {
			d.fail(it.Key(), "match.body: %q is not a member's path; write kind, or filter.port", rule.Path)
			continue
		}
		route.Asks.Members = append(route.Asks.Members, rule)
	}
}

func asksOf(route *Route) *Asks {
	if route.Asks != nil {
		return route.Asks
	}
	return &Asks{}
}

func badPath(path string) bool {
	return path == "" || slices.Contains(strings.Split(path, "."), "") || strings.ContainsAny(path, "*{}")
}

// checkAsks refuses a route that tells requests apart by what its key does not hold.
func (d *document) checkAsks(n ast.Node, route *Route) {
	switch {
	case route.Asks == nil:
	case len(route.Asks.Operations) > 0 && route.Key.Body != key.GraphQL:
		d.fail(n, "match.operation is about GraphQL, so that the key must hold the question; add key: { body: graphql }")
	case len(route.Asks.Members) > 0 && route.Key.Body != key.JSON && route.Key.Body != key.GraphQL:
		d.fail(n, "match.body is about JSON, so that the key must hold it; add key: { body: json }")
	}
}

// keyBody reads how the body counts: none, bytes, json, graphql, or { json: { only: [kind] } }.
func (d *document) keyBody(n ast.Node, spec *key.Spec) {
	kinds := []string{"none", "bytes", "json", "graphql"}
	if _, isMap := n.(ast.MapNode); !isMap {
		if i := d.choice(n, "key.body", kinds...); i >= 0 {
			spec.Body = key.BodyKind(i)
		}
		return
	}
	read := func(kind key.BodyKind, where string) func(ast.Node) {
		return func(n ast.Node) {
			if spec.Body != key.NoBody {
				d.fail(n, "key.body is either json or graphql, not both")
			}
			spec.Body = kind
			paths := func(into *[][]string, where string) func(ast.Node) {
				return func(n ast.Node) {
					d.strings(n, where, func(n ast.Node, s string) {
						if badPath(s) {
							d.fail(n, "%s: %q is not a member's path; write kind, or variables.port", where, s)
							return
						}
						if first, _, _ := strings.Cut(s, "."); kind == key.GraphQL && first != "variables" && first != "extensions" {
							d.fail(n, "%s: %q: the document always counts; write variables.NAME or extensions.NAME", where, s)
							return
						}
						*into = append(*into, strings.Split(s, "."))
					})
				}
			}
			d.mapping(n, where, field{name: "only", read: paths(&spec.Members.Only, where+".only")}, field{name: "except", read: paths(&spec.Members.Except, where+".except")})
			if len(spec.Members.Only) > 0 && len(spec.Members.Except) > 0 {
				d.fail(n, "%s takes either only or except, not both", where)
			}
		}
	}
	d.mapping(n, "key.body", field{name: "json", read: read(key.JSON, "key.body.json")}, field{name: "graphql", read: read(key.GraphQL, "key.body.graphql")})
}
