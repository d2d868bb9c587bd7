package store

import (
	"cmp"
	"fmt"
	"hash/maphash"
	"math"
	"slices"
	"strings"
	"time"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/tags"
)

// Wish says which entries are wanted, and in which order.
type Wish struct {
	Tag, Route, Host string     // "": any
	URLs             []tags.URL // none: any
	Below            tags.Below // an empty path: any
	Fragment         string     // how the key of a fragment begins, with or without NAMESPACE/; "": any entry
	State            State
	Tier             Tier
	By               Order
	Limit            int
	After            Cursor // of the last one of the list before; zero: from the beginning
}

// State is what purges have said of an entry.
type State uint8

// AnyState wants all; Live those that no purge concerns, Softened those that one marked stale.
const (
	AnyState State = iota
	Live
	Softened
)

// Tier is where an entry is. One that is in several is said to be in the faster one.
type Tier string

// AnyTier wants all.
const (
	AnyTier  Tier = ""
	InMemory Tier = "memory"
	OnDisk   Tier = "disk"
	Shared   Tier = "shared" // there is none yet
)

// Order is what a list begins with.
type Order uint8

// The most bytes first; the oldest; the most used; the dearest to fill; what saves most for its
// bytes.
const (
	ByBytes Order = iota
	ByAge
	ByUse
	ByCost
	ByWorth
)

// Cursor is a place in a list.
type Cursor struct {
	value float64
	place uint64 // in memory; or onDisk, and where it stands there
	set   bool
}

const onDisk = 1 << 63

func (s Spot) place() uint64 { return onDisk | uint64(s.Segment)<<32 | uint64(s.At) }

// String is the cursor's form in calls; ParseCursor reads it.
func (c Cursor) String() string { return fmt.Sprintf("%x.%x", math.Float64bits(c.value), c.place) }

// ParseCursor reads what String wrote.
func ParseCursor(text string) (c Cursor, err error) {
	var bits uint64
	if _, err = fmt.Sscanf(text, "%x.%x", &bits, &c.place); err != nil {
		return c, fmt.Errorf("%q is no place in a list; pass the one that came with the list before", text)
	}
	c.value, c.set = math.Float64frombits(bits), true
	return c, nil
}

// compare orders a list: the greatest values first.
func (c Cursor) compare(other Cursor) int {
	return cmp.Or(cmp.Compare(other.value, c.value), cmp.Compare(c.place, other.place))
}

// Listed is an entry in a list.
type Listed struct {
	*Entry
	ID    string
	At    Cursor
	Tier  Tier
	Bytes int64                    // with its coded forms
	Body  int64                    // bytes of its body, as it came
	Coded map[httprules.Coding]int // bytes of the coded forms that it has
	Uses  float64                  // how often it was used, those long ago counting less
	Worth float64                  // ns of its origin's time that each byte saves
	Idle  time.Duration
}

// List returns the entries that somebody wants, and how many there are in all.
func (m *Memory) List(w Wish, now time.Time) (list []Listed, total int) {
	best := make([]Listed, 0, w.Limit+1)
	take := func(l Listed) {
		total++
		if w.After.set && l.At.compare(w.After) <= 0 {
			return
		}
		i, had := slices.BinarySearchFunc(best, l.At, func(l Listed, at Cursor) int { return l.At.compare(at) })
		if had || i == w.Limit {
			return
		}
		best = slices.Insert(best, i, l)
		best = best[:min(len(best), w.Limit)]
	}
	if w.Tier == AnyTier || w.Tier == InMemory {
		m.wanted(&w, func(r *record) { take(Listed{At: Cursor{value: m.value(r, w.By), place: uint64(r.place)}}) })
	}
	if m.lower != nil && (w.Tier == AnyTier || w.Tier == OnDisk) {
		m.lower.Each(w.named(), func(i *Image, at Spot) {
			if l, ok := m.listedBelow(i, at, now); ok && w.fits(l) {
				l.At.value = l.value(w.By)
				take(l)
			}
		})
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, l := range best {
		if l.Entry != nil {
			list = append(list, l)
		} else if r := m.places.at(uint32(l.At.place)).record; r != nil && !r.has(isForm) {
			list = append(list, m.listed(r, l.At, now))
		}
	}
	return list, total
}

// named is the purge that covers what is wanted, and perhaps more.
func (w *Wish) named() tags.Purge {
	switch {
	case len(w.URLs) > 0:
		return tags.Purge{URLs: w.URLs}
	case w.Tag != "":
		return tags.Purge{Tags: []string{w.Tag}}
	case w.Route != "":
		return tags.Purge{Routes: []string{w.Route}}
	}
	return tags.Purge{All: true}
}

// fits reports whether something below is wanted.
func (w *Wish) fits(l Listed) bool {
	soft := l.own.is(softened)
	return w.covers(&l.Subject) && (w.State == AnyState || soft == (w.State == Softened))
}

// listedBelow is an entry of the tier below in a list; ok is false if it cannot be read.
func (m *Memory) listedBelow(i *Image, at Spot, now time.Time) (l Listed, ok bool) {
	e, err := i.entry()
	if err != nil {
		return l, false
	}
	l = Listed{
		Entry: e, ID: fmt.Sprintf("d%x-%x-%x", at.Segment, at.At, i.Variant.Own), At: Cursor{place: at.place()}, Tier: OnDisk,
		Bytes: at.Bytes, Body: i.Length, Coded: map[httprules.Coding]int{}, Uses: i.Uses, Worth: i.Uses * float64(i.Cost) / float64(at.Bytes),
	}
	l.Idle = max(0, l.IdleFor(now))
	return l, true
}

// value is what a list is ordered by, of something below.
func (l *Listed) value(by Order) float64 {
	switch by {
	case ByAge:
		return -float64(l.Freshness.Born.UnixNano())
	case ByUse:
		return l.Uses
	case ByCost:
		return float64(l.Cost() / time.Microsecond)
	case ByWorth:
		return l.Worth
	}
	return float64(l.Bytes)
}

// Named returns the entry of an ID; ok is false if it is not in the store any more.
func (m *Memory) Named(id string, now time.Time) (l Listed, ok bool) {
	if m.lower != nil && strings.HasPrefix(id, "d") {
		return m.namedBelow(id, now)
	}
	var place, check uint32
	if n, err := fmt.Sscanf(id, "m%x-%x", &place, &check); n != 2 || err != nil {
		return l, false
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if place >= m.places.high {
		return l, false
	}
	r := m.places.at(place).record
	if r == nil || r.has(isForm) || r.id() != id {
		return l, false
	}
	return m.listed(r, Cursor{}, now), true
}

// namedBelow is Named for the tier below. What has come up to memory meanwhile is found there.
func (m *Memory) namedBelow(id string, now time.Time) (l Listed, ok bool) {
	var segment, at, check uint32
	if n, err := fmt.Sscanf(id, "d%x-%x-%x", &segment, &at, &check); n != 3 || err != nil {
		return l, false
	}
	i, spot := m.lower.At(segment, at)
	if i == nil || i.Variant.Own != check {
		return l, false
	}
	if l, ok = m.listedBelow(i, spot, now); !ok {
		return l, false
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, v := range m.under(maphash.String(m.seed, l.Key), []byte(l.Key)) {
		if v.is(l.Vary, l.Encodings) && !v.has(isFailure) {
			return m.listed(v.record, Cursor{}, now), true
		}
	}
	return l, true
}

// id names a record for as long as it is in the store.
func (r *record) id() string {
	return fmt.Sprintf("m%x-%x", r.place, r.tag^uint32(r.began)^uint32(r.began>>32)^uint32(r.stamp)*0x9E3779B9)
}

func (m *Memory) listed(r *record, at Cursor, now time.Time) Listed {
	l := Listed{Entry: m.decode(r), ID: r.id(), At: at, Tier: InMemory, Bytes: r.size(), Body: int64(r.body), Coded: map[httprules.Coding]int{}, Uses: m.policy.Uses(r.place), Worth: m.policy.Worth(r.place)}
	l.Idle = max(0, l.IdleFor(now))
	m.eachForm(r, func(form *record) {
		l.Bytes += form.size()
		l.Coded[httprules.Codings[form.which]] = int(form.body)
	})
	return l
}

// value is what a list is ordered by. Under mu.
func (m *Memory) value(r *record, by Order) float64 {
	switch by {
	case ByAge:
		return -float64(m.decode(r).Freshness.Born.UnixNano())
	case ByUse:
		return m.policy.Uses(r.place)
	case ByCost:
		return float64(r.cost.Load())
	case ByWorth:
		return m.policy.Worth(r.place)
	}
	bytes := r.size()
	m.eachForm(r, func(form *record) { bytes += form.size() })
	return float64(bytes)
}

// wanted visits the entries that are wanted, each under mu.
func (m *Memory) wanted(w *Wish, visit func(*record)) {
	fits := func(r *record) {
		if w.State == Live && r.is(softened) || w.State == Softened && !r.is(softened) {
			return
		}
		if s := m.subjectOf(r); w.covers(&s) {
			visit(r)
		}
	}
	switch {
	case len(w.URLs) > 0:
		seen := map[*record]bool{} // several forms of a URL may name one
		for _, u := range w.URLs {
			m.at(u.Path, func(r *record) {
				if !seen[r] {
					seen[r] = true
					fits(r)
				}
			})
		}
	case w.Tag != "":
		m.posted(w.Tag, fits)
	case w.Route != "":
		m.posted(routeTerm(w.Route), fits)
	default:
		for _, route := range m.routes() {
			m.posted(route, fits)
		}
	}
}

func (w *Wish) covers(s *tags.Subject) bool {
	return (w.Tag == "" || slices.Contains(s.Tags, w.Tag)) && (w.Route == "" || w.Route == s.Route) && (w.Host == "" || w.Host == s.Host) &&
		(len(w.URLs) == 0 || slices.ContainsFunc(w.URLs, func(u tags.URL) bool { return u.Covers(s) })) && (w.Below.Path == "" || w.Below.Covers(s.Host, s.Path)) && (w.Fragment == "" || w.coversFragment(s))
}

// coversFragment reports whether the subject is a fragment's, and its key begins as is wanted. A
// fragment's path is NAMESPACE/KEY; that of anything else begins with a slash.
func (w *Wish) coversFragment(s *tags.Subject) bool {
	namespace, key, _ := strings.Cut(s.Path, "/")
	return namespace != "" && (strings.HasPrefix(key, w.Fragment) || strings.HasPrefix(s.Path, w.Fragment))
}
