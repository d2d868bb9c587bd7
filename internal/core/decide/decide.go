package decide

import (
	"math"
	"time"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// Action is what to do.
type Action uint8

// The actions.
const (
	Bypass          Action = iota // hand the request through; nothing is looked up or stored
	Serve                         // answer from the entry
	ServeAndRefresh               // answer from the stale entry, renew it behind (RFC 5861 §3)
	Validate                      // ask the origin whether the entry still holds (RFC 9111 §4.3)
	Fetch                         // ask the origin for all of it
	ServeStale                    // answer from the stale entry: the visitor said that they take it (RFC 9111 §5.2.1.2), or its origin failed and said for how long
	Refuse                        // 504: the visitor wants a stored answer or none (RFC 9111 §5.2.1.7)
)

// String names the action for explain.
func (a Action) String() string {
	return [...]string{"pass through", "serve", "serve stale and refresh behind", "validate", "fetch", "serve stale", "refuse"}[a]
}

// Input is all that a decision depends on.
type Input struct {
	Route   *policy.Route // nil: no route matches
	Enabled bool          // policy and route are on
	Reason  meter.Cause   // with no route: meter.Route, or Method when only the method kept routes away
	Visitor httprules.Directives
	Entry   *store.Entry // nil: nothing stored answers the request
	Verdict tags.Verdict // what the marks say of Entry
	// Failure is an answer of its origin's that is stored beside Entry, and came after it: it
	// failed. nil: there is none, or a purge concerns it.
	Failure  *store.Entry
	Variants int         // stored under the same key
	Removed  meter.Cause // why the key is not there any more, if that is known
	Now      time.Time
	Lost     bool // the ledger cannot be read: nobody knows what was purged meanwhile
	// SignedIn is what of the request says that its visitor is signed in, on a route whose
	// answers are not for them; "" if nothing does.
	SignedIn string
	// Nameless: the route's key must hold who is asking, or their group, and nobody said.
	Nameless bool
	// Unasked: it is, until the origin has said their group.
	Unasked bool
	// Authorized: the request carries Authorization, and the key does not.
	Authorized bool
	// Random, from 0 to 1, decides about early refreshes; 0 where the route has none.
	Random float64
}

// Decision is what to do, and why.
type Decision struct {
	Action  Action
	Cause   meter.Cause // NoCause for what is answered from the store
	Forward httprules.Forward
	// NoStore: nothing of the answer is kept.
	NoStore bool
	// Alone: nobody may wait for the same answer.
	Alone bool
	// AsVisitor: the origin gets all that the visitor sent.
	AsVisitor bool
	// StaleFor is how long the entry has been stale; 0 while it is fresh.
	StaleFor time.Duration
}

// Of decides.
func Of(in *Input) Decision {
	switch {
	case in.Route == nil:
		forward := httprules.ForwardBypass
		if in.Reason == meter.Method {
			forward = httprules.ForwardMethod
		}
		return Decision{Action: Bypass, Cause: in.Reason, Forward: forward}
	case !in.Enabled:
		return Decision{Action: Bypass, Cause: meter.Off, Forward: httprules.ForwardBypass}
	case in.SignedIn != "":
		return personal(in, meter.SignedIn)
	case in.Nameless:
		return personal(in, meter.Nameless)
	}
	d := stored(in)
	if in.Visitor.NoStore && in.Route.Obey == policy.ObeyAll {
		d.NoStore = true
	}
	if in.Visitor.OnlyIfCached && (d.Action == Validate || d.Action == Fetch) {
		d.Action = Refuse
	}
	return d
}

// personal keeps a request away from what is shared. A page that the edge composes is still
// composed, for this visitor alone.
func personal(in *Input, cause meter.Cause) Decision {
	d := Decision{Action: Bypass, Cause: cause, Forward: httprules.ForwardBypass}
	switch {
	case in.Visitor.OnlyIfCached:
		d.Action = Refuse
	case in.Route.Compose:
		d.Action, d.NoStore, d.Alone, d.AsVisitor = Fetch, true, true, true
	}
	return d
}

func stored(in *Input) Decision {
	e := in.Entry
	if in.Authorized && !in.Route.Shared && (e == nil || !e.ForAuthorized) {
		// Only what its origin lets authorized requests share is for them (RFC 9111 §3.5).
		d := missing(in)
		d.Cause, d.Alone = meter.SignedIn, true
		return d
	}
	if e == nil {
		return missing(in)
	}
	if in.Verdict == tags.Dropped {
		return Decision{Action: Fetch, Cause: meter.Purged, Forward: httprules.ForwardMiss}
	}
	if e.Idle != httprules.Unset && e.IdleFor(in.Now) > e.Idle {
		return Decision{Action: Fetch, Cause: meter.Expired, Forward: httprules.ForwardMiss}
	}
	f := &e.Freshness
	d := Decision{StaleFor: max(0, -f.Remaining(in.Now))}
	switch {
	case asked(in):
		d.Action, d.Cause, d.Forward = Validate, meter.Asked, httprules.ForwardRequest
		return d
	case in.Lost:
		d.Action, d.Cause, d.Forward = Validate, meter.Expired, httprules.ForwardStale
		return d
	case in.Verdict == tags.Softened:
		d.Cause = meter.Purged
	case f.MustAsk || f.Remaining(in.Now) <= 0:
		d.Cause = meter.Expired
	case early(in):
		d.Action, d.Cause, d.Forward = ServeAndRefresh, meter.NoCause, httprules.NotForwarded
		return d
	default:
		d.Action = Serve
		return d
	}
	d.Forward = httprules.ForwardStale
	if in.Failure != nil { // the origin need not be asked: see Settle
		d.Action = ServeStale
		return d
	}
	if v := in.Visitor.MaxStale; in.Route.Obey == policy.ObeyAll && v != httprules.Unset && in.Verdict == tags.Alive && mayServeStale(f) && d.StaleFor <= v {
		d.Action = ServeStale
		return d
	}
	if mayServeStale(f) && d.StaleFor < f.StaleWhileRevalidate {
		d.Action = ServeAndRefresh
	} else {
		d.Action = Validate
	}
	return d
}

// early reports whether a fresh entry is renewed before its end: with a probability that
// grows towards it and with what a fill costs (Vattani, Chierichetti, Lowenstein:
// Optimal Probabilistic Cache Stampede Prevention, VLDB 2015).
func early(in *Input) bool {
	if in.Random <= 0 {
		return false
	}
	ahead := -float64(in.Entry.Cost()) * math.Log(in.Random)
	return ahead >= float64(in.Entry.Freshness.Remaining(in.Now))
}

func missing(in *Input) Decision {
	d := Decision{Action: Fetch, Cause: meter.Cold, Forward: httprules.ForwardURIMiss}
	switch {
	case in.Variants > 0:
		d.Cause, d.Forward = meter.Variant, httprules.ForwardVaryMiss
	case in.Removed != meter.NoCause:
		d.Cause = in.Removed
	}
	return d
}

// asked reports whether the visitor's directives forbid the entry, as far as the route
// obeys them (RFC 9111 §5.2.1).
func asked(in *Input) bool {
	v := &in.Visitor
	if in.Route.Obey == policy.ObeyNone {
		return false
	}
	if v.NoCache {
		return true
	}
	if in.Route.Obey != policy.ObeyAll {
		return false
	}
	f := &in.Entry.Freshness
	if f.Immutable && f.Remaining(in.Now) > 0 {
		return false
	}
	return v.MaxAge != httprules.Unset && f.Age(in.Now) > v.MaxAge ||
		v.MinFresh != httprules.Unset && f.Remaining(in.Now) < v.MinFresh
}

// mayServeStale: no directive forbids it (RFC 9111 §4.2.4).
func mayServeStale(f *httprules.Freshness) bool { return !f.MustAsk && !f.NeverStale }

// Settle decides who speaks where a failure is stored beside an entry. While the failure is
// fresh, an entry that may stand in for its origin does so without asking it, as a stored
// answer saves asking; one that may not leaves the word to the failure.
func (in *Input) Settle() {
	failure := in.Failure
	if failure == nil {
		return
	}
	in.Failure = nil
	f := &failure.Freshness
	switch {
	case f.MustAsk || f.Remaining(in.Now) <= 0 || in.Lost:
	case in.Verdict == tags.Alive && !in.Entry.Freshness.MustAsk && in.Entry.Freshness.Remaining(in.Now) > 0:
	case OnError(in, in.Now):
		in.Failure = failure
	default:
		in.Entry, in.Verdict = failure, tags.Alive
	}
}

// Doubtful reports whether the entry may be served at all only as what may be out of date,
// however young it is: a purge marked it stale, or nobody knows which purges there were.
func (in *Input) Doubtful() bool { return in.Verdict == tags.Softened || in.Lost }

// Remaining is how much fresh life the entry has left to whoever is given it: what is doubtful
// has none.
func (in *Input) Remaining(now time.Time) time.Duration {
	left := in.Entry.Freshness.Remaining(now)
	if in.Doubtful() {
		return min(0, left)
	}
	return left
}

// OnError reports whether what is stored may stand in for an origin that failed, at now. What is
// fresh may; what is stale may for as long as the route's stale rules say (RFC 5861 §4). What a
// purge marked stale is, however young, and so is all of it while the ledger is lost.
func OnError(in *Input, now time.Time) bool {
	e := in.Entry
	if e == nil || in.Verdict == tags.Dropped || !mayServeStale(&e.Freshness) {
		return false
	}
	left := e.Freshness.Remaining(now)
	if left > 0 && in.Verdict == tags.Alive && !in.Lost {
		return true
	}
	return max(0, -left) < e.Freshness.StaleIfError
}
