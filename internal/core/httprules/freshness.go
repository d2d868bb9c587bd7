package httprules

import (
	"slices"
	"strings"
	"time"
)

// Source says whose word a freshness lifetime is.
type Source uint8

// Where a lifetime came from, in the order in which RFC 9111 §4.2.1 asks for the
// origin's, then the policy's, then the guess.
const (
	NoSource      Source = iota // no lifetime at all
	FromSMaxAge                 // s-maxage
	FromMaxAge                  // max-age
	FromExpires                 // Expires - Date
	FromStatus                  // lifetime.by_status of the route
	FromPolicy                  // lifetime.fresh of the route
	FromHeuristic               // a tenth of the time since Last-Modified (§4.2.2)
)

// String names the source as explain prints it.
func (s Source) String() string {
	return [...]string{"nothing", "s-maxage", "max-age", "Expires", "lifetime.by_status", "lifetime.fresh", "Last-Modified (heuristic)"}[s]
}

// Trust says how a route weighs its own lifetime against the origin's
// (lifetime.source in the policy).
type Trust uint8

// The three weighings.
const (
	TrustOrigin Trust = iota // the origin's figure first
	TrustPolicy              // ours instead of the origin's figure; its prohibitions still hold
	TrustForced              // ours whatever the origin says
)

// LifetimeTerms are a route's wishes about lifetimes, as durations; Unset where it has none.
type LifetimeTerms struct {
	Trust                              Trust
	Fresh, AtLeast, AtMost             time.Duration
	ByStatus                           ByStatus
	ByType                             ByType // in place of Fresh
	StaleWhileRevalidate, StaleIfError time.Duration
	// FailedOn are the statuses that count as the origin's failure; nil: those of RFC 5861 §4.
	FailedOn      []int
	RefuseCookies bool // do not store what sets a cookie; else Set-Cookie is taken off
}

// ByStatus holds lifetimes for statuses (404), their classes (4xx is 4) and for
// AnyStatus.
type ByStatus map[int]time.Duration

// AnyStatus stands in ByStatus for each status that fresh is not for and that nothing
// else names.
const AnyStatus = 0

// Of is the lifetime for a status: the most exact one counts.
func (b ByStatus) Of(status int) (life time.Duration, ok bool) {
	for _, named := range [...]int{status, status / 100} {
		if life, ok = b[named]; ok {
			return life, true
		}
	}
	if freshStatus[status] {
		return 0, false
	}
	life, ok = b[AnyStatus]
	return life, ok
}

// ByType holds lifetimes for media types (text/css), and for all of a kind (image/*).
type ByType map[string]time.Duration

// Of is the lifetime for the type that a header names: the most exact one counts.
func (b ByType) Of(h Header) (life time.Duration, ok bool) {
	if len(b) == 0 {
		return 0, false
	}
	media := MediaType(h.Get("Content-Type"))
	if life, ok = b[media]; ok {
		return life, true
	}
	kind, _, _ := strings.Cut(media, "/")
	life, ok = b[kind+"/*"]
	return life, ok
}

// BrowserLives are how long visitors may keep answers without asking; nil leaves the origin's word.
type BrowserLives struct {
	Fresh    time.Duration // Unset: only for what the others name
	ByStatus ByStatus
	ByType   ByType
}

// Of is the life of an answer; Unset leaves the origin's word.
func (b *BrowserLives) Of(status int, h Header) time.Duration {
	if b == nil {
		return Unset
	}
	if life, ok := b.ByStatus.Of(status); ok {
		return life
	}
	if life, ok := b.ByType.Of(h); ok {
		return life
	}
	return b.Fresh
}

// States reports whether the policy states how long answers live, so that it is not for
// the origin to say who may share them.
func (t *LifetimeTerms) States() bool {
	_, pages := t.ByStatus[200]
	_, good := t.ByStatus[2]
	return pages || good || len(t.ByType) > 0 || t.Fresh != Unset || t.Trust != TrustOrigin
}

// OriginOnly are the terms without what would keep an answer longer than the origin said.
func (t LifetimeTerms) OriginOnly() LifetimeTerms {
	t.Fresh, t.AtLeast, t.StaleWhileRevalidate, t.StaleIfError, t.ByStatus, t.ByType = Unset, Unset, Unset, Unset, nil, nil
	return t
}

// Failed reports whether an answer counts as the origin's failure, which a stale one may
// stand in for.
func (t *LifetimeTerms) Failed(status int) bool {
	if t.FailedOn == nil {
		return status == 500 || status == 502 || status == 503 || status == 504 // RFC 5861 §4
	}
	return slices.Contains(t.FailedOn, status)
}

// NoTerms are the terms of a route that wishes nothing.
func NoTerms() LifetimeTerms {
	return LifetimeTerms{Fresh: Unset, AtLeast: Unset, AtMost: Unset, StaleWhileRevalidate: Unset, StaleIfError: Unset, RefuseCookies: true}
}

// Freshness is what is known about a stored response's age and life. Zero: born at
// the zero time, dead at once.
type Freshness struct {
	// Born is the moment at which the response's age was zero: the time of receipt
	// less its corrected initial age (RFC 9111 §4.2.3). Age is time since Born.
	Born time.Time
	// Lifetime is how long after Born it is fresh (§4.2.1).
	Lifetime time.Duration
	Source   Source
	// MustAsk forbids any use without successful validation (no-cache, §5.2.2.4).
	MustAsk bool
	// NeverStale forbids use once stale (must-revalidate, proxy-revalidate, s-maxage; §4.2.4).
	NeverStale bool
	// Immutable: while it is fresh, a visitor's max-age is no reason to ask (RFC 8246 §2).
	Immutable bool
	// How long beyond its lifetime it may be served while it is renewed, and when its
	// origin fails (RFC 5861).
	StaleWhileRevalidate, StaleIfError time.Duration
}

// Age is the current age (RFC 9111 §4.2.3), never negative.
func (f Freshness) Age(now time.Time) time.Duration { return max(0, now.Sub(f.Born)) }

// Remaining is how much fresh life remains; negative when stale.
func (f Freshness) Remaining(now time.Time) time.Duration { return f.Lifetime - f.Age(now) }

// InitialAge is a response's age on receipt (RFC 9111 §4.2.3): the greater of what
// its Date suggests and what upstream's Age says plus the time that the answer took.
func InitialAge(h Header, asked, received time.Time) time.Duration {
	var apparent time.Duration
	if date, ok := ParseDate(h.Get("Date")); ok {
		apparent = max(0, received.Sub(date).Truncate(time.Second))
	}
	if !h.Has("Age") {
		// Without Age the answer comes from its maker: the second that Date rounds off
		// and the time that the page took to render are no age.
		if apparent <= received.Sub(asked)+time.Second {
			return 0
		}
		return apparent
	}
	// §5.1: of several values the first counts; one that is not a number is ignored.
	first, _, _ := strings.Cut(h.Get("Age"), ",")
	first = strings.TrimSpace(first)
	if first == "" || !digits(first) {
		return apparent
	}
	corrected := time.Duration(min(number(first), maxSeconds))*time.Second + received.Sub(asked) // §1.2.2: more than fits is the greatest
	return max(apparent, corrected)
}

// heuristicStatus are the statuses that may be stored and given a lifetime without
// the origin's word (RFC 9110 §15.1), less 206, which is not stored whole, and 501,
// which is a failure.
var heuristicStatus = map[int]bool{200: true, 203: true, 204: true, 300: true, 301: true, 308: true, 404: true, 405: true, 410: true, 414: true}

// HeuristicallyCacheable reports whether a status may be given a lifetime that the
// origin did not state.
func HeuristicallyCacheable(status int) bool { return heuristicStatus[status] }

// freshStatus are the statuses that a route's fresh is for: pages, and what says for good
// where they are. What fails needs the origin's word, or a lifetime by its status.
var freshStatus = map[int]bool{200: true, 203: true, 204: true, 300: true, 301: true, 308: true}

// maxHeuristic caps the guess from Last-Modified.
const maxHeuristic = 24 * time.Hour

// FreshnessOf works out age and lifetime of a response (RFC 9111 §4.2) under a
// route's terms.
func FreshnessOf(status int, h Header, d Directives, asked, received time.Time, terms LifetimeTerms) Freshness {
	f := Freshness{
		Born:                 received.Add(-InitialAge(h, asked, received)),
		StaleWhileRevalidate: window(d.StaleWhileRevalidate, terms.StaleWhileRevalidate, terms.Trust),
		StaleIfError:         window(d.StaleIfError, terms.StaleIfError, terms.Trust),
	}
	if terms.Failed(status) { // what stands in for a failing origin is what it said when it was well
		f.StaleWhileRevalidate, f.StaleIfError = 0, 0
	}
	f.Immutable = d.Immutable
	f.Lifetime, f.Source = lifetime(status, h, d, received, terms)
	forced := terms.Forces(f.Source)
	f.MustAsk = d.NoCache && !forced
	// §5.2.2.10: s-maxage carries the meaning of proxy-revalidate.
	f.NeverStale = (d.MustRevalidate || d.ProxyRevalidate || d.SMaxAge != Unset) && !forced
	return f
}

// Forces reports whether a lifetime from this source overrules the origin's word: only
// what the policy itself gave one.
func (t *LifetimeTerms) Forces(source Source) bool {
	return t.Trust == TrustForced && (source == FromStatus || source == FromPolicy)
}

func window(origins, ours time.Duration, trust Trust) time.Duration {
	if ours != Unset && (trust != TrustOrigin || origins == Unset) {
		return ours
	}
	return max(0, origins)
}

func lifetime(status int, h Header, d Directives, received time.Time, terms LifetimeTerms) (time.Duration, Source) {
	ours, source := policyLifetime(status, h, terms)
	if terms.Trust != TrustOrigin && source != NoSource {
		return ours, source
	}
	if stated, from := statedLifetime(h, d, received); from != NoSource {
		if terms.AtLeast != Unset {
			stated = max(stated, terms.AtLeast)
		}
		if terms.AtMost != Unset {
			stated = min(stated, terms.AtMost)
		}
		return stated, from
	}
	if source != NoSource {
		return ours, source
	}
	if (terms.Fresh != Unset || len(terms.ByType) > 0) && !freshStatus[status] {
		return 0, NoSource // a route that says how long its pages live says nothing of failures
	}
	if guess, ok := heuristicLifetime(status, h, d, received); ok {
		if terms.AtMost != Unset {
			guess = min(guess, terms.AtMost)
		}
		return guess, FromHeuristic
	}
	return 0, NoSource
}

func policyLifetime(status int, h Header, terms LifetimeTerms) (time.Duration, Source) {
	if life, ok := terms.ByStatus.Of(status); ok {
		return life, FromStatus
	}
	if !freshStatus[status] {
		return 0, NoSource
	}
	if life, ok := terms.ByType.Of(h); ok {
		return life, FromPolicy
	}
	if terms.Fresh != Unset {
		return terms.Fresh, FromPolicy
	}
	return 0, NoSource
}

// statedLifetime is the origin's own figure (RFC 9111 §4.2.1).
func statedLifetime(h Header, d Directives, received time.Time) (time.Duration, Source) {
	if d.SMaxAge != Unset {
		return d.SMaxAge, FromSMaxAge
	}
	if d.MaxAge != Unset {
		return d.MaxAge, FromMaxAge
	}
	if d.Targeted || !h.Has("Expires") {
		return 0, NoSource
	}
	// §5.3: an invalid date, "0" above all, is in the past; so are several that differ.
	lines := h["Expires"]
	expires, ok := ParseDate(lines[0])
	for _, other := range lines[1:] {
		ok = ok && other == lines[0]
	}
	if !ok {
		return 0, FromExpires
	}
	date, ok := ParseDate(h.Get("Date"))
	if !ok {
		date = received
	}
	return max(0, expires.Sub(date)), FromExpires
}

// heuristicLifetime guesses a tenth of the time since the last change (RFC 9111 §4.2.2).
func heuristicLifetime(status int, h Header, d Directives, received time.Time) (time.Duration, bool) {
	if !HeuristicallyCacheable(status) && !d.Public {
		return 0, false
	}
	modified, ok := ParseDate(h.Get("Last-Modified"))
	if !ok {
		return 0, false
	}
	date, ok := ParseDate(h.Get("Date"))
	if !ok {
		date = received
	}
	if !modified.Before(date) {
		return 0, false
	}
	return min(date.Sub(modified)/10, maxHeuristic), true
}
