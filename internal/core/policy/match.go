package policy

import (
	"slices"
	"strings"

	"gerastic/internal/core/key"
)

// matcher finds the routes that may match a path, by its segments, so that the number of routes hardly
// counts. A route stands at the end of each of its paths.
type matcher struct {
	few     []branch            // the literal segments, while they are few: they are compared one by one
	literal map[string]*matcher // all of them
	any     *matcher            // {name}
	ends    byHost              // of paths that end here
	rests   byHost              // of those whose {rest...} begins here
}

// branch is a place behind a literal segment.
type branch struct {
	segment string
	below   *matcher
}

// mostFew is up to how many comparing is quicker than hashing.
const mostFew = 6

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
		m.few = append(m.few, branch{s.literal, m.literal[s.literal]})
	}
	return m.literal[s.literal]
}

// behind is the place behind a literal segment; nil: there is none.
func (m *matcher) behind(segment string) *matcher {
	if len(m.few) > mostFew {
		return m.literal[segment]
	}
	for i := range m.few {
		if m.few[i].segment == segment {
			return m.few[i].below
		}
	}
	return nil
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
	first              int  // the number of the first route so far
	safe               bool // the path has no segments of dots; known once a route would match
}

// first is the first route that matches a request; nil if none does.
func (m *matcher) first(routes []*Route, method, host, path string, fits func(*Route) bool) *Route {
	if path == "" || path[0] != '/' {
		return nil
	}
	s := search{routes: routes, fits: fits, method: method, host: host, path: path, first: len(routes)}
	s.walk(m, path[1:], true)
	if s.first == len(routes) {
		return nil
	}
	return routes[s.first]
}

// walk goes on from a place with what remains of the path; more says that something does.
func (s *search) walk(m *matcher, remaining string, more bool) {
	if !more {
		s.try(&m.ends)
		return
	}
	s.try(&m.rests)
	current, rest, goesOn := strings.Cut(remaining, "/")
	if below := m.behind(current); below != nil {
		s.walk(below, rest, goesOn)
	}
	if plain := decoded(current); plain != current {
		if below := m.behind(plain); below != nil {
			s.walk(below, rest, goesOn)
		}
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

// tryAll takes the first of some routes, whose path matches, that the rest of the request matches.
func (s *search) tryAll(numbers []int) {
	for _, i := range numbers {
		if i >= s.first {
			return
		}
		if r := s.routes[i]; anyHost(r.Hosts, s.host) && slices.Contains(r.Methods, s.method) && s.isSafe() && s.fits(r) {
			s.first = i
			return
		}
	}
}

// isSafe reports whether the path is read by every origin as it is here; no route has another.
func (s *search) isSafe() bool {
	if !s.safe {
		s.safe = !key.Climbs(s.path)
	}
	return s.safe
}
