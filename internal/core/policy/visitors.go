package policy

import (
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
)

// Mark is something that a request carries when its visitor is signed in.
type Mark struct {
	From key.Source  // Field or Cookie
	Name key.Pattern // of a field in lower case
}

// Of names what of a request the mark is, "cookie session"; "" if it does not carry it.
func (m Mark) Of(h httprules.Header) string {
	if m.From == key.Cookie {
		if name := key.CookieLike(h, m.Name); name != "" {
			return "cookie " + name
		}
		return ""
	}
	for name := range h {
		if m.Name.Match(strings.ToLower(name)) {
			return "header " + name
		}
	}
	return ""
}

// Withholds reports whether the origin is asked without a field that neither the key
// holds nor the route lets through: where the policy states how long answers live,
// nothing else may make them. What a visitor's group is known by is always withheld: the group stands
// for it.
func (route *Route) Withholds(name string) bool {
	if route.Key.HoldsField(name) || slices.Contains(route.AlsoFields, name) {
		return false
	}
	return route.Terms.States() || httprules.Steering(name) || route.Group.Takes(name)
}

// WithholdsCookie reports the same of a cookie.
func (route *Route) WithholdsCookie(name string) bool {
	if route.Key.HoldsCookie(name) || slices.Contains(route.AlsoCookies, name) || slices.Contains(route.AlsoFields, "Cookie") {
		return false
	}
	return route.Terms.States() || route.Group.TakesCookie(name)
}

// WithholdsCookies reports whether there may be cookies that the origin is asked without.
func (route *Route) WithholdsCookies() bool { return route.Terms.States() || route.Group != nil }

// LeavesCookieOut reports whether the origin sees a cookie of a request that the key does not hold.
func (route *Route) LeavesCookieOut(h httprules.Header) bool {
	if route.Group == nil {
		return route.Key.LeavesCookieOut(h)
	}
	return slices.ContainsFunc(key.CookieNames(h), func(name string) bool { return !route.Key.HoldsCookie(name) && !route.WithholdsCookie(name) })
}

// SignedIn names what of a request says that its visitor is signed in, so that no shared
// answer is for them; "" if nothing does. Whom the key names has entries of their own.
// Authorization is not judged here where the origin decides: RFC 9111 §3.5 does.
func (route *Route) SignedIn(h httprules.Header) string {
	if route.Shared {
		return ""
	}
	if _, named := route.Key.Identity.Of(h); !named {
		others := route.Group.besides(h)
		for _, m := range route.Marks {
			if mark := m.Of(others); mark != "" {
				return mark
			}
		}
	}
	for name := range h {
		if httprules.Credential(name) && (name != "Authorization" || route.Terms.States()) && name != protocol.ExplainField &&
			!route.Key.HoldsField(name) && !slices.Contains(route.AlsoFields, name) && !route.Group.Takes(name) {
			return "header " + name
		}
	}
	return ""
}

// Declares reports whether what SignedIn named is a mark that the policy itself declares.
func (route *Route) Declares(mark string, h httprules.Header) bool {
	return slices.ContainsFunc(route.Marks, func(m Mark) bool { return m.Of(h) == mark })
}

// Authorized reports whether a request carries Authorization outside the key: a stored
// answer is for it only if RFC 9111 §3.5 lets it be.
func (route *Route) Authorized(h httprules.Header) bool {
	return h.Has("Authorization") && !route.Key.HoldsField("Authorization") && !route.Group.Takes("Authorization")
}

// visitors reads who counts as signed in.
func (d *document) visitors(n ast.Node) (marks []Mark) {
	d.mapping(n, "visitors",
		field{name: "signed_in", read: func(n ast.Node) {
			d.strings(n, "visitors.signed_in", func(n ast.Node, s string) {
				from, name, _ := strings.Cut(s, ":")
				switch {
				case !httprules.IsToken(name) || strings.Count(name, "*") > 1:
				case from == "cookie":
					marks = append(marks, Mark{key.Cookie, key.Pattern(name)})
					return
				case from == "header" && httprules.CanonicalName(name) != "Cookie":
					marks = append(marks, Mark{key.Field, key.Pattern(strings.ToLower(name))})
					return
				}
				d.fail(n, "visitors.signed_in: %q says nothing of a visitor; write cookie:NAME or header:NAME, with at most one * in the name", s)
			})
		}},
	)
	return marks
}

// besides is a header without what a visitor's group is known by: that does not say that nothing shared is
// for them.
func (g *VisitorGroup) besides(h httprules.Header) httprules.Header {
	if g == nil {
		return h
	}
	h = maps.Clone(h)
	maps.DeleteFunc(h, func(name string, _ []string) bool { return g.Takes(name) })
	h["Cookie"] = key.KeepCookies(h["Cookie"], func(name string) bool { return !g.TakesCookie(name) })
	return h
}

// alsoGets reads what the origin may see besides the key.
func (d *document) alsoGets(n ast.Node, route *Route) {
	d.strings(n, "origin_also_gets", func(n ast.Node, s string) {
		if name, isCookie := strings.CutPrefix(s, "cookie:"); isCookie && httprules.IsToken(name) {
			route.AlsoCookies = append(route.AlsoCookies, name)
			return
		}
		if !httprules.IsToken(s) {
			d.fail(n, "origin_also_gets: %q is not a header name; write a name, or cookie:NAME for one cookie", s)
			return
		}
		name := httprules.CanonicalName(s)
		if name == protocol.GroupField {
			d.fail(n, "origin_also_gets: %s is set here, for the visitor; write key.group", name)
			return
		}
		if name == "Cookie" {
			d.warn(n, "origin_also_gets: with Cookie the origin sees every cookie, and what it makes of one visitor's is shown to others; name single ones as cookie:NAME, or put them under key.cookies")
		}
		route.AlsoFields = append(route.AlsoFields, name)
	})
}

// warnOfVisitors says where a route could show one visitor's page to another.
func (d *document) warnOfVisitors(n ast.Node, route *Route) {
	identified := route.Key.Identity.From != 0
	if route.Terms.Fresh != httprules.Unset && identified {
		d.warn(n, "route %s: fresh beside identity keeps each visitor's pages although they change with what the visitor does; a message that is shown once comes twice. Leave fresh out, so that the origin says how long each page lives", route.Name)
	}
	catchAll := slices.ContainsFunc(route.Path, func(p PathPattern) bool { return len(p.segments) == 0 && p.rest != "" })
	if catchAll && route.Terms.Fresh != httprules.Unset && !identified && len(route.Marks) == 0 && !route.Shared {
		d.warn(n, `route %s: it gives every page a lifetime (fresh), and nothing says which visitors are signed in; write visitors: { signed_in: ["cookie:NAME"] } at the top, key.identity, or signed_in: shared if its pages are the same for everybody`, route.Name)
	}
}
