package store

import "sort"

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
	for l, g := range m.index {
		if l.kind == byTag && len(l.name) >= len(prefix) && l.name[:len(prefix)] == prefix {
			found = append(found, TagCount{Tag: l.name, Entries: len(g.entries)})
		}
	}
	m.mu.Unlock()
	sort.Slice(found, func(i, j int) bool {
		if found[i].Entries != found[j].Entries {
			return found[i].Entries > found[j].Entries
		}
		return found[i].Tag < found[j].Tag
	})
	found = found[:min(limit, len(found))]
	for i := range found {
		seen := map[*Entry]bool{}
		found[i].Routes = map[string]int{}
		m.each(term{byTag, found[i].Tag}, func(e *Entry) {
			if !seen[e] {
				seen[e] = true
				found[i].Bytes += e.size.Load()
				found[i].Routes[e.Subject.Route]++
			}
		})
	}
	return found
}

// Some returns entries that carry a tag, or are of a route or a path, at most limit; of
// what is asked for, the first that is not empty counts. With nothing asked for, any.
func (m *Memory) Some(tag, route, path string, limit int) []*Entry {
	var labels []term
	switch {
	case tag != "":
		labels = []term{{byTag, tag}}
	case route != "":
		labels = []term{{byRoute, route}}
	case path != "":
		labels = []term{{byPath, path}}
	default:
		labels = m.routes()
	}
	var some []*Entry
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, l := range labels {
		if g := m.index[l]; g != nil {
			some = append(some, g.entries[:min(len(g.entries), limit-len(some))]...)
		}
	}
	return some
}

// RouteCounts returns how many entries each route holds.
func (m *Memory) RouteCounts() map[string]int {
	counts := map[string]int{}
	m.mu.Lock()
	defer m.mu.Unlock()
	for l, g := range m.index {
		if l.kind == byRoute {
			counts[l.name] = len(g.entries)
		}
	}
	return counts
}

// Newest returns the entry of a path that came last, among those that fit; nil if none does.
func (m *Memory) Newest(path string, fits func(*Entry) bool) (newest *Entry) {
	m.each(term{byPath, path}, func(e *Entry) {
		if fits(e) && (newest == nil || e.Received.After(newest.Received)) {
			newest = e
		}
	})
	return newest
}

// RouteBytes is how much the entries of a route take.
func (m *Memory) RouteBytes(route string) (bytes int64) {
	seen := map[*Entry]bool{}
	m.each(term{byRoute, route}, func(e *Entry) {
		if !seen[e] {
			seen[e] = true
			bytes += e.size.Load()
		}
	})
	return bytes
}
