package meter

import (
	"strings"

	"gerastic/internal/core/httprules"
)

// Outcome is how a request ended; every request has exactly one.
type Outcome uint8

// The outcomes. Behind is none of them: an origin request besides those that stand for
// visitors' requests, a refresh or one asked again.
const (
	Hit Outcome = iota
	Stale
	Revalidated
	Joined
	Miss
	Bypass
	Error
	Behind
	// Primed is none either: something was asked for before a visitor did.
	Primed
)

var outcomeNames = [...]string{"hit", "stale", "revalidated", "joined", "miss", "bypass", "error", "behind", "primed"}

func (o Outcome) String() string { return outcomeNames[o] }

// Outcomes are those that a request can have, in the order of every chart and table.
func Outcomes() []Outcome {
	return []Outcome{Hit, Stale, Revalidated, Joined, Miss, Bypass, Error}
}

// ParseOutcome reads a name back.
func ParseOutcome(name string) (Outcome, bool) {
	for i, n := range outcomeNames {
		if n == name {
			return Outcome(i), true
		}
	}
	return 0, false
}

// IncludeRoute is what a route's answers count under when they go into pages that the edge
// composes: they are no requests of visitors. No route of a policy has a slash in its name.
func IncludeRoute(route string) string { return "edge/" + route }

// Within reports whether a name in figures is of what was asked for within a page: a fragment of
// an application (namespace/name), or an include of the edge (edge/route).
func Within(route string) bool { return strings.Contains(route, "/") }

// filledByApplication reports whether a name in figures is of an application's fragments.
func filledByApplication(route string) bool {
	return Within(route) && !strings.HasPrefix(route, IncludeRoute(""))
}

// Cause is why a request was no hit. Those from Unstorable on are a rule that forbade
// storing.
type Cause uint8

// The causes.
const (
	NoCause Cause = iota
	Cold
	Expired
	Purged
	Evicted
	Variant
	Method
	Asked
	Route
	Off
	FirstSight
	BodyTooLarge
	Includes // the page was there, but an include of it was not
	SignedIn
	Nameless // the route answers only those who say who they are
	unstorable
)

var causeNames = [...]string{"", "cold", "expired", "purged", "evicted", "variant", "method", "asked", "route", "off", "first-sight", "body-too-large", "includes", "signed-in", "nameless"}

// Unstorable is the cause of a miss whose answer a rule forbids to store.
func Unstorable(r httprules.Reason) Cause {
	switch r {
	case httprules.TooLarge:
		return BodyTooLarge
	case httprules.FirstSight:
		return FirstSight
	}
	return unstorable + Cause(r)
}

// ForbidsStoring reports whether it is a rule that kept an answer from the store.
func (c Cause) ForbidsStoring() bool {
	return c >= unstorable || c == BodyTooLarge || c == FirstSight
}

func (c Cause) String() string {
	if c >= unstorable {
		return "unstorable:" + httprules.Reason(c-unstorable).Name()
	}
	return causeNames[c]
}
