package decide

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/tags"
)

// Why puts a decision into sentences, with the rule behind each.
func Why(in *Input, d Decision) []string {
	switch d.Cause {
	case meter.Route:
		return []string{"No route of the policy matches, so the request goes through to the origin and nothing is stored."}
	case meter.Method:
		return []string{"A route has this URL, but does not cache this method, or the question that its body asks, so the request goes through. If the method is unsafe and succeeds, what is stored for the URL goes (RFC 9111 §4.4)."}
	case meter.BodyTooLarge:
		return []string{"The request's body is longer than a key can hold, so the request goes through and nothing is stored."}
	case meter.SignedIn:
		if in.SignedIn == "" {
			return []string{"The request carries Authorization, and what is stored, if anything, does not say that others may have it (public, s-maxage or must-revalidate; RFC 9111 §3.5), so the origin is asked for this visitor alone."}
		}
		return []string{fmt.Sprintf("The request carries %s, which says that its visitor is signed in, and the key does not hold who they are, so it goes to its origin with all it has and nothing is stored.", in.SignedIn)}
	case meter.Nameless:
		if in.Unasked {
			return []string{"The visitor's group is not known here yet: their origin is asked for it first (key.group.ask)."}
		}
		if in.Route.Group != nil {
			return []string{"The route's answers are for groups of visitors (key.group), and this visitor is of none: nothing that holds says so. So the request goes through and nothing is stored."}
		}
		return []string{"The route's answers are for those who say who they are (key.identity, required), and this request does not, so it goes through and nothing is stored."}
	case meter.Off:
		return []string{"The route is switched off, so the request goes through. What is stored stays."}
	}
	var why []string
	switch e := in.Entry; {
	case e == nil && in.Variants > 0:
		why = append(why, fmt.Sprintf("%d variants are stored under this key, but the fields that Vary names differ in this request (RFC 9111 §4.1).", in.Variants))
	case e == nil && d.Cause == meter.Purged:
		why = append(why, "What was stored under this key was purged.")
	case e == nil && d.Cause == meter.Evicted:
		why = append(why, "What was stored under this key had to make room for others.")
	case e == nil:
		why = append(why, "Nothing is stored under this key.")
	default:
		why = append(why, freshness(in))
		if in.Verdict == tags.Dropped {
			why = append(why, "A purge came after its fill began, so it is never used again.")
		}
		if in.Verdict == tags.Softened {
			why = append(why, "A purge marked it stale after its fill began.")
		}
	}
	if in.Lost && d.Action == Validate {
		why = append(why, "The ledger cannot be read, so that purges may be missing here: nothing is served without asking its origin.")
	}
	if d.Cause == meter.Asked {
		why = append(why, fmt.Sprintf("The request asks for validation, and the route obeys (obey_visitor: %s; RFC 9111 §5.2.1.4).", obeyName(in.Route.Obey)))
	}
	return append(why, ending(in, d))
}

func obeyName(o policy.ObeyVisitor) string {
	return [...]string{"none", "revalidate", "all"}[o]
}

// freshness is the arithmetic of RFC 9111 §4.2 with its numbers.
func freshness(in *Input) string {
	f := in.Entry.Freshness
	age, left := f.Age(in.Now), f.Remaining(in.Now)
	text := fmt.Sprintf("The stored answer is %s old; its lifetime is %s (from %s), so ", seconds(age), policy.FormatDuration(f.Lifetime), f.Source)
	switch {
	case f.MustAsk:
		return text + "it might be fresh, but it says no-cache: it is not used without asking (RFC 9111 §5.2.2.4)."
	case left > 0:
		return text + fmt.Sprintf("it is fresh for another %s (RFC 9111 §4.2).", seconds(left))
	default:
		return text + fmt.Sprintf("it has been stale for %s (RFC 9111 §4.2).", seconds(-left))
	}
}

func seconds(d time.Duration) string {
	if d < time.Second {
		return d.Round(time.Millisecond).String()
	}
	return policy.FormatDuration(d.Truncate(time.Second))
}

func ending(in *Input, d Decision) string {
	switch d.Action {
	case Serve:
		return "It is served from here; the origin is not asked."
	case ServeStale:
		if in.Failure != nil {
			return fmt.Sprintf("Its origin failed (status %d), and that answer holds for another %s, so the origin is not asked meanwhile and what was stored before stands in (RFC 5861 §4).", in.Failure.Status, seconds(in.Failure.Freshness.Remaining(in.Now)))
		}
		return "It is stale, but the request takes it for that long (max-stale), and the route obeys (RFC 9111 §5.2.1.2)."
	case ServeAndRefresh:
		if in.Entry.Freshness.Remaining(in.Now) > 0 && in.Verdict == tags.Alive {
			return "It is served from here, and renewed behind before its life ends (lifetime.refresh_early)."
		}
		return fmt.Sprintf("It may be served stale for %s while it is renewed, so the visitor gets it at once and one refresh runs behind (RFC 5861 §3).", policy.FormatDuration(in.Entry.Freshness.StaleWhileRevalidate))
	case Validate:
		if len(httprules.Validators(in.Entry.Header)) == 0 {
			return "It has no validator, so the origin is asked for all of it; others who ask meanwhile join."
		}
		return "The origin is asked whether it still holds (RFC 9111 §4.3); others who ask meanwhile join."
	case Refuse:
		return "The request wants a stored answer or none (only-if-cached), so it gets 504 (RFC 9111 §5.2.1.7)."
	default:
		return "The origin is asked for all of it; others who ask meanwhile join."
	}
}

// Storing says what a route would store of an answer, and for how long.
func Storing(route *policy.Route) []string {
	terms := route.Terms
	var says []string
	add := func(format string, args ...any) { says = append(says, fmt.Sprintf(format, args...)) }
	switch {
	case terms.Trust == httprules.TrustForced:
		add("Any answer, even where the origin forbids it, for %s.", policy.FormatDuration(terms.Fresh))
	case terms.Trust == httprules.TrustPolicy && terms.Fresh != httprules.Unset:
		add("What the origin does not forbid (no-store, private), for %s whatever max-age it says.", policy.FormatDuration(terms.Fresh))
	case terms.Fresh != httprules.Unset:
		add("What the origin does not forbid, for as long as it says; %s if it says nothing.", policy.FormatDuration(terms.Fresh))
	default:
		add("What the origin does not forbid, for as long as it says (RFC 9111 §4.2.1).")
	}
	if terms.AtMost != httprules.Unset || terms.AtLeast != httprules.Unset {
		add("The origin's figure is held between %s and %s.", bound(terms.AtLeast, "0s"), bound(terms.AtMost, "forever"))
	}
	for _, kind := range slices.Sorted(maps.Keys(terms.ByType)) {
		add("A good answer of the type %s for %s.", kind, policy.FormatDuration(terms.ByType[kind]))
	}
	for _, status := range slices.Sorted(maps.Keys(terms.ByStatus)) {
		add("An answer with %s for %s.", statusesNamed(status), policy.FormatDuration(terms.ByStatus[status]))
	}
	if terms.StaleWhileRevalidate > 0 {
		add("Beyond that it may be served for %s while it is renewed (RFC 5861).", policy.FormatDuration(terms.StaleWhileRevalidate))
	}
	if terms.StaleIfError > 0 {
		add("While the origin fails, for %s (RFC 5861).", policy.FormatDuration(terms.StaleIfError))
	}
	if route.Compose {
		add("If it has include marks, the edge puts the includes into it for each request; each has a route and a life of its own.")
	}
	if route.Idle != httprules.Unset {
		add("It leaves when nobody asks for it for %s.", policy.FormatDuration(route.Idle))
	}
	return says
}

func statusesNamed(status int) string {
	switch {
	case status == httprules.AnyStatus:
		return "any other status that is not a success"
	case status < 10:
		return fmt.Sprintf("a status of %dxx", status)
	}
	return fmt.Sprintf("status %d", status)
}

func bound(d time.Duration, otherwise string) string {
	if d == httprules.Unset {
		return otherwise
	}
	return policy.FormatDuration(d)
}
