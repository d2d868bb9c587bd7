package policy

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
)

// HostPattern is a host name, "*" for any, or "*.example" for any name below one.
// A pattern without a port matches every port.
type HostPattern string

func parseHost(s string) (HostPattern, error) {
	s = strings.ToLower(s)
	switch {
	case s == "*":
		return "*", nil
	case s == "" || strings.ContainsAny(s, "/ ?#@"):
		return "", fmt.Errorf("%q is not a host; write www.example.org, *.example.org or *", s)
	case strings.Contains(strings.TrimPrefix(s, "*."), "*"):
		return "", fmt.Errorf("%q: the * may only stand alone or before a dot at the beginning", s)
	}
	return HostPattern(s), nil
}

// Match compares a lower-case host, with or without a port.
func (p HostPattern) Match(host string) bool {
	if p == "*" {
		return true
	}
	pattern := string(p)
	if i := strings.LastIndexByte(host, ':'); i >= 0 && !strings.HasSuffix(host, "]") && !hasPort(pattern) {
		host = host[:i]
	}
	if suffix, wild := strings.CutPrefix(pattern, "*"); wild {
		return len(host) > len(suffix) && strings.HasSuffix(host, suffix)
	}
	return host == pattern
}

func hasPort(s string) bool {
	return strings.LastIndexByte(s, ':') > strings.LastIndexByte(s, ']')
}

func anyHost(patterns []HostPattern, host string) bool {
	for _, p := range patterns {
		if p.Match(host) {
			return true
		}
	}
	return false
}

// PathPattern is a path whose segments are literal or {name}; a last {name...}
// stands for the rest, which may be empty.
type PathPattern struct {
	text     string
	segments []segment
	rest     string // name of {name...}, if any
}

// Paths are the paths of a route, of which one matches.
type Paths []PathPattern

// maxPaths is how many a route has at most.
const maxPaths = 1000

func (ps Paths) has(text string) bool {
	return slices.ContainsFunc(ps, func(p PathPattern) bool { return p.text == text })
}

// String is the paths as written, in a line.
func (ps Paths) String() string {
	all := make([]string, len(ps))
	for i, p := range ps {
		all[i] = p.text
	}
	return strings.Join(all, ", ")
}

// Names are those that any of the paths gives values to.
func (ps Paths) Names() (names []string) {
	for _, p := range ps {
		for _, name := range p.Names() {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names
}

// Match reports whether one of the paths matches.
func (ps Paths) Match(path string) bool {
	for i := range ps {
		if ps[i].Match(path) {
			return true
		}
	}
	return false
}

// Value returns the value that the first path that matches gives to a name; "" if it has none.
func (ps Paths) Value(path, name string) string {
	for i := range ps {
		if ps[i].Match(path) {
			return ps[i].Value(path, name)
		}
	}
	return ""
}

type segment struct {
	literal string
	name    string // of {name}; then literal is ""
}

// String is the pattern as written.
func (p PathPattern) String() string { return p.text }

// Names are the names that the pattern gives values to.
func (p PathPattern) Names() []string {
	var names []string
	for _, s := range p.segments {
		if s.name != "" {
			names = append(names, s.name)
		}
	}
	if p.rest != "" {
		names = append(names, p.rest)
	}
	return names
}

func parsePath(text string) (PathPattern, error) {
	p := PathPattern{text: text}
	if !strings.HasPrefix(text, "/") {
		return p, fmt.Errorf("a path begins with a slash: /%s", text)
	}
	if strings.ContainsAny(text, "?#") {
		return p, fmt.Errorf("a path has no query; parameters are named under key.query")
	}
	parts := strings.Split(text[1:], "/")
	for i, part := range parts {
		if !strings.ContainsAny(part, "{}") {
			if strings.Contains(part, "*") {
				return p, fmt.Errorf("%q: write {name} for one segment, {name...} for the rest", part)
			}
			literal, err := url.PathUnescape(part)
			if err != nil {
				return p, fmt.Errorf("%q: %v", part, err)
			}
			p.segments = append(p.segments, segment{literal: literal})
			continue
		}
		name := strings.TrimSuffix(strings.TrimPrefix(part, "{"), "}")
		if len(name) != len(part)-2 || strings.ContainsAny(name, "{}") {
			return p, fmt.Errorf("%q: a segment is either literal or one {name}", part)
		}
		rest, isRest := strings.CutSuffix(name, "...")
		if isRest {
			name = rest
		}
		if !isName(name) {
			return p, fmt.Errorf("%q: a name has letters, digits and _", part)
		}
		if slices.Contains(p.Names(), name) {
			return p, fmt.Errorf("{%s} stands twice in the path", name)
		}
		if isRest {
			if i != len(parts)-1 {
				return p, fmt.Errorf("{%s...} can only be the last segment", name)
			}
			p.rest = name
			break
		}
		p.segments = append(p.segments, segment{name: name})
	}
	return p, nil
}

func isName(s string) bool {
	for i := range len(s) {
		c := s[i]
		if c != '_' && !('a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9') {
			return false
		}
	}
	return s != ""
}

// Match compares a percent-encoded path, segment by segment, so that an encoded
// slash is not a separator.
func (p PathPattern) Match(path string) bool {
	matched, _ := p.walk(path, "")
	return matched
}

// Value returns the decoded value that the path gives to a name.
func (p PathPattern) Value(path, name string) string {
	_, value := p.walk(path, name)
	return value
}

func (p PathPattern) walk(path, want string) (matched bool, value string) {
	if path == "" || path[0] != '/' {
		return false, ""
	}
	remaining, more := path[1:], true
	for _, s := range p.segments {
		if !more {
			return false, ""
		}
		var current string
		current, remaining, more = strings.Cut(remaining, "/")
		if s.name == "" {
			if current != s.literal && decoded(current) != s.literal {
				return false, ""
			}
			continue
		}
		if current == "" {
			return false, ""
		}
		if s.name == want {
			value = decoded(current)
		}
	}
	if p.rest == "" {
		return !more, value
	}
	if p.rest == want {
		value = decoded(remaining)
	}
	// "/assets/{file...}" wants the slash: "/assets" is another resource.
	return more || len(p.segments) == 0, value
}

func decoded(s string) string {
	if strings.IndexByte(s, '%') < 0 {
		return s
	}
	if d, err := url.PathUnescape(s); err == nil {
		return d
	}
	return s
}
