package rules

import (
	"strconv"
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

// Terms are a route's wishes about lifetimes, as durations; Unset where it has none.
type Terms struct {
	Trust                              Trust
	Fresh, AtLeast, AtMost             time.Duration
	ByStatus                           map[int]time.Duration
	StaleWhileRevalidate, StaleIfError time.Duration
	RefuseCookies                      bool // do not store what sets a cookie; else Set-Cookie is taken off
}

// NoTerms are the terms of a route that wishes nothing.
func NoTerms() Terms {
	return Terms{Fresh: Unset, AtLeast: Unset, AtMost: Unset, StaleWhileRevalidate: Unset, StaleIfError: Unset, RefuseCookies: true}
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

// Left is how much fresh life remains; negative when stale.
func (f Freshness) Left(now time.Time) time.Duration { return f.Lifetime - f.Age(now) }

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
	// §5.1: of several values the first counts; one that is no number is ignored.
	first, _, _ := strings.Cut(h.Get("Age"), ",")
	value, err := strconv.ParseInt(strings.TrimSpace(first), 10, 64)
	if err != nil || value < 0 {
		return apparent
	}
	corrected := time.Duration(min(value, maxSeconds))*time.Second + received.Sub(asked)
	return max(apparent, corrected)
}

// heuristicStatus are the statuses that may be stored and given a lifetime without
// the origin's word (RFC 9110 §15.1), less 206, which is not stored whole, and 501,
// which is a failure.
var heuristicStatus = map[int]bool{200: true, 203: true, 204: true, 300: true, 301: true, 308: true, 404: true, 405: true, 410: true, 414: true}

// HeuristicallyCacheable tells whether a status may be given a lifetime that the
// origin did not state.
func HeuristicallyCacheable(status int) bool { return heuristicStatus[status] }

// maxHeuristic caps the guess from Last-Modified.
const maxHeuristic = 24 * time.Hour

// FreshnessOf works out age and lifetime of a response (RFC 9111 §4.2) under a
// route's terms.
func FreshnessOf(status int, h Header, d Directives, asked, received time.Time, terms Terms) Freshness {
	f := Freshness{
		Born:                 received.Add(-InitialAge(h, asked, received)),
		StaleWhileRevalidate: window(d.StaleWhileRevalidate, terms.StaleWhileRevalidate, terms.Trust),
		StaleIfError:         window(d.StaleIfError, terms.StaleIfError, terms.Trust),
	}
	f.Immutable = d.Immutable
	f.MustAsk = d.NoCache && terms.Trust != TrustForced
	// §5.2.2.10: s-maxage carries the meaning of proxy-revalidate.
	f.NeverStale = (d.MustRevalidate || d.ProxyRevalidate || d.SMaxAge != Unset) && terms.Trust != TrustForced
	f.Lifetime, f.Source = lifetime(status, h, d, received, terms)
	return f
}

func window(origins, ours time.Duration, trust Trust) time.Duration {
	if ours != Unset && (trust != TrustOrigin || origins == Unset) {
		return ours
	}
	return max(0, origins)
}

func lifetime(status int, h Header, d Directives, received time.Time, terms Terms) (time.Duration, Source) {
	ours, source := policyLifetime(status, terms)
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
	if guess, ok := heuristicLifetime(status, h, d, received); ok {
		if terms.AtMost != Unset {
			guess = min(guess, terms.AtMost)
		}
		return guess, FromHeuristic
	}
	return 0, NoSource
}

func policyLifetime(status int, terms Terms) (time.Duration, Source) {
	if life, ok := terms.ByStatus[status]; ok {
		return life, FromStatus
	}
	if terms.Fresh != Unset && HeuristicallyCacheable(status) {
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
