package policy

import (
	"fmt"
	"hash/fnv"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
)

// Parse reads, checks and compiles a policy. name is what problems call the file;
// lookup gives the values of ${VAR}. The error, if any, is a Problems.
func Parse(name string, source []byte, lookup func(string) (string, bool)) (*Policy, error) {
	d := &document{file: name, lookup: lookup}
	p := &Policy{Enabled: true}
	if root := d.root(source); root != nil {
		d.policy(root, p)
	}
	if len(d.problems) > 0 {
		return nil, d.problems
	}
	p.Warnings = d.warnings
	return p, nil
}

func (d *document) policy(root ast.Node, p *Policy) {
	version := 0
	var marks []Mark
	var origins, routes []ast.Node
	d.mapping(root, "the policy",
		field{name: "version", read: func(n ast.Node) { d.integer(n, "version", 1, 1, &version) }},
		field{name: "enabled", read: func(n ast.Node) { d.boolean(n, "enabled", &p.Enabled) }},
		field{name: "origins", read: func(n ast.Node) {
			d.list(n, "origins", func(n ast.Node) { p.Origins, origins = append(p.Origins, d.origin(n)), append(origins, n) })
		}},
		field{name: "routes", read: func(n ast.Node) {
			d.list(n, "routes", func(n ast.Node) {
				route := d.route(n)
				route.Index = len(p.Routes)
				p.Routes, routes = append(p.Routes, route), append(routes, n)
			})
		}},
		field{name: "visitors", read: func(n ast.Node) { marks = d.visitors(n) }},
		field{name: "changes", read: func(n ast.Node) { d.changes(n, &p.Changes) }},
	)
	if version == 0 && len(d.problems) == 0 {
		d.fail(root, "the version is missing; begin with version: 1")
	}
	if len(p.Origins) == 0 && len(d.problems) == 0 {
		d.fail(root, "there is no origin; name at least one under origins:")
	}
	for i, route := range p.Routes { // wherever visitors stands in the file
		route.Marks, route.TermsDigest = marks, termsName(route, p.Origins)
		d.warnOfVisitors(routes[i], route)
	}
	unique(d, "origin", origins, p.Origins, func(o *Origin) string { return o.Name })
	unique(d, "route", routes, p.Routes, func(r *Route) string { return r.Name })
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

func (d *document) origin(n ast.Node) *Origin {
	o := &Origin{Hosts: []HostPattern{"*"}, Connect: DefaultConnect, Answer: DefaultAnswer, Total: DefaultTotal, MaxConnections: DefaultMaxConnections}
	before := len(d.problems)
	d.mapping(n, "an origin",
		field{name: "name", read: func(n ast.Node) { o.Name = d.name(n, "an origin's name") }},
		field{name: "url", read: func(n ast.Node) {
			d.strings(n, "url", func(n ast.Node, s string) {
				if u := d.originURL(n, s); u != nil {
					o.URLs = append(o.URLs, u)
				}
			})
		}},
		field{name: "hosts", read: func(n ast.Node) { o.Hosts = d.hosts(n, "hosts") }},
		field{name: "timeout", read: func(n ast.Node) {
			d.mapping(n, "timeout",
				field{name: "connect", read: func(n ast.Node) { d.positive(n, "timeout.connect", &o.Connect) }},
				field{name: "answer", read: func(n ast.Node) { d.positive(n, "timeout.answer", &o.Answer) }},
				renamed("first_byte", "answer"),
				field{name: "total", read: func(n ast.Node) { d.positive(n, "timeout.total", &o.Total) }},
			)
		}},
		field{name: "idle", read: func(n ast.Node) { d.positive(n, "idle", &o.Idle) }},
		field{name: "max_connections", read: func(n ast.Node) { d.integer(n, "max_connections", 1, 100_000, &o.MaxConnections) }},
		field{name: "tag_header", read: func(n ast.Node) { d.tagHeader(n, o) }},
		field{name: "breaker", read: func(n ast.Node) { d.breaker(n, &o.Breaker) }},
		field{name: "check", read: func(n ast.Node) { d.check(n, &o.Check) }},
		renamed("probe", "check"),
	)
	if len(d.problems) == before {
		if o.Name == "" {
			d.fail(n, "the origin has no name")
		}
		if len(o.URLs) == 0 {
			d.fail(n, "the origin has no url; write url: http://127.0.0.1:8600")
		}
	}
	return o
}

func (d *document) positive(n ast.Node, where string, into *time.Duration) {
	d.duration(n, where, into)
	if *into <= 0 {
		d.fail(n, "%s must be longer than 0s", where)
	}
}

func (d *document) breaker(n ast.Node, b *Breaker) {
	if s, isText := n.(ast.ScalarNode); isText && fmt.Sprint(s.GetValue()) == "off" {
		return
	}
	*b = Breaker{After: 5, Retry: 10 * time.Second}
	d.mapping(n, "breaker (or off)",
		field{name: "after", read: func(n ast.Node) { d.integer(n, "breaker.after", 1, 1000, &b.After) }},
		field{name: "retry", read: func(n ast.Node) { d.positive(n, "breaker.retry", &b.Retry) }},
	)
}

func (d *document) check(n ast.Node, p *Check) {
	*p = Check{Every: 5 * time.Second, Timeout: 2 * time.Second}
	d.mapping(n, "check",
		field{name: "path", read: func(n ast.Node) {
			if s, ok := d.text(n, "check.path"); ok && !strings.HasPrefix(s, "/") {
				d.fail(n, "check.path begins with a slash: /%s", s)
			} else {
				p.Path = s
			}
		}},
		field{name: "every", read: func(n ast.Node) { d.positive(n, "check.every", &p.Every) }},
		field{name: "timeout", read: func(n ast.Node) { d.positive(n, "check.timeout", &p.Timeout) }},
	)
	if p.Path == "" {
		d.fail(n, "check needs a path to ask for: { path: /healthy }")
	}
}

func (d *document) originURL(n ast.Node, s string) *url.URL {
	u, err := url.Parse(d.expand(n, s))
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" || u.RawQuery != "" || u.User != nil {
		d.fail(n, "url %q is not an origin's address; write http://HOST:PORT or https://HOST, without query and user", s)
		return nil
	}
	u.Path = strings.TrimSuffix(u.Path, "/")
	return u
}

func (d *document) tagHeader(n ast.Node, o *Origin) {
	o.TagSeparator = " "
	d.mapping(n, "tag_header",
		field{name: "name", read: func(n ast.Node) {
			if s, ok := d.text(n, "tag_header.name"); ok && !httprules.IsToken(s) {
				d.fail(n, "tag_header.name %q is not a header name", s)
			} else {
				o.TagHeader = httprules.CanonicalName(s)
			}
		}},
		field{name: "separator", read: func(n ast.Node) {
			if s, ok := d.text(n, "tag_header.separator"); ok && s == "" {
				d.fail(n, "tag_header.separator must have at least one character")
			} else {
				o.TagSeparator = s
			}
		}},
	)
}

func (d *document) route(n ast.Node) *Route {
	route := &Route{
		Enabled: true, Hosts: []HostPattern{"*"}, Methods: []string{"GET", "HEAD"},
		Terms: httprules.NoTerms(), Idle: httprules.Unset, Browser: httprules.Unset, MaxBody: DefaultMaxBody, Obey: ObeyRevalidate,
	}
	before := len(d.problems)
	var templates []ast.Node
	compared := false
	d.mapping(n, "a route",
		field{name: "name", read: func(n ast.Node) { route.Name = d.name(n, "a route's name") }},
		field{name: "match", read: func(n ast.Node) { d.match(n, route) }},
		field{name: "key", read: func(n ast.Node) { d.key(n, &route.Key) }},
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
		field{name: "compose", read: func(n ast.Node) { d.boolean(n, "compose", &route.Compose) }},
		field{name: "enabled", read: func(n ast.Node) { d.boolean(n, "enabled", &route.Enabled) }},
	)
	if len(d.problems) == before {
		if route.Name == "" {
			d.fail(n, "the route has no name")
		}
		if route.Path.text == "" {
			d.fail(n, "the route matches nothing; write match: { path: /… }")
		}
	}
	if route.Key.Body == key.NoBody && (slices.Contains(route.Methods, "POST") || slices.Contains(route.Methods, "QUERY")) {
		d.fail(n, "answers to POST and QUERY depend on the request's body, so that the key must hold it; add key: { body: bytes }, json or graphql")
	}
	if route.Terms.States() && !compared {
		route.Compare = defaultCompare
	}
	for _, t := range templates { // after match and key, whatever the order in the file
		d.tag(t, route)
	}
	route.KeyName, route.Within = keyName(route), meter.IncludeRoute(route.Name)
	return route
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
	return fmt.Sprintf("%s@%08x", route.Name, digest.Sum32())
}

// termsName digests what answers are judged by when they are stored, besides what the key's
// name digests.
func termsName(route *Route, origins []*Origin) string {
	digest := fnv.New64a()
	fmt.Fprintf(digest, "%+v %v %v %v\n", route.Terms, route.Idle, route.Browser, route.MaxBody)
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
		field{name: "path", read: func(n ast.Node) {
			s, ok := d.text(n, "match.path")
			if !ok {
				return
			}
			p, err := parsePath(s)
			if err != nil {
				d.fail(n, "match.path: %v", err)
			}
			route.Path = p
		}},
	)
}

func (d *document) key(n ast.Node, spec *key.Spec) {
	d.mapping(n, "key",
		field{name: "query", read: func(n ast.Node) { d.query(n, &spec.Query) }},
		field{name: "headers", read: func(n ast.Node) {
			d.strings(n, "key.headers", func(n ast.Node, s string) {
				switch name := httprules.CanonicalName(s); {
				case !httprules.IsToken(s):
					d.fail(n, "key.headers: %q is not a header name", s)
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
		field{name: "body", read: func(n ast.Node) {
			if i := d.choice(n, "key.body", "none", "bytes", "json", "graphql"); i >= 0 {
				spec.Body = key.BodyKind(i)
			}
		}},
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

// defaultCompare is for the routes whose life the policy states.
var defaultCompare = Compare{Share: 0.001, PerSecond: 1}

func (d *document) compare(n ast.Node, c *Compare) {
	c.PerSecond = 5
	if s, isText := n.(ast.ScalarNode); isText && fmt.Sprint(s.GetValue()) == "off" {
		*c = Compare{}
		return
	}
	if _, isMap := n.(ast.MapNode); !isMap {
		d.share(n, "compare", &c.Share)
		return
	}
	c.Share = defaultCompare.Share
	d.mapping(n, "compare",
		field{name: "share", read: func(n ast.Node) { d.share(n, "compare.share", &c.Share) }},
		field{name: "per_second", read: func(n ast.Node) {
			most := 0
			d.integer(n, "compare.per_second", 1, 1000, &most)
			c.PerSecond = float64(most)
		}},
		field{name: "ignore", read: func(n ast.Node) {
			d.strings(n, "compare.ignore", func(n ast.Node, s string) {
				re, err := regexp.Compile(s)
				if err != nil {
					d.fail(n, "compare.ignore: %q is not a pattern: %v", s, err)
					return
				}
				c.Ignore = append(c.Ignore, re)
			})
		}},
	)
}

func (d *document) share(n ast.Node, where string, into *float64) {
	s, ok := d.text(n, where)
	if !ok {
		return
	}
	number, isPercent := strings.CutSuffix(s, "%")
	v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if !isPercent || err != nil || v < 0 || v > 100 {
		d.fail(n, "%s is a share in per cent, such as 0.1%%", where)
		return
	}
	*into = v / 100
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
}

func (d *document) lifetime(n ast.Node, route *Route) {
	terms := &route.Terms
	var forced ast.Node
	d.mapping(n, "lifetime",
		field{name: "fresh", read: func(n ast.Node) { d.duration(n, "lifetime.fresh", &terms.Fresh) }},
		field{name: "source", read: func(n ast.Node) {
			if i := d.choice(n, "lifetime.source", "origin", "policy", "forced"); i >= 0 {
				terms.Trust = httprules.Trust(i)
			}
			if terms.Trust == httprules.TrustForced {
				forced = n
			}
		}},
		field{name: "at_least", read: func(n ast.Node) { d.duration(n, "lifetime.at_least", &terms.AtLeast) }},
		field{name: "at_most", read: func(n ast.Node) { d.duration(n, "lifetime.at_most", &terms.AtMost) }},
		field{name: "by_status", read: func(n ast.Node) { d.byStatus(n, terms) }},
		field{name: "stale_while_revalidate", read: func(n ast.Node) {
			d.duration(n, "lifetime.stale_while_revalidate", &terms.StaleWhileRevalidate)
		}},
		field{name: "stale_if_error", read: func(n ast.Node) { d.staleIfError(n, terms) }},
		field{name: "idle", read: func(n ast.Node) { d.positive(n, "lifetime.idle", &route.Idle) }},
		field{name: "refresh_early", read: func(n ast.Node) { d.boolean(n, "lifetime.refresh_early", &route.RefreshEarly) }},
		field{name: "browser", read: func(n ast.Node) { d.duration(n, "lifetime.browser", &route.Browser) }},
	)
	if terms.AtLeast != httprules.Unset && terms.AtMost != httprules.Unset && terms.AtLeast > terms.AtMost {
		d.fail(n, "lifetime.at_least is longer than at_most")
	}
	if terms.Trust != httprules.TrustOrigin && terms.Fresh == httprules.Unset && len(terms.ByStatus) == 0 {
		d.fail(n, "lifetime.source takes our lifetime instead of the origin's, but there is none; add fresh")
	}
	if forced != nil {
		d.warn(forced, "lifetime.source: forced stores answers even where the origin says no-store or private; use it only where every visitor may see every answer")
	}
}

func (d *document) byStatus(n ast.Node, terms *httprules.LifetimeTerms) {
	m, ok := d.resolve(n).(ast.MapNode)
	if !ok {
		d.fail(n, "lifetime.by_status must map statuses to lifetimes: { 404: 30s, 5xx: 1s }")
		return
	}
	terms.ByStatus = httprules.ByStatus{}
	for it := m.MapRange(); it.Next(); {
		status, ok := statusNamed(fmt.Sprint(keyText(it.Key())))
		if !ok {
			d.fail(it.Key(), "lifetime.by_status: %v is no final status that can be stored whole, and none of 4xx, 5xx and any", keyText(it.Key()))
			continue
		}
		if _, twice := terms.ByStatus[status]; twice {
			d.fail(it.Key(), "lifetime.by_status: %v stands twice; keep one", keyText(it.Key()))
			continue
		}
		life := httprules.Unset
		d.duration(it.Value(), "lifetime.by_status", &life)
		if life != httprules.Unset {
			terms.ByStatus[status] = life
		}
	}
}

// statusNamed reads a status, or a group of them, as httprules.ByStatus has it.
func statusNamed(s string) (status int, ok bool) {
	switch strings.ToLower(s) {
	case "any":
		return httprules.AnyStatus, true
	case "4xx":
		return 4, true
	case "5xx":
		return 5, true
	}
	status, err := strconv.Atoi(s)
	return status, err == nil && status >= 200 && status <= 599 && status != 206 && status != 304
}

// staleIfError reads how long a stale answer may stand in, and for which failures.
func (d *document) staleIfError(n ast.Node, terms *httprules.LifetimeTerms) {
	if _, isMap := n.(ast.MapNode); !isMap {
		d.duration(n, "lifetime.stale_if_error", &terms.StaleIfError)
		return
	}
	d.mapping(n, "lifetime.stale_if_error",
		field{name: "for", read: func(n ast.Node) { d.duration(n, "lifetime.stale_if_error.for", &terms.StaleIfError) }},
		field{name: "on", read: func(n ast.Node) {
			terms.FailedOn = []int{}
			d.strings(n, "lifetime.stale_if_error.on", func(n ast.Node, s string) {
				status, err := strconv.Atoi(s)
				if err != nil || status < 400 || status > 599 {
					d.fail(n, "lifetime.stale_if_error.on: %q is not a status of failure; write statuses from 400 to 599", s)
					return
				}
				terms.FailedOn = append(terms.FailedOn, status)
			})
		}},
	)
	if terms.StaleIfError == httprules.Unset {
		d.fail(n, "lifetime.stale_if_error does not say for how long: { for: 1d, on: [500, 503] }")
	}
}

func (d *document) admit(n ast.Node, route *Route) {
	d.mapping(n, "admit",
		d.later("after", "1"),
		field{name: "max_body", read: func(n ast.Node) {
			s, ok := d.text(n, "admit.max_body")
			if !ok {
				return
			}
			size, err := ParseSize(s)
			if err != nil {
				d.fail(n, "admit.max_body: %v", err)
				return
			}
			route.MaxBody = size
		}},
		field{name: "cookies", read: func(n ast.Node) {
			route.Terms.RefuseCookies = d.choice(n, "admit.cookies", "refuse", "strip") != 1
		}},
	)
}

// tag compiles a template and refuses one that reads what the key does not hold: all
// who share an entry must agree on its tags.
func (d *document) tag(n ast.Node, route *Route) {
	text, _ := d.text(n, "tags")
	t, err := parseTagTemplate(text, route.Path.Names())
	if err != nil {
		d.fail(n, "tags: %v", err)
		return
	}
	if place, list, name, outside := t.outsideKey(&route.Key); outside {
		d.fail(n, "tags: {%s} is not in the key, so that visitors who share an entry could disagree on its tag; add %s to key.%s", place, name, list)
		return
	}
	route.Tags = append(route.Tags, t)
}
