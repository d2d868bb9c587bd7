package store

import (
	"cmp"
	"slices"
	"sort"
	"strings"

	"gerastic/internal/core/tags"
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
	all := m.tagsBelow(prefix)
	m.mu.Lock()
	m.words.each(func(one *word) {
		if one.posted.len() > 0 && strings.HasPrefix(one.text, prefix) && !strings.HasPrefix(one.text, routeTerm("")) {
			all[one.text] = all[one.text].and(one.posted.len(), 0, "")
		}
	})
	m.mu.Unlock()
	found := make([]TagCount, 0, len(all))
	for tag, count := range all {
		count.Tag = tag
		found = append(found, count)
	}
	sort.Slice(found, func(i, j int) bool {
		if found[i].Entries != found[j].Entries {
			return found[i].Entries > found[j].Entries
		}
		return found[i].Tag < found[j].Tag
	})
	found = found[:min(limit, len(found))]
	for i := range found {
		here := m.carryingHere(found[i].Tag)
		found[i].Bytes += here.Bytes
		if found[i].Routes == nil {
			found[i].Routes = map[string]int{}
		}
		for route, n := range here.Routes {
			found[i].Routes[route] += int(n)
		}
	}
	return found
}

// and is the count with some more entries, of a route if that is known.
func (c TagCount) and(entries int, bytes int64, route string) TagCount {
	c.Entries += entries
	c.Bytes += bytes
	if route != "" {
		if c.Routes == nil {
			c.Routes = map[string]int{}
		}
		c.Routes[route] += entries
	}
	return c
}

// tagsBelow counts the tags of what only the tier below has.
func (m *Memory) tagsBelow(prefix string) map[string]TagCount {
	all := map[string]TagCount{}
	if m.lower == nil {
		return all
	}
	m.lower.Each(tags.Purge{All: true}, func(i *Image, at Spot) {
		s, _ := i.Subject() // what cannot be read has none
		for _, tag := range s.Tags {
			if strings.HasPrefix(tag, prefix) {
				all[tag] = all[tag].and(1, at.Bytes, s.Route)
			}
		}
	})
	return all
}

// carrying counts the entries of a term, in all tiers.
func (m *Memory) carrying(term string) Matched {
	var matched Matched
	if m.lower != nil {
		named := tags.Purge{Tags: []string{term}}
		if route, is := strings.CutPrefix(term, routeTerm("")); is {
			named = tags.Purge{Routes: []string{route}}
		}
		matched = m.lower.Preview(named)
	}
	here := m.carryingHere(term)
	matched.Entries, matched.Bytes = matched.Entries+here.Entries, matched.Bytes+here.Bytes
	return matched
}

// carryingHere counts those in memory.
func (m *Memory) carryingHere(term string) Matched {
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
	if m.lower != nil {
		counts = m.lower.Routes()
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for number := range m.index.routes {
		one := m.words.at(number)
		counts[one.text[1:]] += one.posted.len()
	}
	return counts
}

// Newest returns the entry of a path that came last, among those that fit; nil if none does. One that
// is below comes without its body.
func (m *Memory) Newest(path string, fits func(*Entry) bool) (newest *Entry) {
	m.at(path, func(r *record) {
		if e := m.decode(r); e.Subject.Path == path && fits(e) && (newest == nil || e.Received.After(newest.Received)) {
			newest = e
		}
	})
	if newest != nil || m.lower == nil {
		return newest
	}
	m.lower.Each(tags.Purge{URLs: []tags.URL{{Path: path, AnyHost: true, AnyQuery: true}}}, func(i *Image, _ Spot) {
		if e, err := i.entry(); err == nil && fits(e) && (newest == nil || e.Received.After(newest.Received)) {
			newest = e
		}
	})
	return newest
}

// Hottest returns the entries in memory that were used most, the most used first, without their coded
// forms.
func (m *Memory) Hottest(limit int) (hottest []*Entry) {
	type used struct {
		*record
		uses float64
	}
	var all []used
	for _, route := range m.routes() {
		m.posted(route, func(r *record) { all = append(all, used{r, m.policy.Uses(r.place)}) })
	}
	slices.SortFunc(all, func(a, b used) int { return cmp.Compare(b.uses, a.uses) })
	records := make([]*record, 0, limit)
	for _, one := range all[:min(limit, len(all))] {
		records = append(records, one.record)
	}
	m.visit(records, func(r *record) { hottest = append(hottest, m.decodeAt(r, bodyOf(m.places.at(r.place)))) })
	return hottest
}

// RouteBytes is how much the entries of a route take.
func (m *Memory) RouteBytes(route string) int64 { return m.carrying(routeTerm(route)).Bytes }
