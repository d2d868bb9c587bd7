package policy

import (
	"net/url"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/key"
)

// Warm says what of a route is filled before visitors ask again: at the start, after a purge, and before it
// ends.
type Warm struct {
	// AskedWithin is for how long after visitors asked for something it is kept warm; 0: only URLs are.
	AskedWithin time.Duration
	URLs        []string // absolute, or //HOST/PATH where the scheme is the edge's own
	// Fragments are names of fragments, NAME or NAMESPACE/NAME, that applications are told to fill again.
	Fragments []string
}

const (
	// defaultAskedWithin is that of keep_warm: true.
	defaultAskedWithin = 24 * time.Hour
	// mostWarmURLs is how many URLs a route may name.
	mostWarmURLs = 1000
)

// keepWarm reads true, or what is to be kept warm.
func (d *document) keepWarm(n ast.Node, route *Route) {
	if b, ok := n.(*ast.BoolNode); ok {
		if route.Warm = nil; b.Value {
			route.Warm = &Warm{AskedWithin: defaultAskedWithin}
		}
		return
	}
	w := &Warm{}
	d.mapping(n, "keep_warm",
		field{name: "asked_within", read: func(n ast.Node) {
			if d.duration(n, "keep_warm.asked_within", &w.AskedWithin); w.AskedWithin < time.Second || w.AskedWithin > 90*24*time.Hour {
				d.fail(n, "keep_warm.asked_within: from 1s to 90d")
			}
		}},
		field{name: "urls", read: func(n ast.Node) {
			d.strings(n, "keep_warm.urls", func(n ast.Node, s string) {
				w.URLs = append(w.URLs, s)
				d.warmed[w] = append(d.warmed[w], n)
			})
		}},
		field{name: "fragments", read: func(n ast.Node) {
			d.strings(n, "keep_warm.fragments", func(n ast.Node, s string) {
				namespace, name, spaced := strings.Cut(s, "/")
				if !protocol.IsName(namespace) || spaced && !protocol.IsName(name) {
					d.fail(n, "keep_warm.fragments: %q is no fragment's name; write card, or shop/card for those of one application", s)
				}
				w.Fragments = append(w.Fragments, s)
			})
		}},
	)
	switch {
	case w.AskedWithin == 0 && len(w.URLs)+len(w.Fragments) == 0:
		d.fail(n, "keep_warm names nothing; write true, asked_within: 1d, urls: [/people] or fragments: [card]")
	case len(w.URLs) > mostWarmURLs:
		d.fail(n, "keep_warm.urls: a route names %d at most", mostWarmURLs)
	}
	route.Warm = w
}

// WarmFragments are the names of fragments that are kept warm, and for how long after somebody asked.
func (p *Policy) WarmFragments() map[string]time.Duration {
	names := map[string]time.Duration{}
	for _, r := range p.Routes {
		if r.Warm == nil || !r.Enabled {
			continue
		}
		for _, name := range r.Warm.Fragments {
			within := r.Warm.AskedWithin
			if within == 0 {
				within = defaultAskedWithin
			}
			names[name] = max(names[name], within)
		}
	}
	return names
}

// checkWarm makes the URLs that are kept warm whole, and holds them against their route.
func (d *document) checkWarm(n ast.Node, route *Route, origins []*Origin) {
	if route.Warm == nil {
		return
	}
	if route.Key.Identity.From != 0 || route.Group != nil {
		d.warn(n, "route %s: keep_warm keeps only what nobody's identity or group is in", route.Name)
	}
	host := onlyHost(route, origins)
	for i, text := range route.Warm.URLs {
		at := d.warmed[route.Warm][i]
		if strings.HasPrefix(text, "/") && !strings.HasPrefix(text, "//") {
			if host == "" {
				d.fail(at, "keep_warm.urls: %s may be on any host; write https://HOST%s, or name the route's host under match.hosts", text, text)
				continue
			}
			text = "//" + host + text
			route.Warm.URLs[i] = text
		}
		u, err := url.Parse(text)
		if err != nil || u.Host == "" || u.User != nil || u.Fragment != "" || u.Scheme != "" && u.Scheme != "http" && u.Scheme != "https" || u.Scheme == "" && host == "" {
			d.fail(at, "keep_warm.urls: %q is no URL; write https://HOST/PATH?QUERY, or /PATH", text)
			continue
		}
		if u.Path == "" {
			route.Warm.URLs[i] += "/"
		}
		if m := route.Mismatch("GET", key.CanonicalHost(u.Host, u.Scheme), u.EscapedPath()); m != Matches && u.Path != "" {
			d.fail(at, "keep_warm.urls: %s is not of the route %s: %s", text, route.Name, m)
		}
	}
}

// onlyHost is the one host of a route, or else of the policy's one origin; "" if there may be several.
func onlyHost(route *Route, origins []*Origin) string {
	only := func(hosts []HostPattern) string {
		if len(hosts) == 1 && !strings.Contains(string(hosts[0]), "*") {
			return string(hosts[0])
		}
		return ""
	}
	if host := only(route.Hosts); host != "" || len(origins) != 1 {
		return host
	}
	if len(route.Hosts) == 1 && route.Hosts[0] == "*" {
		return only(origins[0].Hosts)
	}
	return ""
}
