package store

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"io"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/zeebo/xxh3"

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
	Subject tags.Subject // its tags once each
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
	// Bound is how much it and others together may take; no name: as much as there is.
	Bound Bound
	// Reserved is how many bytes its fill reserved for it; Put and Abandon give them back, so that
	// nothing else takes the room in between.
	Reserved int64
	// LifeLimit is the longest life that the fragments in it allow; httprules.Unset if it tells of none.
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
	// Work is what it took to make, as its maker counts it; see meter.Work.
	Work string
	// Skeleton is set on a page that is composed for each request: what it includes.
	Skeleton *compose.Page

	// Search is the No-Vary-Search rule under which its key stands; "" if none.
	Search string
	// Compress says that visitors may be given it in other codings; OriginVary is then
	// the Vary that the origin sent, before ours was added.
	Compress   bool
	OriginVary []string

	// Tagged says that an answer whose origin gives it no ETag gets one of ours.
	Tagged bool
	made   string // that one, once it is known; "" if there is none

	// Far is where the body is, if it is not in Body; nil: it is.
	Far FarBody

	far      int64 // bytes of such a body
	plain    Encoded
	coded    [len(httprules.Codings)]atomic.Pointer[Encoded]
	volatile atomic.Pointer[volatileLines]
	digest   atomic.Pointer[compose.Digest]

	own       state                  // until it is in a store
	kept      atomic.Pointer[record] // what the store keeps of it
	below     below                  // where it is if memory does not have it
	abandoned bool                   // guarded by Memory.pinned.mu: it will never be kept
	taken     int64                  // bytes that it takes in this form, once it is kept ready
	hot       atomic.Bool            // asked for since others looked for its place among those kept ready
}

// state is what changes of the entry; everybody who has it shares it.
func (e *Entry) state() *state {
	if r := e.kept.Load(); r != nil {
		return &r.state
	}
	return &e.own
}

// Is reports whether two are the same stored answer.
func (e *Entry) Is(other *Entry) bool {
	return e == other || e != nil && other != nil && e.kept.Load() != nil && e.kept.Load() == other.kept.Load()
}

// Restates reports whether an entry is another one, perhaps judged anew.
func (e *Entry) Restates(other *Entry) bool {
	same := e.Fill.Stamp == other.Fill.Stamp && e.Fill.Began.Equal(other.Fill.Began)
	return e.Key == other.Key && same && e.Failure == other.Failure && sameVariant(e, other)
}

// Bound is how many bytes of memory the entries under a name may take together.
type Bound struct {
	Name   string
	AtMost int64
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
		ForAuthorized: e.ForAuthorized, Personal: e.Personal, Encodings: e.Encodings, Implied: e.Implied, Parts: e.Parts, PageInfo: e.PageInfo, Work: e.Work, Skeleton: e.Skeleton,
		Search: e.Search, Tagged: e.Tagged, made: e.made, Compress: e.Compress, OriginVary: e.OriginVary, Bound: e.Bound,
	}
	copied.Far, copied.far = e.Far, e.far
	copied.own.set(e.state())
	return copied
}

// Encoded is an entry in one coding, prepared for sending, so that a hit builds nothing.
type Encoded struct {
	Coding httprules.Coding
	Lines  []Line
	Header httprules.Header // what conditions and ranges are compared with
	Body   []byte

	kept *record // what the store keeps of it; nil: its entry's
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
		lines = append(lines, Line{"Content-Length", []string{strconv.FormatInt(e.Length(), 10)}})
	}
	e.plain = Encoded{Lines: lines, Header: e.Header, Body: e.Body}
	if e.makesTag() {
		e.plain.Lines = append(lines, Line{"Etag", []string{e.made}})
		e.plain.Header = httprules.Header{"Etag": {e.made}, "Last-Modified": e.Header["Last-Modified"], "Date": e.Header["Date"]}
	}
}

// makesTag reports whether the entry has a strong tag of ours (RFC 9110 §8.8.3), made of its bytes: on
// every node, and after a restart, it is the same.
func (e *Entry) makesTag() bool {
	if !e.Tagged || e.Status != 200 || e.Skeleton != nil || e.Header.Has("Etag") {
		return false
	}
	if e.made == "" && e.Far == nil {
		sum := xxh3.Hash128(e.Body).Bytes()
		e.made = `"g` + base64.RawURLEncoding.EncodeToString(sum[:]) + `"`
	}
	return e.made != ""
}

// Length is how long its body is, in bytes, wherever that is.
func (e *Entry) Length() int64 {
	if e.Far != nil {
		return e.far
	}
	return int64(len(e.Body))
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
func (e *Entry) Cost() time.Duration { return time.Duration(e.state().cost.Load()) * time.Microsecond }

// Filled smooths the cost with that of one more fill; the first counts whole.
func (e *Entry) Filled(before *Entry, took time.Duration) {
	if before == nil || before.Cost() == 0 {
		e.state().costs(took)
		return
	}
	e.state().costs((before.Cost()*7 + took*3) / 10)
}

// KeepCost takes over the cost of the entry that this one renews without a fill.
func (e *Entry) KeepCost(before *Entry) { e.state().costs(before.Cost()) }

// Touch notes that somebody asked for the entry.
func (e *Entry) Touch(now time.Time) { e.state().used.Store(moment(now)) }

// IdleFor is how long nobody has asked for the entry.
func (e *Entry) IdleFor(now time.Time) time.Duration {
	return time.Duration(int64(moment(now))-int64(e.state().used.Load())) * (time.Second / 4)
}

// Judge asks the marks, and remembers how far in the ledger they let the entry live: it
// is never asked about them again, and they can be forgotten.
func (e *Entry) Judge(m *tags.Marks) tags.Verdict {
	state := e.state()
	if known := state.knownTo(e.Subject.Stamp); known == m.Stamp() && !state.is(softened) {
		return tags.Alive
	}
	if m.Singly() {
		named := e.Subject
		named.Name = e.Name()
		return state.judge(&named, m)
	}
	return state.judge(&e.Subject, m)
}

// Name tells the entry from all others, on every node, for tags.One.
func (e *Entry) Name() string {
	h := sha256.New()
	add := func(text string) { _, _ = io.WriteString(h, strconv.Itoa(len(text))+" "+text) }
	add(e.Key)
	for _, v := range e.Vary {
		add(v.Name)
		add(strconv.FormatBool(v.Present) + v.Value)
	}
	for _, coding := range e.Encodings {
		add(coding)
	}
	if e.Failure {
		add("failure")
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

func (s *state) judge(subject *tags.Subject, m *tags.Marks) tags.Verdict {
	latest, v := m.Stamp(), tags.Alive
	if known := s.knownTo(subject.Stamp); known != latest {
		v = m.JudgeSince(subject, known)
	}
	soft := s.is(softened) // noted in the entry itself, by the sweep
	if v == tags.Alive || v == tags.Softened && soft {
		s.judged.Store(uint64(latest))
	}
	if soft {
		return max(v, tags.Softened)
	}
	return v
}

// knownTo is the place in the ledger up to which no mark matters to the entry.
func (s *state) knownTo(stamp tags.Stamp) tags.Stamp { return max(stamp, tags.Stamp(s.judged.Load())) }

// set takes over what is known of another.
func (s *state) set(other *state) {
	s.used.Store(other.used.Load())
	s.judged.Store(other.judged.Load())
	s.cost.Store(other.cost.Load())
	s.notes.Store(other.notes.Load() & softened)
}

// costs sets what a fill takes, as far as it can be told: from a microsecond to an hour.
func (s *state) costs(d time.Duration) {
	s.cost.Store(uint32(min(max(1, d/time.Microsecond), time.Hour/time.Microsecond)))
}

// Size is how many bytes the store counts for the entry, its coded forms apart; 0 if it is in none.
func (e *Entry) Size() int64 {
	if r := e.kept.Load(); r != nil {
		return r.size()
	}
	return 0
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
func (e *Entry) IsSoftened() bool { return e.state().is(softened) }
