package store

import (
	"sort"
	"strings"
)

// TagCount is how much a tag holds.
type TagCount struct {
	Tag     string
	Entries int
	Bytes   int64
	Routes  map[string]int // entries, by route
}

// Tags lists the tags that begin with prefix, largest first, at most limit.
func (m *Memory) Tags(prefix string, limit int) []TagCount {
	var found []TagCount
	m.mu.Lock()
	m.words.each(func(one *word) {
		if one.posted.len() > 0 && strings.HasPrefix(one.text, prefix) && !strings.HasPrefix(one.text, routeTerm("")) {
			found = append(found, TagCount{Tag: one.text, Entries: one.posted.len()})
		}
	})
	m.mu.Unlock()
	sort.Slice(found, func(i, j int) bool {
		if found[i].Entries != found[j].Entries {
			return found[i].Entries > found[j].Entries
		}
		return found[i].Tag < found[j].Tag
	})
	found = found[:min(limit, len(found))]
	for i := range found {
		matched := m.carrying(found[i].Tag)
		found[i].Bytes, found[i].Routes = matched.Bytes, map[string]int{}
		for route, n := range matched.Routes {
			found[i].Routes[route] = int(n)
		}
	}
	return found
}

// carrying counts the entries of a term.
func (m *Memory) carrying(term string) Matched {
	var matched Matched
	seen := map[*record]bool{}
	matched.Sample = make([]string, SampleSize) // nobody wants URLs here
	m.posted(term, func(r *record) {
		if !seen[r] {
			seen[r] = true
			matched.count(m, r)
		}
	})
	return matched
}

// Some returns entries that carry a tag, or are of a route or a path, at most limit; of
// what is asked for, the first that is not empty counts. With nothing asked for, any.
func (m *Memory) Some(tag, route, path string, limit int) (some []*Entry) {
	add := func(r *record) {
		if len(some) < limit {
			if e := m.decode(r); tag != "" || route != "" || path == "" || e.Subject.Path == path {
				some = append(some, e)
			}
		}
	}
	var terms []string
	switch {
	case tag != "":
		terms = []string{tag}
	case route != "":
		terms = []string{routeTerm(route)}
	case path != "":
		m.at(path, add)
	default:
		terms = m.routes()
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, term := range terms {
		posted := m.postings(term)
		for i := range min(posted.len(), limit-len(some)) {
			add(m.index.record(posted.at(i).place))
		}
	}
	return some
}

// RouteCounts returns how many entries each route holds.
func (m *Memory) RouteCounts() map[string]int {
	counts := map[string]int{}
	m.mu.Lock()
	defer m.mu.Unlock()
	for number := range m.index.routes {
		one := m.words.at(number)
		counts[one.text[1:]] = one.posted.len()
	}
	return counts
}

// Newest returns the entry of a path that came last, among those that fit; nil if none does.
func (m *Memory) Newest(path string, fits func(*Entry) bool) (newest *Entry) {
	m.at(path, func(r *record) {
		if e := m.decode(r); e.Subject.Path == path && fits(e) && (newest == nil || e.Received.After(newest.Received)) {
			newest = e
		}
	})
	return newest
}

// RouteBytes is how much the entries of a route take.
func (m *Memory) RouteBytes(route string) int64 { return m.carrying(routeTerm(route)).Bytes }
