package policy

import (
	"slices"
	"strings"
)

// matcher finds the routes that may match a path, by its segments, so that the number of routes hardly
// counts. A route stands at the end of each of its paths.
type matcher struct {
	literal map[string]*matcher
	any     *matcher // {name}
	ends    byHost   // of paths that end here
	rests   byHost   // of those whose {rest...} begins here
}

// byHost are routes in order, by their numbers; those of one host each apart, where that is worth it.
type byHost struct {
	all  []int
	host map[string][]int // exact hosts
	rest []int            // of any other pattern
}

func newMatcher(routes []*Route) *matcher {
	m := &matcher{}
	for i, r := range routes {
		for _, p := range r.Path {
			at := m
			for _, s := range p.segments {
				at = at.under(s)
			}
			if p.rest == "" {
				at.ends.add(i)
			} else {
				at.rests.add(i)
			}
		}
	}
	m.each(func(b *byHost) { b.divide(routes) })
	return m
}

// under is the place behind a segment.
func (m *matcher) under(s segment) *matcher {
	if s.name != "" {
		if m.any == nil {
			m.any = &matcher{}
		}
		return m.any
	}
	if m.literal == nil {
		m.literal = map[string]*matcher{}
	}
	if m.literal[s.literal] == nil {
		m.literal[s.literal] = &matcher{}
	}
	return m.literal[s.literal]
}

func (m *matcher) each(visit func(*byHost)) {
	visit(&m.ends)
	visit(&m.rests)
	for _, below := range m.literal {
		below.each(visit)
	}
	if m.any != nil {
		m.any.each(visit)
	}
}

func (b *byHost) add(i int) {
	if !slices.Contains(b.all, i) {
		b.all = append(b.all, i)
	}
}

// worthDividing is from how many routes on hosts are told apart.
const worthDividing = 8

func (b *byHost) divide(routes []*Route) {
	if len(b.all) < worthDividing {
		return
	}
	b.host = map[string][]int{}
	for _, i := range b.all {
		for _, h := range routes[i].Hosts {
			if h == "*" || strings.HasPrefix(string(h), "*.") {
				b.rest = append(b.rest, i)
			} else {
				b.host[string(h)] = append(b.host[string(h)], i)
			}
		}
	}
	b.rest = slices.Compact(b.rest)
}

// search is one request's way through a matcher.
type search struct {
	routes             []*Route
	fits               func(*Route) bool
	method, host, path string
	first              int // the number of the first route so far
}

// first is the first route that matches a request; nil if none does.
func (m *matcher) first(routes []*Route, method, host, path string, fits func(*Route) bool) *Route {
	if path == "" || path[0] != '/' {
		return nil
	}
	s := search{routes, fits, method, host, path, len(routes)}
	s.walk(m, path[1:], true)
	if s.first == len(routes) {
		return nil
	}
	return routes[s.first]
}

// walk goes on from a place with what remains of the path; more says that something does.
func (s *search) walk(m *matcher, remaining string, more bool) {
	s.try(&m.rests)
	if !more {
		s.try(&m.ends)
		return
	}
	current, rest, goesOn := strings.Cut(remaining, "/")
	if below := m.literal[current]; below != nil {
		s.walk(below, rest, goesOn)
	}
	if plain := decoded(current); plain != current && m.literal[plain] != nil {
		s.walk(m.literal[plain], rest, goesOn)
	}
	if m.any != nil && current != "" {
		s.walk(m.any, rest, goesOn)
	}
}

func (s *search) try(b *byHost) {
	if b.host == nil {
		s.tryAll(b.all)
		return
	}
	s.tryAll(b.rest)
	s.tryAll(b.host[s.host])
	if i := strings.LastIndexByte(s.host, ':'); i >= 0 && !strings.HasSuffix(s.host, "]") {
		s.tryAll(b.host[s.host[:i]])
	}
}

func (s *search) tryAll(numbers []int) {
	for _, i := range numbers {
		if i >= s.first {
			return
		}
		if s.routes[i].Mismatch(s.method, s.host, s.path) == Matches && s.fits(s.routes[i]) {
			s.first = i
			return
		}
	}
}
