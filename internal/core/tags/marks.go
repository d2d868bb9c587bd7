// Package tags is what a purge does to an entry. A purge sets marks, one for each tag,
// route or URL that it names, at its place in the ledger; an entry is judged by
// comparing the marks that concern it with its stamp, the ledger sequence that was in
// force when its fill began. Setting a mark takes the same time however many entries
// it defeats.
package tags

import (
	"sync"
	"sync/atomic"
)

// Stamp is a place in the ledger. The zero stamp is before every purge.
type Stamp uint64

// Mode is what a purge does to what it matches.
type Mode uint8

// Drop: never used again. Soften: revalidate before use; may still be served under
// the route's stale rules.
const (
	Drop Mode = iota
	Soften
)

// String is the mode's name in the API.
func (m Mode) String() string {
	if m == Soften {
		return "stale"
	}
	return "drop"
}

// URL names entries by where they were asked for. Host and Query count only where
// AnyHost and AnyQuery are not set.
type URL struct {
	Host, Path, Query string
	AnyHost, AnyQuery bool
}

// Covers tells whether an entry asked for at host, path and query is named.
func (u URL) Covers(host, path, query string) bool {
	return u.Path == path && (u.AnyHost || u.Host == host) && (u.AnyQuery || u.Query == query)
}

// Purge is an order at its place in the ledger.
type Purge struct {
	Sequence Stamp
	Mode     Mode
	Tags     []string
	Routes   []string
	URLs     []URL
	All      bool
	// Host, if set, keeps Tags to the entries of one host: what an origin's answer says
	// counts within that origin only (RFC 9875 §3).
	Host string
}

// Subject is what an entry shows to the marks.
type Subject struct {
	Tags              []string
	Route             string
	Host, Path, Query string
	Stamp             Stamp
}

// Verdict is what the marks say of a subject.
type Verdict uint8

// Alive: no purge since its fill began. Softened: must be revalidated. Dropped: must
// not be used.
const (
	Alive Verdict = iota
	Softened
	Dropped
)

// mark holds the latest purge of each mode.
type mark struct{ drop, soften Stamp }

func (m mark) at(sequence Stamp, mode Mode) mark {
	if mode == Soften {
		m.soften = max(m.soften, sequence)
	} else {
		m.drop = max(m.drop, sequence)
	}
	return m
}

func (m mark) judge(stamp Stamp, so Verdict) Verdict {
	switch {
	case stamp < m.drop:
		return Dropped
	case stamp < m.soften:
		return max(so, Softened)
	}
	return so
}

// DefaultLimit is how many marks are kept before they are folded into one.
const DefaultLimit = 1_000_000

// Marks are the purges in force on a node. Safe for concurrent use; the zero value
// is not ready, use NewMarks.
type Marks struct {
	latest atomic.Uint64 // read on every request, written under mu
	folded atomic.Uint64 // how often the limit was hit
	hosted atomic.Bool   // some tags are marked for one host only

	mu     sync.RWMutex
	limit  int
	all    mark
	tags   map[string]mark
	routes map[string]mark
	urls   map[URL]mark
}

// NewMarks returns marks for a node that has applied the ledger up to start and has
// no entries from before. At most limit marks are kept apart; beyond that everything
// older counts as purged, which is safe.
func NewMarks(start Stamp, limit int) *Marks {
	m := &Marks{limit: limit, tags: map[string]mark{}, routes: map[string]mark{}, urls: map[URL]mark{}}
	m.latest.Store(uint64(start))
	return m
}

// Stamp is the ledger sequence applied last: what a fill that begins now is stamped with.
func (m *Marks) Stamp() Stamp { return Stamp(m.latest.Load()) }

// Folded counts how often the limit was hit.
func (m *Marks) Folded() uint64 { return m.folded.Load() }

// Len is the number of marks kept.
func (m *Marks) Len() int {
	m.mu.RLock()
	defer m.mu.RUnlock()
	return len(m.tags) + len(m.routes) + len(m.urls)
}

// Apply sets the marks of a purge. When it returns, no lookup uses what the purge
// matches. Purges are applied in the order of the ledger.
func (m *Marks) Apply(p Purge) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if p.All {
		m.all = m.all.at(p.Sequence, p.Mode)
		if p.Mode == Drop { // every older mark says less than this one
			clear(m.tags)
			clear(m.routes)
			clear(m.urls)
		}
	}
	for _, tag := range p.Tags {
		if p.Host != "" {
			tag = hosted(p.Host, tag)
			m.hosted.Store(true)
		}
		m.tags[tag] = m.tags[tag].at(p.Sequence, p.Mode)
	}
	for _, route := range p.Routes {
		m.routes[route] = m.routes[route].at(p.Sequence, p.Mode)
	}
	for _, u := range p.URLs {
		u = u.canonical()
		m.urls[u] = m.urls[u].at(p.Sequence, p.Mode)
	}
	if len(m.tags)+len(m.routes)+len(m.urls) > m.limit {
		m.all = m.all.at(p.Sequence, Drop)
		clear(m.tags)
		clear(m.routes)
		clear(m.urls)
		m.folded.Add(1)
	}
	m.latest.Store(max(m.latest.Load(), uint64(p.Sequence)))
}

// hosted is the name under which a tag is marked for one host. No tag begins with a
// line break: neither structured fields nor templates can make one.
func hosted(host, tag string) string { return "\n" + host + "\n" + tag }

// canonical drops what does not count, so that equal purges share a mark.
func (u URL) canonical() URL {
	if u.AnyHost {
		u.Host = ""
	}
	if u.AnyQuery {
		u.Query = ""
	}
	return u
}

// Judge compares the marks with a subject's stamp.
func (m *Marks) Judge(s *Subject) Verdict {
	if uint64(s.Stamp) >= m.latest.Load() {
		return Alive // filled after the last purge of all
	}
	m.mu.RLock()
	defer m.mu.RUnlock()
	v := m.all.judge(s.Stamp, Alive)
	if v == Dropped {
		return v
	}
	if len(m.tags) > 0 {
		for _, tag := range s.Tags {
			v = m.tags[tag].judge(s.Stamp, v)
			if m.hosted.Load() && v != Dropped {
				v = m.tags[hosted(s.Host, tag)].judge(s.Stamp, v)
			}
			if v == Dropped {
				return v
			}
		}
	}
	if len(m.routes) > 0 {
		v = m.routes[s.Route].judge(s.Stamp, v)
	}
	if len(m.urls) > 0 {
		for _, u := range [...]URL{
			{Host: s.Host, Path: s.Path, Query: s.Query},
			{Host: s.Host, Path: s.Path, AnyQuery: true},
			{AnyHost: true, Path: s.Path, Query: s.Query},
			{AnyHost: true, Path: s.Path, AnyQuery: true},
		} {
			v = m.urls[u].judge(s.Stamp, v)
		}
	}
	return v
}
