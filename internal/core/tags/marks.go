package tags

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"gerastic.example/client/protocol"
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

// ParseMode returns the mode of a name; Drop for any other.
func ParseMode(name string) Mode {
	if name == Soften.String() {
		return Soften
	}
	return Drop
}

// String returns the mode's name in the API.
func (m Mode) String() string {
	if m == Soften {
		return "stale"
	}
	return "drop"
}

// URL names entries by where they were asked for. Host and Query count only where
// AnyHost and AnyQuery are not set.
type URL struct {
	Host     string `json:"host,omitempty"`
	Path     string `json:"path"`
	Query    string `json:"query,omitempty"`
	AnyHost  bool   `json:"any_host,omitempty"`
	AnyQuery bool   `json:"any_query,omitempty"`
}

// Covers reports whether an entry is named. One that answers other queries than its own is
// named by each query: any of them might be one that it answers.
func (u URL) Covers(s *Subject) bool {
	return u.Path == s.Path && (u.AnyHost || u.Host == s.Host) && (u.AnyQuery || u.Query == s.Query || s.Reaching)
}

// someQuery stands in marks for a query, whichever, so that entries that answer several find
// it. No query is written so.
const someQuery = "\n"

// Below names entries by how their path begins. Host counts only where AnyHost is not set.
type Below struct {
	Host    string `json:"host,omitempty"`
	Path    string `json:"path"`
	AnyHost bool   `json:"any_host,omitempty"`
}

// Covers reports whether an entry asked for at host and path is named.
func (x Below) Covers(host, path string) bool {
	return (x.AnyHost || x.Host == host) && strings.HasPrefix(path, x.Path)
}

// One names a single entry: where it was asked for, and what tells it from all others there.
type One struct {
	Path string `json:"path"`
	Name string `json:"name"`
	URL  string `json:"url,omitempty"` // for people
}

// Covers reports whether an entry is the one, or may be, as far as is known of it.
func (o One) Covers(s *Subject) bool {
	return o.Path == s.Path && (s.Name == "" || s.Name == o.Name)
}

// Purge is an order at its place in the ledger. In JSON it is what it names, as the ledger keeps
// it.
type Purge struct {
	Sequence Stamp    `json:"-"`
	Mode     Mode     `json:"-"`
	Tags     []string `json:"tags,omitempty"`
	// Together keeps Tags to the entries that carry all of them.
	Together bool `json:"together,omitempty"`
	// Begins are how tags begin of which no more is known.
	Begins []string `json:"begins,omitempty"`
	Routes []string `json:"routes,omitempty"`
	URLs   []URL    `json:"urls,omitempty"`
	Below  []Below  `json:"prefixes,omitempty"` // as ledgers of before have it
	Hosts  []string `json:"hosts,omitempty"`
	One    *One     `json:"one,omitempty"`
	All    bool     `json:"all,omitempty"`
	// Host, if set, keeps Tags to the entries of one host: what an origin's answer says
	// counts within that origin only (RFC 9875 §3). The fragments of applications belong to
	// no host, so that they go with each.
	Host string `json:"host,omitempty"`
}

// Check returns an error that says what is wrong with an order of somebody's: that it names
// nothing, or something that no entry carries.
func (p *Purge) Check() error {
	switch {
	case p.Together && len(p.Tags) == 0:
		return errors.New("together is about tags, and there are none; name the tags that an entry must all carry")
	case !p.All && p.One == nil && len(p.Tags)+len(p.Begins)+len(p.URLs)+len(p.Routes)+len(p.Below)+len(p.Hosts) == 0:
		return errors.New("the purge names nothing; give tags, urls, routes, below or hosts, or all: true")
	}
	for _, tag := range p.Tags {
		switch {
		case tag == "" || len(tag) > protocol.MaxTag:
			return fmt.Errorf("a tag has 1 to %d bytes; one here has %d", protocol.MaxTag, len(tag))
		case !protocol.IsText(tag):
			return fmt.Errorf("the tag %q is not text: it must be UTF-8 without NUL", tag)
		}
	}
	return nil
}

// Covers reports whether the purge names an entry, whenever it was filled. The marks say
// the same in constant time; this is for counting, and for what they are tested against.
func (p *Purge) Covers(s *Subject) bool {
	if p.All || p.One != nil && p.One.Covers(s) || slices.Contains(p.Routes, s.Route) || slices.Contains(p.Hosts, s.Host) || p.coversTags(s) {
		return true
	}
	return slices.ContainsFunc(p.URLs, func(u URL) bool { return u.Covers(s) }) ||
		slices.ContainsFunc(p.Below, func(x Below) bool { return x.Covers(s.Host, s.Path) })
}

// IsText reports whether all that a purge names is.
func (p *Purge) IsText() bool {
	if o := p.One; o != nil && !(protocol.IsText(o.Path) && protocol.IsText(o.URL)) {
		return false
	}
	for _, names := range [][]string{p.Tags, p.Begins, p.Routes, p.Hosts, {p.Host}} {
		for _, name := range names {
			if !protocol.IsText(name) {
				return false
			}
		}
	}
	return !slices.ContainsFunc(p.URLs, func(u URL) bool {
		return !protocol.IsText(u.Host) || !protocol.IsText(u.Path) || !protocol.IsText(u.Query)
	}) &&
		!slices.ContainsFunc(p.Below, func(x Below) bool { return !protocol.IsText(x.Host) || !protocol.IsText(x.Path) })
}

func (p *Purge) coversTags(s *Subject) bool {
	for _, begin := range p.Begins {
		if slices.ContainsFunc(s.Tags, func(tag string) bool { return strings.HasPrefix(tag, begin) }) {
			return true
		}
	}
	if len(p.Tags) == 0 || p.Host != "" && s.Host != "" && p.Host != s.Host {
		return false
	}
	if p.Together {
		return carriesAll(s, p.Tags)
	}
	return slices.ContainsFunc(p.Tags, func(tag string) bool { return slices.Contains(s.Tags, tag) })
}

func carriesAll(s *Subject, tags []string) bool {
	for _, tag := range tags {
		if !slices.Contains(s.Tags, tag) {
			return false
		}
	}
	return true
}

// Subject is what an entry shows to the marks.
type Subject struct {
	Tags              []string
	Route             string
	Host, Path, Query string // Host is "" for fragments, Path their namespace/key
	Reaching          bool   // it answers other queries than its own (No-Vary-Search)
	Name              string // see One; "": it is not known, or nobody asks for it
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

// last is the later of the two.
func (m mark) last() Stamp { return max(m.drop, m.soften) }

// DefaultLimit is how many marks are kept before the older ones are folded into one.
const DefaultLimit = 1_000_000

// Marks are the purges in force on a node. Safe for concurrent use; the zero value
// is not ready, use NewMarks.
type Marks struct {
	latest      atomic.Uint64 // read on every request, written under mu
	floorRaised atomic.Uint64 // how often the limit was hit
	hosted      atomic.Bool   // some tags are marked for one host only
	single      atomic.Bool   // some entries are marked singly

	mu       sync.RWMutex
	limit    int
	all      mark
	tags     map[string]mark
	routes   map[string]mark
	hosts    map[string]mark
	urls     map[URL]mark
	ones     map[One]mark
	below    map[Below]mark
	lengths  []int             // of the prefixes' paths, each once
	begins   map[string]mark   // by how tags begin
	begun    []int             // the lengths of these, each once
	sets     map[string]*set   // by their tags, joined
	together map[string][]*set // by one of their tags, that which had the fewest
	bytes    int64             // about what all of them take
	most     int64             // bytes before the older ones are folded
}

// set is a mark for the entries that carry all of some tags.
type set struct {
	tags []string // in order
	mark mark
}

// NewMarks returns marks for a node that has applied the ledger up to start and has
// no entries from before. At most limit marks are kept apart; beyond that everything
// older counts as purged, which is safe.
func NewMarks(start Stamp, limit int) *Marks {
	m := &Marks{limit: limit, most: math.MaxInt64}
	m.forget()
	m.latest.Store(uint64(start))
	return m
}

// KeepWithin bounds the bytes that marks take, as their number is bounded.
func (m *Marks) KeepWithin(bytes int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.most = bytes
}

// Bytes is about what the marks take.
func (m *Marks) Bytes() int64 {
	m.mu.RLock()
	defer m.mu.RUnlock()
	return m.bytes
}

// Stamp is the ledger sequence applied last: what a fill that begins now is stamped with.
func (m *Marks) Stamp() Stamp { return Stamp(m.latest.Load()) }

// FloorRaised counts how often the limit was hit.
func (m *Marks) FloorRaised() uint64 { return m.floorRaised.Load() }

// Len is the number of marks kept.
func (m *Marks) Len() int {
	m.mu.RLock()
	defer m.mu.RUnlock()
	return m.len()
}

func (m *Marks) len() int {
	return len(m.tags) + len(m.routes) + len(m.hosts) + len(m.ones) + len(m.urls) + len(m.below) + len(m.begins) + len(m.sets)
}

// forget drops every mark but the one for all.
func (m *Marks) forget() {
	m.tags, m.routes, m.hosts = map[string]mark{}, map[string]mark{}, map[string]mark{}
	m.urls, m.ones, m.below, m.lengths = map[URL]mark{}, map[One]mark{}, map[Below]mark{}, nil
	m.begins, m.begun = map[string]mark{}, nil
	m.sets, m.together, m.bytes = map[string]*set{}, map[string][]*set{}, 0
}

// Apply sets the marks of a purge. When it returns, no lookup uses what the purge
// matches. Purges are applied in the order of the ledger.
func (m *Marks) Apply(p Purge) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if p.All {
		m.all = m.all.at(p.Sequence, p.Mode)
		if p.Mode == Drop { // every older mark says less than this one
			m.forget()
		}
	}
	names := p.Tags
	if p.Host != "" {
		names = make([]string, 0, 2*len(p.Tags))
		for _, tag := range p.Tags {
			names = append(names, hosted(p.Host, tag), hosted("", tag))
		}
		m.hosted.Store(m.hosted.Load() || len(names) > 0)
	}
	if p.Together && len(names) > 1 {
		m.markTogether(p.Tags, p.Sequence, p.Mode)
	} else {
		put(m, m.tags, names, p.Sequence, p.Mode, lengthOf)
	}
	put(m, m.routes, p.Routes, p.Sequence, p.Mode, lengthOf)
	put(m, m.hosts, p.Hosts, p.Sequence, p.Mode, lengthOf)
	for _, u := range p.URLs {
		u = u.canonical()
		names := []URL{u}
		if !u.AnyQuery {
			u.Query = someQuery
			names = append(names, u)
		}
		put(m, m.urls, names, p.Sequence, p.Mode, URL.length)
	}
	if o := p.One; o != nil { // and whatever may be the one for all that is known of it
		m.single.Store(true)
		put(m, m.ones, []One{{Path: o.Path, Name: o.Name}, {Path: o.Path}}, p.Sequence, p.Mode, One.length)
	}
	m.markBeginnings(&p)
	m.latest.Store(max(m.latest.Load(), uint64(p.Sequence)))
	if m.len() > m.limit || m.bytes > m.most {
		m.floorRaised.Add(1)
		m.raiseFloor((m.all.drop + p.Sequence) / 2)
		if m.len() > m.limit*3/4 || m.bytes > m.most/4*3 {
			m.raiseFloor(p.Sequence)
		}
	}
}

// markBeginnings sets the marks of what begins so. Under mu.
func (m *Marks) markBeginnings(p *Purge) {
	for _, x := range p.Below {
		if x.AnyHost {
			x.Host = ""
		}
		put(m, m.below, []Below{x}, p.Sequence, p.Mode, Below.length)
		if !slices.Contains(m.lengths, len(x.Path)) {
			m.lengths = append(m.lengths, len(x.Path))
		}
	}
	for _, begin := range p.Begins {
		put(m, m.begins, []string{begin}, p.Sequence, p.Mode, lengthOf)
		if !slices.Contains(m.begun, len(begin)) {
			m.begun = append(m.begun, len(begin))
		}
	}
}

// markOverhead is about what a mark takes besides its name: its place in a map.
const markOverhead = 100

func lengthOf(name string) int { return len(name) }

func (u URL) length() int { return len(u.Host) + len(u.Path) + len(u.Query) + 48 }

func (o One) length() int { return len(o.Path) + len(o.Name) + 48 }

// Singly reports whether some entries are marked singly, so that names count.
func (m *Marks) Singly() bool { return m.single.Load() }

func (x Below) length() int { return len(x.Host) + len(x.Path) + 32 }

// put sets the marks of names. Under mu.
func put[K comparable](m *Marks, marks map[K]mark, names []K, sequence Stamp, mode Mode, length func(K) int) {
	for _, name := range names {
		before, known := marks[name]
		if !known {
			m.bytes += int64(markOverhead + length(name))
		}
		marks[name] = before.at(sequence, mode)
	}
}

// markTogether is not kept to a host: what an origin's answer names, it names singly. A set
// is found by the one of its tags that leads to the fewest sets, so that a tag which all of
// them have does not make every entry look at all.
func (m *Marks) markTogether(tags []string, sequence Stamp, mode Mode) {
	sorted := slices.Compact(slices.Sorted(slices.Values(tags)))
	name := strings.Join(sorted, "\n")
	if known := m.sets[name]; known != nil {
		known.mark = known.mark.at(sequence, mode)
		return
	}
	by := slices.MinFunc(sorted, func(a, b string) int { return len(m.together[a]) - len(m.together[b]) })
	made := &set{sorted, mark{}.at(sequence, mode)}
	m.sets[name] = made
	m.together[by] = append(m.together[by], made)
	m.bytes += made.bytes(name)
}

func (s *set) bytes(name string) int64 {
	return int64(2*markOverhead + 2*len(name) + 16*len(s.tags) + 64)
}

// Compact forgets the marks up to a place in the ledger. The caller knows of no entry
// and no fill that is older; if there is one, it counts as purged.
func (m *Marks) Compact(upTo Stamp) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if upTo > m.all.drop {
		m.raiseFloor(min(upTo, Stamp(m.latest.Load())))
	}
}

// Rewind goes to another place in the ledger, which was set back: no mark of before means
// anything any more. Whatever began before, or was stored, is the caller's to take out of use;
// what says that it is of a later place counts as dropped.
func (m *Marks) Rewind(to Stamp) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.forget()
	m.all = mark{drop: to}
	m.latest.Store(uint64(to))
}

// raiseFloor replaces the marks up to a place by one that says "everything older". Under mu.
func (m *Marks) raiseFloor(upTo Stamp) {
	m.all = m.all.at(upTo, Drop)
	prune(m.tags, upTo)
	prune(m.routes, upTo)
	prune(m.hosts, upTo)
	prune(m.urls, upTo)
	prune(m.ones, upTo)
	prune(m.below, upTo)
	m.lengths = nil
	for x := range m.below {
		if !slices.Contains(m.lengths, len(x.Path)) {
			m.lengths = append(m.lengths, len(x.Path))
		}
	}
	prune(m.begins, upTo)
	m.begun = nil
	for begin := range m.begins {
		if !slices.Contains(m.begun, len(begin)) {
			m.begun = append(m.begun, len(begin))
		}
	}
	for by, sets := range m.together {
		sets = slices.DeleteFunc(sets, func(s *set) bool { return s.mark.last() <= upTo })
		if m.together[by] = sets; len(sets) == 0 {
			delete(m.together, by)
		}
	}
	maps.DeleteFunc(m.sets, func(_ string, s *set) bool { return s.mark.last() <= upTo })
	m.weigh()
}

// weigh counts anew what the marks take. Under mu.
func (m *Marks) weigh() {
	m.bytes = 0
	for _, names := range []map[string]mark{m.tags, m.routes, m.hosts, m.begins} {
		for name := range names {
			m.bytes += int64(markOverhead + len(name))
		}
	}
	for u := range m.urls {
		m.bytes += int64(markOverhead + u.length())
	}
	for o := range m.ones {
		m.bytes += int64(markOverhead + o.length())
	}
	for x := range m.below {
		m.bytes += int64(markOverhead + x.length())
	}
	for name, s := range m.sets {
		m.bytes += s.bytes(name)
	}
}

func prune[K comparable](marks map[K]mark, upTo Stamp) {
	maps.DeleteFunc(marks, func(_ K, at mark) bool { return at.last() <= upTo })
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
func (m *Marks) Judge(s *Subject) Verdict { return m.JudgeSince(s, s.Stamp) }

// judgeTag asks the marks that a tag leads to, beside its own. Under mu.
func (m *Marks) judgeTag(s *Subject, tag string, since Stamp, v Verdict) Verdict {
	for _, n := range m.begun {
		if n <= len(tag) {
			v = max(v, m.begins[tag[:n]].judge(since, v))
		}
	}
	if len(m.together) > 0 {
		for _, all := range m.together[tag] {
			if carriesAll(s, all.tags) {
				v = max(v, all.mark.judge(since, v))
			}
		}
	}
	return v
}

// JudgeSince asks only the marks above a stamp: those up to it are known to let the
// subject live.
func (m *Marks) JudgeSince(s *Subject, since Stamp) Verdict {
	switch latest := Stamp(m.latest.Load()); {
	case since == latest:
		return Alive // filled after the last purge of all
	case since > latest:
		return Dropped // of a history that the ledger does not have any more, see Rewind
	}
	m.mu.RLock()
	defer m.mu.RUnlock()
	v := m.all.judge(since, Alive)
	if v == Dropped {
		return v
	}
	v = m.routes[s.Route].judge(since, v)
	v = m.hosts[s.Host].judge(since, v)
	for _, tag := range s.Tags {
		if v == Dropped {
			return v
		}
		v = m.tags[tag].judge(since, v)
		if m.hosted.Load() {
			v = max(v, m.tags[hosted(s.Host, tag)].judge(since, v))
		}
		v = max(v, m.judgeTag(s, tag, since, v))
	}
	if len(m.urls) > 0 && v != Dropped {
		for _, u := range [...]URL{
			{Host: s.Host, Path: s.Path, Query: s.Query},
			{Host: s.Host, Path: s.Path, AnyQuery: true},
			{AnyHost: true, Path: s.Path, Query: s.Query},
			{AnyHost: true, Path: s.Path, AnyQuery: true},
		} {
			v = max(v, m.urls[u].judge(since, v))
			if s.Reaching && !u.AnyQuery {
				u.Query = someQuery
				v = max(v, m.urls[u].judge(since, v))
			}
		}
	}
	if len(m.ones) > 0 && v != Dropped {
		v = m.ones[One{Path: s.Path, Name: s.Name}].judge(since, v)
	}
	for _, n := range m.lengths {
		if n <= len(s.Path) {
			v = max(v, m.below[Below{Host: s.Host, Path: s.Path[:n]}].judge(since, v))
			v = max(v, m.below[Below{AnyHost: true, Path: s.Path[:n]}].judge(since, v))
		}
	}
	return v
}
