package policy

import (
	"net/url"
	"time"

	"github.com/goccy/go-yaml/ast"

	"gerastic/internal/core/httprules"
)

// Outside is what a policy relies on that it does not say itself.
type Outside struct {
	// Lookup gives the values of ${VAR}.
	Lookup func(name string) (string, bool)
	// Origin is the one of a policy that names none; nil: a policy must.
	Origin *url.URL
	// Secret gives what stands in a file of secrets; nil: they are not looked at.
	Secret func(name string) (string, error)
	// Keys opens what verifies signed tokens; nil: they are not looked at.
	Keys KeyOpener
	// Development: browsers ask each time, so that engineers see what they have just changed.
	Development bool
	// Elsewhere: its origin may be named elsewhere, so that none is missed.
	Elsewhere bool
}

// mostOnward is how many caches and services beyond a policy tells of purges.
const mostOnward = 20

// Parse reads, checks and compiles a policy. name is what problems call the file. The error, if any,
// is a Problems.
func (o Outside) Parse(name string, source []byte) (*Policy, error) {
	d := o.document(name)
	p := &Policy{Enabled: true}
	if root := d.root(source); root != nil {
		d.policy(root, p)
	}
	if len(d.problems) > 0 {
		return nil, d.problems
	}
	p.Warnings, p.matcher = d.warnings, newMatcher(p.Routes)
	return p, nil
}

func (o Outside) document(name string) *document {
	return &document{file: name, outside: o, warmed: map[*Warm][]ast.Node{}}
}

func (d *document) policy(root ast.Node, p *Policy) {
	version := 0
	var marks []Mark
	var origins, routes, writes, onward []ast.Node
	var shapes ast.Node
	d.shared.shapes, d.shared.from = map[string]*shape{}, map[*ast.MappingValueNode]string{}
	ast.Walk(anchors{d}, root)
	d.mapping(root, "the policy",
		field{name: "version", read: func(n ast.Node) { d.integer(n, "version", 1, &version) }},
		field{name: "enabled", read: func(n ast.Node) { d.boolean(n, "enabled", &p.Enabled) }},
		field{name: "origins", read: func(n ast.Node) {
			d.list(n, "origins", func(n ast.Node) { p.Origins, origins = append(p.Origins, d.origin(n)), append(origins, n) })
		}},
		field{name: "routes", read: func(n ast.Node) {
			d.list(n, "routes", func(n ast.Node) { routes = append(routes, n) })
		}},
		field{name: "defaults", read: d.readDefaults},
		field{name: "shapes", read: func(n ast.Node) { shapes = n }},
		field{name: "writes", read: func(n ast.Node) {
			d.list(n, "writes", func(n ast.Node) {
				p.Writes, writes = append(p.Writes, d.write(n, len(p.Writes)+1)), append(writes, n)
			})
		}},
		field{name: "onward", read: func(n ast.Node) {
			d.list(n, "onward", func(n ast.Node) { p.Onward, onward = append(p.Onward, d.onward(n)), append(onward, n) })
			if len(onward) > mostOnward {
				d.fail(onward[mostOnward], "a policy tells %d caches and services beyond of purges at most", mostOnward)
			}
		}},
		field{name: "visitors", read: func(n ast.Node) { marks = d.visitors(n) }},
		field{name: "changes", read: func(n ast.Node) { d.changes(n, &p.Changes) }},
	)
	if shapes != nil {
		d.readShapes(shapes)
	}
	for i, n := range routes { // wherever shapes and defaults stand in the file
		route := d.route(n)
		route.Index = i
		p.Routes = append(p.Routes, route)
	}
	d.readUnused(len(routes))
	if version == 0 && len(d.problems) == 0 {
		d.fail(root, "the version is missing; begin with version: 1")
	}
	d.originElsewhere(root, p, origins)
	for i, route := range p.Routes { // wherever visitors stands in the file
		if d.outside.Development {
			route.Browser = &httprules.BrowserLives{}
		}
		route.Marks, route.TermsDigest = marks, termsName(route, p.Origins)
		d.warnOfVisitors(routes[i], route)
		d.checkWarm(routes[i], route, p.Origins)
	}
	unique(d, "origin", origins, p.Origins, func(o *Origin) string { return o.Name })
	unique(d, "write", writes, p.Writes, func(w *Write) string { return w.Name })
	unique(d, "onward target", onward, p.Onward, func(o *Onward) string { return o.Name })
	unique(d, "route", routes, p.Routes, func(r *Route) string { return r.Name })
}

// originElsewhere takes the origin of a policy that names none from outside.
func (d *document) originElsewhere(root ast.Node, p *Policy, origins []ast.Node) {
	switch {
	case len(d.problems) > 0:
	case len(p.Origins) == 0 && d.outside.Elsewhere:
	case len(p.Origins) == 0 && d.outside.Origin == nil:
		d.fail(root, "there is no origin; name at least one under origins:, or start the node with --origin URL")
	case len(p.Origins) == 0:
		o := plainOrigin()
		o.Name, o.URLs = "origin", []*url.URL{d.outside.Origin}
		p.Origins = []*Origin{o}
	case d.outside.Origin != nil:
		d.fail(origins[0], "the policy names its origins, and the node was started with --origin %s; start it without --origin, or leave origins out", d.outside.Origin)
	}
}

// anchors notes all that are in the file: routes are read after the rest.
type anchors struct{ d *document }

// Visit implements ast.Visitor.
func (a anchors) Visit(n ast.Node) ast.Visitor {
	if v, ok := n.(*ast.AnchorNode); ok {
		a.d.resolve(v)
	}
	return a
}

// unique says which have a name that one before has; nodes are where they stand.
func unique[T any](d *document, what string, nodes []ast.Node, all []T, name func(T) string) {
	seen := map[string]int{}
	for i, v := range all {
		n := name(v)
		if first, twice := seen[n]; n != "" && twice {
			d.fail(nodes[i], "two %ss are named %q, this one and that in line %d; names must differ", what, n, d.at(nodes[first], "").Line)
		} else {
			seen[n] = i
		}
	}
}

func (d *document) name(n ast.Node, where string) string {
	s, ok := d.text(n, where)
	if !ok {
		return ""
	}
	for i := range len(s) {
		if c := s[i]; c != '-' && c != '.' && !isName(s[i:i+1]) {
			d.fail(n, "%s %q: a name has letters, digits, -, _ and .", where, s)
			return ""
		}
	}
	if len(s) > 64 || s == "" {
		d.fail(n, "%s must have 1 to 64 characters", where)
		return ""
	}
	return s
}

func (d *document) hosts(n ast.Node, where string) (hosts []HostPattern) {
	d.strings(n, where, func(n ast.Node, s string) {
		h, err := parseHost(s)
		if err != nil {
			d.fail(n, "%s: %v", where, err)
			return
		}
		hosts = append(hosts, h)
	})
	return hosts
}

func (d *document) duration(n ast.Node, where string, into *time.Duration) {
	s, ok := d.text(n, where)
	if !ok {
		return
	}
	t, err := ParseDuration(s)
	if err != nil {
		d.fail(n, "%s: %v", where, err)
		return
	}
	*into = t
}

// size reads a number of bytes.
func (d *document) size(n ast.Node, where string, into *int64) {
	s, ok := d.text(n, where)
	if !ok {
		return
	}
	size, err := ParseSize(s)
	if err != nil {
		d.fail(n, "%s: %v", where, err)
		return
	}
	*into = size
}
