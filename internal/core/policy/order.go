package policy

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"gerastic/internal/core/key"
	"gerastic/internal/core/tags"
)

// ParseURL returns how the entries of a URL are named that somebody writes: https://HOST/PATH?QUERY,
// or /PATH?QUERY for every host. The error says how to write one.
func (p *Policy) ParseURL(text string, query QueryForms) ([]tags.URL, error) {
	parsed, err := url.Parse(text)
	if err != nil || !strings.HasPrefix(parsed.EscapedPath(), "/") && parsed.Host == "" || parsed.Host != "" && parsed.Scheme == "" {
		return nil, fmt.Errorf("%q is not a URL; write https://HOST/PATH?QUERY, or /PATH?QUERY for every host", text)
	}
	u := URL{Host: key.CanonicalHost(parsed.Host, parsed.Scheme), Path: parsed.EscapedPath(), Query: parsed.RawQuery, AnyQuery: query == AnyQuery}
	if u.Path == "" {
		u.Path = "/"
	}
	forms := p.URLForms(u)
	if len(forms) == 0 {
		// No route has it now, but what an earlier policy stored may still be there.
		forms = []tags.URL{{Host: u.Host, AnyHost: u.Host == "", Path: key.EquivalentPath(u.Path), Query: key.Equivalent(u.Query), AnyQuery: u.AnyQuery}}
	}
	return forms, nil
}

// QueryForms says which queries of a URL are meant.
type QueryForms uint8

// That of the URL alone, or any.
const (
	OwnQuery QueryForms = iota
	AnyQuery
)

// ParseBelow reads https://HOST/PATH, or /PATH for every host. The error says how to write it.
func ParseBelow(text string) (tags.Below, error) {
	u, err := url.Parse(text)
	if err != nil || u.RawQuery != "" || !strings.HasPrefix(u.EscapedPath(), "/") || (u.Host == "") != (u.Scheme == "") {
		return tags.Below{}, fmt.Errorf("%q is not a path to be below; write /ports/ for every host, or https://HOST/ports/", text)
	}
	return tags.Below{Host: key.CanonicalHost(u.Host, u.Scheme), AnyHost: u.Host == "", Path: key.EquivalentPath(u.EscapedPath())}, nil
}

// ParseHost reads a host, with its port if it is not the scheme's own. The error says how to
// write one.
func ParseHost(text string) (string, error) {
	if text == "" || strings.ContainsAny(text, "/?# *") {
		return "", fmt.Errorf("%q is not a host; write www.ostrel.example, with its port if it is not the scheme's own", text)
	}
	return key.CanonicalHost(text, ""), nil
}

// CheckNames returns an error for a name that is neither a route's nor, with a slash, that of
// fragments of which something is stored.
func (p *Policy) CheckNames(names []string, stored map[string]int) error {
	for _, name := range names {
		if _, has := stored[name]; has || slices.ContainsFunc(p.Routes, func(r *Route) bool { return r.Name == name }) {
			continue
		}
		if strings.Contains(name, "/") {
			return fmt.Errorf("nothing of the name %q is stored here; gerastic fragments list shows the names", name)
		}
		var known []string
		for _, route := range p.Routes {
			known = append(known, route.Name)
		}
		return fmt.Errorf("no route is named %q; the routes are %s", name, strings.Join(known, ", "))
	}
	return nil
}
