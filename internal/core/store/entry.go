package store

import (
	"crypto/sha256"
	"strconv"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/tags"
)

// Entry is one stored response: one variant under a key. All but the atomics is
// immutable once it is in a store; a validation makes a new Entry that shares the body.
type Entry struct {
	Key     string // canonical, see core/key
	Method  string
	Scheme  string
	Subject tags.Subject
	// RouteTags is how many of the subject's tags come from the route; the origin named
	// those behind them.
	RouteTags int
	Vary      []httprules.Varying

	// Fill is when the fill began that brought it: what it says cannot be newer than that.
	Fill Fill
	// Failure: its origin failed, so that it stands beside what was stored before, not in
	// its place.
	Failure bool
	// Terms names the terms under which it was judged; its policy may have others by now.
	Terms string

	Status    int
	Header    httprules.Header // as it came, less what Storable takes away
	Body      []byte
	Freshness httprules.Freshness
	Received  time.Time
	// Browser is the Cache-Control max-age for visitors; httprules.Unset leaves the origin's.
	Browser time.Duration
	// Idle is how long it stays without being asked for; httprules.Unset for ever.
	Idle time.Duration
	// Most is the longest life that the fragments in it allow; httprules.Unset if it tells of none.
	LifeLimit time.Duration
	// OriginOnly: its origin saw a cookie that its key leaves out, so that only the origin's
	// word gives it a life.
	OriginOnly bool

	// ForAuthorized: its origin lets it answer requests with Authorization (RFC 9111 §3.5).
	ForAuthorized bool
	// Personal: its key holds who asked.
	Personal bool
	// Encodings are the content codings that its origin gave it.
	Encodings []string
	// Implied is how many of Vary, the last, its own Vary field did not name.
	Implied int

	// Parts are the fragments that its maker says it was made of: namespace/key. Told is how
	// the maker put it, for engineers.
	Parts    []string
	PageInfo []string
	// Skeleton is set on a page that is composed for each request: what it includes.
	Skeleton *compose.Page

	// Search is the No-Vary-Search rule under which its key stands; "" if none.
	Search string
	// Compress says that visitors may be given it in other codings; OriginVary is then
	// the Vary that the origin sent, before ours was added.
	Compress   bool
	OriginVary []string

	// Coding says how far the making of its coded forms is.
	Coding atomic.Uint32

	plain   Encoded
	coded   [len(httprules.Codings)]atomic.Pointer[Encoded]
	renewed atomic.Pointer[Entry] // by one with the same body

	cost     atomic.Int64  // ns that its fill takes, smoothed
	used     atomic.Int64  // unix ns of the last use
	judged   atomic.Uint64 // ledger sequence up to which the marks have nothing new to say of it
	softened atomic.Bool   // counted by a softening purge: for ever, also for who still reads it
	removed  atomic.Bool   // removed
	size     atomic.Int64  // bytes, everything counted; changed under Memory.mu
	volatile atomic.Pointer[volatileLines]
	digest   atomic.Pointer[compose.Digest]

	// Guarded by Memory.mu.
	postings []posting // its postings in the index
	queuedAt int64     // unix ns at which it came into the eviction queue
	newer    *Entry
	older    *Entry
	resident bool

	holding sync.Mutex
	holders []*Holder // who reads the body
	left    bool      // the store, or will never be in it
	pinned  bool      // counted although it left
}

// States of an entry's coded forms.
const (
	NotCoded uint32 = iota
	ToBeCoded
	Coded // those that gain
)

// Restates reports whether an entry is another one, perhaps judged anew.
func (e *Entry) Restates(other *Entry) bool {
	return e.Key == other.Key && e.Fill == other.Fill && e.Failure == other.Failure && sameVariant(e, other)
}

// Fill is when a fill began: what the ledger said, and the time.
type Fill struct {
	Stamp tags.Stamp
	Began time.Time
}

// Before reports whether a fill began before another, so that what it brings may be older.
func (f Fill) Before(other Fill) bool {
	if f.Stamp != other.Stamp {
		return f.Stamp < other.Stamp
	}
	return f.Began.Before(other.Began)
}

// Restated is a copy that is not in a store, for what is judged anew. It shares header and
// body, which nobody changes, and what purges said of the entry holds for it.
func (e *Entry) Restated() *Entry {
	copied := &Entry{
		Key: e.Key, Method: e.Method, Scheme: e.Scheme, Subject: e.Subject, RouteTags: e.RouteTags, Vary: e.Vary, Fill: e.Fill, Failure: e.Failure, Terms: e.Terms,
		Status: e.Status, Header: e.Header, Body: e.Body, Freshness: e.Freshness, Received: e.Received, Browser: e.Browser, Idle: e.Idle, LifeLimit: e.LifeLimit, OriginOnly: e.OriginOnly,
		ForAuthorized: e.ForAuthorized, Personal: e.Personal, Encodings: e.Encodings, Implied: e.Implied, Parts: e.Parts, PageInfo: e.PageInfo, Skeleton: e.Skeleton,
		Search: e.Search, Compress: e.Compress, OriginVary: e.OriginVary,
	}
	copied.judged.Store(e.judged.Load())
	copied.softened.Store(e.softened.Load())
	copied.used.Store(e.used.Load())
	return copied
}

// Renewed notes that another entry with the same body has taken this one's place.
func (e *Entry) Renewed(by *Entry) { e.renewed.Store(by) }

// IsRemoved reports whether the entry has left its store.
func (e *Entry) IsRemoved() bool { return e.removed.Load() }

// Latest is the entry that has taken this one's place with the same body; itself if none has.
func (e *Entry) Latest() *Entry {
	for next := e.renewed.Load(); next != nil; next = e.renewed.Load() {
		e = next
	}
	return e
}

// Encoded is an entry in one coding, prepared for sending, so that a hit builds nothing.
type Encoded struct {
	Coding httprules.Coding
	Lines  []Line
	Header httprules.Header // what conditions and ranges are compared with
	Body   []byte
}

// Line is one header field as net/http wants it.
type Line struct {
	Name   string
	Values []string
}

// volatileLines holds the lines that change from second to second, prepared once a second.
type volatileLines struct {
	age          int64
	ageLine      []string
	status       []string
	cacheControl []string
}

// Prepare makes the plain form. It must be called once before the entry is put.
func (e *Entry) Prepare() {
	lines := make([]Line, 0, len(e.Header)+1)
	for name, values := range e.Header {
		switch {
		case name == "Cache-Status": // ours is appended, see Moving
		case e.Browser != httprules.Unset && (name == "Cache-Control" || name == "Expires" || name == "Pragma"):
		case name == "Content-Length": // ours below
		default:
			lines = append(lines, Line{name, values})
		}
	}
	if e.Status != 204 {
		lines = append(lines, Line{"Content-Length", []string{strconv.Itoa(len(e.Body))}})
	}
	e.plain = Encoded{Lines: lines, Header: e.Header, Body: e.Body}
}

// Encoded returns the entry in a coding, or plain while there is no such form.
func (e *Entry) Encoded(c httprules.Coding) *Encoded {
	if c != httprules.Identity {
		for i, known := range httprules.Codings {
			if known == c {
				if f := e.coded[i].Load(); f != nil {
					return f
				}
			}
		}
	}
	return &e.plain
}

// Each yields the lines of the form's header.
func (f *Encoded) Each(yield func(name string, values []string)) {
	for i := range f.Lines {
		yield(f.Lines[i].Name, f.Lines[i].Values)
	}
}

// VolatileLines returns the lines of this second: Age (RFC 9111 §5.1), Cache-Status
// (RFC 9211) and, where the route rewrites it, Cache-Control.
func (e *Entry) VolatileLines(now time.Time) (age, status, cacheControl []string) {
	seconds := int64(e.Freshness.Age(now) / time.Second)
	if m := e.volatile.Load(); m != nil && m.age == seconds {
		return m.ageLine, m.status, m.cacheControl
	}
	left := int64((e.Freshness.Lifetime - time.Duration(seconds)*time.Second) / time.Second)
	m := &volatileLines{age: seconds, ageLine: []string{strconv.FormatInt(seconds, 10)}}
	ours := httprules.CacheStatus{TTL: left, HasTTL: true}.String()
	m.status = append(append(make([]string, 0, 1), e.Header["Cache-Status"]...), ours)
	if e.Browser != httprules.Unset {
		m.cacheControl = []string{httprules.BrowserControl(e.Header, e.Personal, e.Browser, time.Duration(seconds)*time.Second)}
	}
	e.volatile.Store(m)
	return m.ageLine, m.status, m.cacheControl
}

// Digest tells the body from any other.
func (e *Entry) Digest() compose.Digest {
	if d := e.digest.Load(); d != nil {
		return *d
	}
	d := sha256.Sum256(e.Body)
	e.digest.Store(&d)
	return d
}

// Cost is what a fill of this entry takes.
func (e *Entry) Cost() time.Duration { return time.Duration(e.cost.Load()) }

// Filled smooths the cost with that of one more fill; the first counts whole.
func (e *Entry) Filled(before *Entry, took time.Duration) {
	if before == nil || before.Cost() == 0 {
		e.cost.Store(int64(took))
		return
	}
	e.cost.Store(int64(before.Cost()*7+took*3) / 10)
}

// KeepCost takes over the cost of the entry that this one renews without a fill.
func (e *Entry) KeepCost(before *Entry) { e.cost.Store(before.cost.Load()) }

// Touch notes that a request was answered from the entry.
func (e *Entry) Touch(now time.Time) { e.used.Store(now.UnixNano()) }

// IdleFor is how long nobody has asked for the entry.
func (e *Entry) IdleFor(now time.Time) time.Duration {
	return time.Duration(now.UnixNano() - e.used.Load())
}

// Judge asks the marks, and remembers how far in the ledger they let the entry live: it
// is never asked about them again, and they can be forgotten.
func (e *Entry) Judge(m *tags.Marks) tags.Verdict {
	latest, v := m.Stamp(), tags.Alive
	if known := e.knownTo(); known != latest {
		v = m.JudgeSince(&e.Subject, known)
	}
	soft := e.softened.Load() // noted in the entry itself, by the sweep
	if v == tags.Alive || v == tags.Softened && soft {
		e.judged.Store(uint64(latest))
	}
	if soft {
		return max(v, tags.Softened)
	}
	return v
}

// knownTo is the place in the ledger up to which no mark matters to the entry.
func (e *Entry) knownTo() tags.Stamp { return max(e.Subject.Stamp, tags.Stamp(e.judged.Load())) }

// What an entry costs in memory besides its bytes: its struct, its place in a shard's
// map and its bucket, and what the allocator adds (measured, see TestAccountedBytes…).
const (
	entryOverhead   = int64(unsafe.Sizeof(Entry{})) + int64(unsafe.Sizeof(bucket{})) + 160
	postingOverhead = int64(unsafe.Sizeof(posting{})) + 8
	termOverhead    = 88 // a term of its own in the index: postings, map cell, slice; shared ones cost less
	lineOverhead    = 2*int64(unsafe.Sizeof(Line{})) + 2*16 + 64
)

// Size is how many bytes the entry takes, everything counted.
func (e *Entry) Size() int64 {
	size := entryOverhead + int64(len(e.Key)) + int64(cap(e.Body)) + int64(len(e.Subject.Host)+len(e.Subject.Path)+len(e.Subject.Query))
	for name, values := range e.Header {
		size += lineOverhead + int64(len(name))
		for _, v := range values {
			size += int64(len(v)) + 16
		}
	}
	for _, coding := range e.Encodings {
		size += int64(len(coding)) + 16
	}
	for _, v := range e.Vary {
		size += int64(unsafe.Sizeof(v)) + int64(len(v.Name)+len(v.Value))
	}
	for _, lines := range [][]string{e.Parts, e.PageInfo} {
		for _, line := range lines {
			size += int64(len(line)) + 16
		}
	}
	if e.Skeleton != nil {
		size += e.Skeleton.Size()
	}
	for _, tag := range e.Subject.Tags {
		size += int64(len(tag)) + 16 + postingOverhead + termOverhead
	}
	return size + 2*postingOverhead + 2*termOverhead // route and path
}

// Fragment reports whether an application stored the entry, rather than an edge.
func (e *Entry) Fragment() bool { return e.Scheme == "" }

// URL is where the entry was asked for; of a fragment, its namespace and key.
func (e *Entry) URL() string {
	if e.Fragment() {
		return e.Subject.Path
	}
	u := e.Scheme + "://" + e.Subject.Host + e.Subject.Path
	if e.Subject.Query != "" {
		u += "?" + e.Subject.Query
	}
	return u
}

// IsSoftened reports whether a purge marked the entry stale.
func (e *Entry) IsSoftened() bool { return e.softened.Load() }
