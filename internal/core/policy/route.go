package policy

import (
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
)

func (d *document) route(n ast.Node) *Route {
	route := &Route{
		Enabled: true, Hosts: []HostPattern{"*"}, Methods: []string{"GET", "HEAD"},
		Terms: httprules.NoTerms(), Idle: httprules.Unset, MaxBody: DefaultMaxBody, Admit: Admission{Within: DefaultAdmitWithin}, Obey: ObeyRevalidate,
	}
	before := len(d.problems)
	whole := d.inherited(n)
	d.whole = append(d.whole, whole)
	d.settings(whole, route)
	if len(d.problems) == before {
		if route.Name == "" {
			d.fail(n, "the route has no name")
		}
		if len(route.Path) == 0 {
			d.fail(n, "the route matches nothing; write match: { path: /… }")
		}
	}
	if route.Key.Body == key.NoBody && (slices.Contains(route.Methods, "POST") || slices.Contains(route.Methods, "QUERY")) {
		d.fail(n, "answers to POST and QUERY depend on the request's body, so that the key must hold it; add key: { body: bytes }, json or graphql")
	}
	if route.Group != nil && route.Key.Identity.From != 0 {
		d.fail(n, "key.identity makes entries of each visitor's own, so that key.group would change nothing; keep one of them")
	}
	d.checkAsks(n, route)
	route.KeyName, route.Within = keyName(route), meter.IncludeRoute(route.Name)
	return route
}

// settings reads a route's settings.
func (d *document) settings(n ast.Node, route *Route) {
	var templates []ast.Node
	compared := false
	d.mapping(n, "a route",
		field{name: "name", read: func(n ast.Node) { route.Name = d.name(n, "a route's name") }},
		field{name: "match", read: func(n ast.Node) { d.match(n, route) }},
		field{name: "key", read: func(n ast.Node) { d.key(n, route) }},
		field{name: "lifetime", read: func(n ast.Node) { d.lifetime(n, route) }},
		field{name: "tags", read: func(n ast.Node) {
			d.strings(n, "tags", func(n ast.Node, _ string) { templates = append(templates, n) })
		}},
		field{name: "admit", read: func(n ast.Node) { d.admit(n, route) }},
		field{name: "obey_visitor", read: func(n ast.Node) {
			if i := d.choice(n, "obey_visitor", "none", "revalidate", "all"); i >= 0 {
				route.Obey = ObeyVisitor(i)
			}
		}},
		field{name: "timeout", read: func(n ast.Node) {
			d.mapping(n, "a route's timeout",
				field{name: "answer", read: func(n ast.Node) { d.positive(n, "timeout.answer", &route.Answer) }},
				renamed("first_byte", "answer"),
			)
		}},
		field{name: "origin_also_gets", read: func(n ast.Node) { d.alsoGets(n, route) }},
		field{name: "signed_in", read: func(n ast.Node) { route.Shared = d.choice(n, "signed_in", "pass", "shared") == 1 }},
		field{name: "upgrade", read: func(n ast.Node) { d.boolean(n, "upgrade", &route.Upgrade) }},
		field{name: "compare", read: func(n ast.Node) { compared = true; d.compare(n, &route.Compare) }},
		field{name: "releases", read: func(n ast.Node) { route.Release = d.release(n) }},
		field{name: "validators", read: func(n ast.Node) { route.Untagged = d.choice(n, "validators", "made", "origin") == 1 }},
		field{name: "compose", read: func(n ast.Node) { d.boolean(n, "compose", &route.Compose) }},
		field{name: "compress", read: func(n ast.Node) {
			if i := d.choice(n, "compress", "on_demand", "at_store", "off", "all"); i >= 0 {
				route.Compress = Compression(i)
			}
		}},
		field{name: "keep_warm", read: func(n ast.Node) { d.keepWarm(n, route) }},
		field{name: "enabled", read: func(n ast.Node) { d.boolean(n, "enabled", &route.Enabled) }},
	)
	if route.Terms.States() && !compared {
		route.Compare = defaultCompare
	}
	for i := 0; len(route.Path) > 0 && i < len(templates); i++ { // after match and key, whatever the order in the file
		d.tag(templates[i], route)
	}
}

func keyName(route *Route) string {
	digest := fnv.New32a()
	fmt.Fprintln(digest, route.Terms.Trust, route.Terms.States(), route.AlsoFields, route.AlsoCookies) // what the origin was asked with
	if route.Compose {
		fmt.Fprintln(digest, "compose")
	}
	for _, t := range route.Tags {
		fmt.Fprintln(digest, t.String())
	}
	if !route.Key.Members.All() {
		fmt.Fprintln(digest, route.Key.Members)
	}
	if route.Group != nil {
		fmt.Fprintln(digest, route.Group.id)
	}
	if len(route.Key.Query.Defaults) > 0 { // tags may be made of them
		fmt.Fprintln(digest, route.Key.Query.Defaults)
	}
	return fmt.Sprintf("%s@%08x", route.Name, digest.Sum32())
}

// termsName digests what answers are judged by when they are stored, besides what the key's
// name digests.
func termsName(route *Route, origins []*Origin) string {
	digest := fnv.New64a()
	fmt.Fprintf(digest, "%+v %v %v\n", route.Terms, route.Idle, route.MaxBody)
	if route.Untagged {
		fmt.Fprintln(digest, "untagged")
	}
	if route.Browser != nil {
		fmt.Fprintf(digest, "%+v\n", *route.Browser)
	}
	for _, o := range origins {
		if o.TagHeader != "" {
			fmt.Fprintf(digest, "%q %q %q\n", o.Name, o.TagHeader, o.TagSeparator)
		}
	}
	return fmt.Sprintf("%016x", digest.Sum64())
}

func (d *document) match(n ast.Node, route *Route) {
	d.mapping(n, "match",
		field{name: "hosts", read: func(n ast.Node) { route.Hosts = d.hosts(n, "match.hosts") }},
		field{name: "methods", read: func(n ast.Node) {
			route.Methods = nil
			d.strings(n, "match.methods", func(n ast.Node, s string) {
				switch s {
				case "GET", "HEAD", "POST", "QUERY":
					route.Methods = append(route.Methods, s)
				default:
					d.fail(n, "answers to %s cannot be cached; a route caches GET, HEAD, and with key.body POST and QUERY", s)
				}
			})
		}},
		field{name: "path", read: func(n ast.Node) { route.Path = d.paths(n) }},
		field{name: "operation", read: func(n ast.Node) { d.operations(n, route) }},
		field{name: "body", read: func(n ast.Node) { d.members(n, route) }},
	)
}

// release reads header:NAME.
func (d *document) release(n ast.Node) string {
	text, ok := d.text(n, "releases")
	kind, name, _ := strings.Cut(text, ":")
	if ok && (kind != "header" || !httprules.IsToken(name)) {
		d.fail(n, "releases cannot be %q; write header:NAME, the field of answers that names the release", text)
	}
	return httprules.CanonicalName(name)
}

// paths reads one path, or a list.
func (d *document) paths(n ast.Node) (paths Paths) {
	d.strings(n, "match.path", func(n ast.Node, s string) {
		p, err := parsePath(s)
		switch {
		case err != nil:
			d.fail(n, "match.path: %v", err)
		case len(paths) == maxPaths:
			d.fail(n, "match.path: a route has at most %d paths", maxPaths)
		case paths.has(s):
			d.fail(n, "match.path: %s stands twice; keep one", s)
		}
		paths = append(paths, p)
	})
	return paths
}

// tag compiles a template and refuses one that reads what the key does not hold: all
// who share an entry must agree on its tags.
func (d *document) tag(n ast.Node, route *Route) {
	text, _ := d.text(n, "tags")
	t, err := parseMessageTag(text, route.Path.Names(), "body")
	if err != nil {
		d.fail(n, "tags: %v", err)
		return
	}
	if placeholder, list, name, outside := t.outsideKey(&route.Key); outside {
		d.fail(n, "tags: {%s} is not in the key, so that visitors who share an entry could disagree on its tag; add %s to key.%s", placeholder, name, list)
		return
	}
	route.Tags = append(route.Tags, t)
	route.Key.Reads = route.Key.Reads || slices.ContainsFunc(t.parts, func(p tagPart) bool { return p.from == fromBody })
}
