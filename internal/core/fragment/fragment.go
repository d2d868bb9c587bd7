package fragment

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/barrier"
	"gerastic/internal/core/decide"
	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// ID names a fragment: the application's namespace, and a key within it.
type ID struct{ Namespace, Key string }

// NewID checks a namespace and a key. A key is text; its name is what stands before the
// first bracket, as in row("tholm",7).
func NewID(namespace, name string) (ID, error) {
	id := ID{namespace, name}
	switch {
	case namespace == "edge": // see meter.IncludeRoute
		return id, errors.New("the namespace edge is for what the edge includes; choose another")
	case !protocol.IsName(namespace):
		return id, fmt.Errorf("%q is not a namespace: it has 1 to 64 letters, digits, dots, - and _", namespace)
	case name == "" || len(name) > protocol.MaxKey:
		return id, fmt.Errorf("a fragment's key has 1 to %d bytes; this one has %d", protocol.MaxKey, len(name))
	case hasControls(name) || !utf8.ValidString(name):
		return id, fmt.Errorf("the key %q is not text: it must be UTF-8 without control characters", name)
	case !protocol.IsName(id.name()):
		return id, fmt.Errorf("the key %q must begin with a name of 1 to 64 letters, digits, -, _ and .; what tells fragments of one name apart follows in brackets: row(7)", name)
	}
	return id, nil
}

func hasControls(s string) bool {
	for i := range len(s) {
		if s[i] < 0x20 || s[i] == 0x7f {
			return true
		}
	}
	return false
}

func (id ID) name() string {
	name, _, _ := strings.Cut(id.Key, "(")
	return name
}

// Name is what the fragments of its kind share.
func (id ID) Name() string { return id.name() }

// Route is what the fragments of one name share, in figures and purges.
func (id ID) Route() string { return id.Namespace + "/" + id.name() }

// routeOf is Route, taken from the entry where there is one.
func (id ID) routeOf(e *store.Entry) string {
	if e != nil {
		return e.Subject.Route
	}
	return id.Route()
}

// String is namespace/key.
func (id ID) String() string { return id.Namespace + "/" + id.Key }

// Fragments is the store of fragments. Safe for concurrent use.
type Fragments struct {
	Store   *store.Memory
	Barrier *barrier.Barrier
	Meter   *meter.Meter
	Leases  *fill.Leases // which the barrier guards
	Now     func() time.Time
	// On reports whether a name is switched on.
	On func(route string) bool

	// Audience sees what becomes of fragments; nil: nobody does.
	Audience Audience

	names    sync.Map // those that are counted by themselves
	nameMany atomic.Int64
	warm     warmth
	// AtMost is how many bytes of memory a namespace may take, 0 as much as there is; nil: all may.
	AtMost func(namespace string) int64
}

// MaxNames is how many names have figures of their own; what is called otherwise counts under
// its namespace's Others. An identifier in a name, instead of a part, would have no end.
const MaxNames = 1000

// Others is the name under which those count that are too many.
const Others = "(others)"

// counted is the name that a fragment counts under.
func (f *Fragments) counted(id ID, e *store.Entry) string {
	route := id.routeOf(e)
	if _, known := f.names.Load(route); known {
		return route
	}
	if f.nameMany.Load() >= MaxNames {
		return id.Namespace + "/" + Others
	}
	if _, known := f.names.LoadOrStore(strings.Clone(route), true); !known {
		f.nameMany.Add(1)
	}
	return route
}

// State is what is to be done about a fragment.
type State uint8

// Missing: it is not there, and no lease was asked for, or it is switched off. Fresh: use it.
// Stale: use it, and fill it behind if there is a lease. Yours: fill it. Filling: somebody
// else does.
const (
	Missing State = iota
	Fresh
	Stale
	Yours
	Filling
)

// String is the state's name in the API.
func (s State) String() string {
	return [...]string{"missing", "fresh", "stale", "yours", "filling"}[s]
}

// Ask is how a fragment is asked for.
type Ask struct {
	Lease     time.Duration // how long a fill may take; 0: only look
	FreshOnly bool          // what is stale is to be filled, as if it were not there
	Renew     bool          // ask for a lease even if it is fresh
}

// Answer is what was found.
type Answer struct {
	State State
	Entry *store.Entry // with Fresh and Stale
	Lease *fill.Lease  // ours with Yours, and perhaps with Stale; somebody else's with Filling
	Cause meter.Cause
}

// Left is how long what was found stays fresh; what a purge marked stale does not, however
// young it is, nor does anything that it goes into.
func (a *Answer) Left(now time.Time) time.Duration {
	left := a.Entry.Freshness.Remaining(now)
	if a.State == Stale {
		return min(left, 0)
	}
	return left
}

// route is how fragments are judged; the entry itself says how long it lives.
var route = policy.Route{Name: "fragments", Enabled: true, Obey: policy.ObeyRevalidate}

// Look finds a fragment, or gives the right to fill it.
func (f *Fragments) Look(id ID, ask Ask, now time.Time) Answer {
	// Before the entry is found: what is given on this stamp is not newer than the stamp says.
	var room [256]byte
	canonical := key.AppendFragment(room[:0], id.Namespace, id.Key)
	in := decide.Input{Route: &route, Enabled: true, Now: now, Lost: f.Barrier.Doubts(now),
		Visitor: httprules.Directives{MaxAge: httprules.Unset, MinFresh: httprules.Unset, MaxStale: httprules.Unset, NoCache: ask.Renew}}
	found := f.Store.Find(canonical, nil)
	in.Entry, in.Variants = found.Entry, found.Variants
	if !f.On(id.routeOf(in.Entry)) {
		return Answer{Cause: meter.Off}
	}
	if in.Entry != nil {
		in.Verdict = in.Entry.Judge(f.Barrier.Marks)
	} else if why, known := f.Store.Missing(canonical); known {
		in.Removed = decide.Removed(why)
	}
	d := decide.Of(&in)
	a := Answer{Cause: d.Cause}
	switch d.Action {
	case decide.Serve:
		a.State, a.Entry = Fresh, in.Entry
		return a
	case decide.ServeAndRefresh:
		if !ask.FreshOnly {
			a.State, a.Entry = Stale, in.Entry
		}
	}
	if ask.Lease > 0 {
		lease, mine := f.Leases.Ask(string(canonical), id.Namespace, now, ask.Lease)
		switch {
		case mine && a.State == Missing:
			a.State, a.Lease = Yours, lease
		case mine:
			a.Lease = lease
		case a.State == Missing:
			a.State, a.Lease = Filling, lease
		}
	}
	return a
}

// Sample is what is recorded of asking for a fragment, once for each. waited says that it was
// being filled by somebody else, and took is how long it all took.
func (f *Fragments) Sample(id ID, a Answer, waited bool, took time.Duration, now time.Time) meter.Sample {
	s := meter.Sample{Route: f.counted(id, a.Entry), Cause: a.Cause, Took: took, Status: 404, Outcome: meter.Miss}
	if a.Cause == meter.Off {
		s.Outcome = meter.Bypass
	}
	if e := a.Entry; e != nil {
		s.Status, s.Bytes, s.Saved, s.Spared = e.Status, int64(len(e.Body)), e.Cost(), meter.Work(e.Work)
		s.Outcome = meter.Hit
		if a.State == Stale {
			s.Outcome = meter.Stale
		}
		if waited {
			s.Outcome, s.Cause = meter.Joined, meter.Cold
		}
		f.Store.Use(e, now)
	}
	return s
}

// Record counts samples, each of the fragment at its place.
func (f *Fragments) Record(ids []ID, samples []meter.Sample) {
	f.Meter.RecordAll(f.Meter.Stripe(), samples)
	for i := range samples {
		if became, found := outcomeOf[samples[i].Outcome]; found {
			f.tell(ids[i], became, samples[i].Took, samples[i].Bytes)
		}
	}
}

// Fill is what an application made.
type Fill struct {
	Lease    string
	Type     string // media type
	Coding   string // of the body: "" or gzip
	Body     []byte
	Tags     []string
	Lifetime time.Duration
	Stale    time.Duration // how long beyond it, it may be used while it is filled anew
	Cost     time.Duration // that it took to make; 0: since the lease was given
	Parts    []string      // namespace/key of the fragments in it
	Work     meter.Work    // that it took to make, as the application counts it
	// Direct says that it was stored on its own account, and not because somebody asked for it.
	Direct bool
	// Since is the ledger sequence that the application knew when it began to make it; nil: that of the
	// lease.
	Since *tags.Stamp
	// TooLong says that the body was not taken in: no lease was known that it could be for.
	TooLong bool
}

// Refusal is why something is not stored.
type Refusal struct {
	Kind RefusalKind
	Text string
}

func (r *Refusal) Error() string { return r.Text }

// RefusalKind sorts refusals.
type RefusalKind uint8

// Invalid: it is not right as it is. Overtaken: a purge or a newer fill came between.
// TooLarge: it does not fit.
const (
	Invalid RefusalKind = iota
	Overtaken
	TooLarge
)

// String is the kind's name in the API.
func (k RefusalKind) String() string {
	return [...]string{protocol.Invalid, protocol.Overtaken, protocol.TooLarge}[k]
}

func invalid(format string, args ...any) *Refusal {
	return &Refusal{Invalid, fmt.Sprintf(format, args...)}
}

// Check returns what is wrong with a fill, but for its body, or nil.
func (in *Fill) Check() *Refusal {
	switch {
	case in.Lease == "":
		return invalid("a fill needs the lease that it was made under: ask for the fragment first, and send its lease; that is how an old render is told from a new one")
	case in.Lifetime <= 0 && in.Stale <= 0:
		return invalid("a fragment needs a lifetime longer than 0: Cache-Control: max-age=SECONDS, or life")
	case in.Coding != "" && in.Coding != "gzip":
		return invalid("the body's coding is %q; a fragment is stored plain or as gzip", in.Coding)
	case len(in.Tags) > protocol.MaxTags:
		return invalid("the fragment has %d tags, and a purge must find it by each: at most %d are kept; tag what it shows, or the lists that it is on", len(in.Tags), protocol.MaxTags)
	case strings.ContainsFunc(in.Type, func(r rune) bool { return r < 0x20 || r > 0x7e }):
		return invalid("%q is not a media type", in.Type)
	}
	for _, tag := range in.Tags {
		if tag == "" || len(tag) > protocol.MaxTag || !utf8.ValidString(tag) || strings.ContainsAny(tag, "\x00\n") {
			return invalid("the tag %q is not valid: a tag is text of 1 to %d bytes", tag, protocol.MaxTag)
		}
	}
	return nil
}

// Put stores what a lease brought. The error, if any, is a Refusal; the lease has ended
// unless the fill was Invalid.
func (f *Fragments) Put(id ID, in Fill) error {
	if bad := in.Check(); bad != nil {
		return bad
	}
	if in.Coding == "gzip" && !in.TooLong && !bytes.HasPrefix(in.Body, []byte{0x1f, 0x8b}) {
		return invalid("the body's coding is gzip, it says, but it is not gzip")
	}
	if in.TooLong {
		return &Refusal{Overtaken, fill.ErrNoLease.Error()}
	}
	canonical := string(key.AppendFragment(nil, id.Namespace, id.Key))
	lease, err := f.Leases.Get(in.Lease, canonical)
	if err != nil {
		return &Refusal{Overtaken, err.Error()}
	}
	now := f.Now()
	cost := in.Cost
	if cost <= 0 {
		cost = now.Sub(lease.Began)
	}
	f.Meter.Record(f.Meter.Stripe(), &meter.Sample{Route: f.counted(id, nil), Outcome: meter.Behind, Origin: true, Waited: cost, Spent: in.Work})
	e := f.entry(id, &in, lease, now)
	e.Filled(f.Store.Find([]byte(canonical), nil).Entry, cost)
	e.Prepare()
	// A purge of any of its tags since it was begun: it may show what was before.
	begun := e.Subject
	if in.Since != nil {
		begun.Stamp = min(begun.Stamp, *in.Since)
	}
	if !f.Barrier.Spares(&begun) {
		f.Leases.GiveUp(lease)
		return &Refusal{Overtaken, "a purge came while it was being made, so that it may show what was before; ask for the fragment again"}
	}
	switch err := f.Store.Put(e, now); {
	case errors.Is(err, store.ErrOvertaken):
		f.Leases.GiveUp(lease)
		return &Refusal{Overtaken, fill.ErrNoLease.Error()}
	case err != nil:
		f.Leases.GiveUp(lease)
		return &Refusal{TooLarge, fmt.Sprintf("%d bytes do not fit into the store", len(in.Body))}
	}
	if !f.Leases.Known(lease.ID) { // a change that the ledger could not take ended it at this moment
		f.Store.Remove(e, store.Purged)
		return &Refusal{Overtaken, fill.ErrNoLease.Error()}
	}
	f.Leases.Stored(lease)
	f.warm.filled(id)
	became := Filled
	if in.Direct {
		became = StoredDirectly
	}
	f.tell(id, became, cost, int64(len(in.Body)))
	return nil
}

// entry is what is stored of a fill.
func (f *Fragments) entry(id ID, in *Fill, lease *fill.Lease, now time.Time) *store.Entry {
	e := &store.Entry{
		Key: string(key.AppendFragment(nil, id.Namespace, id.Key)), Status: 200, Header: httprules.Header{}, Body: in.Body, Received: now, Fill: store.Fill{Stamp: lease.Stamp, Began: lease.Began},
		Subject:   tags.Subject{Tags: unique(in.Tags), Route: id.Route(), Path: id.String(), Stamp: lease.Stamp},
		Freshness: httprules.Freshness{Born: now, Lifetime: max(0, in.Lifetime), Source: httprules.FromMaxAge, StaleWhileRevalidate: max(0, in.Stale)},
		Browser:   httprules.Unset, Idle: httprules.Unset, Work: string(in.Work), Parts: in.Parts[:min(len(in.Parts), protocol.MaxParts)],
	}
	if f.AtMost != nil {
		if most := f.AtMost(id.Namespace); most > 0 {
			e.Bound = store.Bound{Name: "namespace " + id.Namespace, AtMost: most}
		}
	}
	if in.Type != "" {
		e.Header["Content-Type"] = []string{in.Type}
	}
	if in.Coding != "" {
		e.Header["Content-Encoding"] = []string{in.Coding}
	}
	return e
}

// GiveBack ends a lease whose fill failed, so that nobody waits for it.
func (f *Fragments) GiveBack(id ID, lease string) error {
	l, err := f.Leases.Get(lease, string(key.AppendFragment(nil, id.Namespace, id.Key)))
	if err != nil {
		return &Refusal{Overtaken, err.Error()}
	}
	f.Leases.GiveUp(l)
	return nil
}

// Purge names a fragment on every node.
func Purge(id ID) tags.Purge {
	return tags.Purge{URLs: []tags.URL{{AnyHost: true, Path: id.String()}}}
}

func unique(all []string) []string {
	var kept []string
	for _, s := range all {
		if !slices.Contains(kept, s) {
			kept = append(kept, s)
		}
	}
	return kept
}

// Refused returns the refusal behind an error, or nil.
func Refused(err error) *Refusal {
	var r *Refusal
	errors.As(err, &r)
	return r
}
