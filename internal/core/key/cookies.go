package key

import (
	"iter"
	"slices"
	"strings"

	"gerastic/internal/core/httprules"
)

// blank is what may stand around a cookie's name and value: SP and TAB. Other white
// space, such as a no-break space, belongs to the name, as origins read it.
const blank = " \t"

// cookiePairs goes through the cookies of a request, each as it was sent. What has no
// "=" has no name, and comes with an empty one.
func cookiePairs(lines []string) iter.Seq2[string, string] {
	return func(yield func(name, value string) bool) {
		for _, line := range lines {
			for line != "" {
				var pair string
				pair, line, _ = strings.Cut(line, ";")
				if pair = strings.Trim(pair, blank); pair == "" {
					continue
				}
				name, value, named := strings.Cut(pair, "=")
				if !named {
					name, value = "", pair
				}
				if !yield(strings.TrimRight(name, blank), value) {
					return
				}
			}
		}
	}
}

// CookieValue finds a cookie in a request. Several of one name all count, in their
// order, since the origin may take any of them.
func CookieValue(h httprules.Header, name string) (value string, present bool) {
	var several []string
	for n, v := range cookiePairs(h["Cookie"]) {
		switch {
		case n != name || n == "":
		case !present:
			value, present = v, true
		default:
			if several == nil {
				several = append(several, value)
			}
			several = append(several, v)
		}
	}
	if several != nil {
		value = strings.Join(several, ";")
	}
	return value, present
}

// CookieNames are the names of a request's cookies, each once, in their order; "" stands
// for one without a name.
func CookieNames(h httprules.Header) (names []string) {
	seen := map[string]bool{}
	for name := range cookiePairs(h["Cookie"]) {
		if !seen[name] {
			seen[name] = true
			names = append(names, name)
		}
	}
	return names
}

// CookieLike is the name of the first cookie of a request that a pattern matches; "" if
// none does.
func CookieLike(h httprules.Header, pattern Pattern) string {
	for name := range cookiePairs(h["Cookie"]) {
		if name != "" && pattern.Match(name) {
			return name
		}
	}
	return ""
}

// KeepCookies is a Cookie field with the cookies of a request whose names are kept; nil
// if there are none.
func KeepCookies(lines []string, keep func(name string) bool) []string {
	var kept []string
	for name, value := range cookiePairs(lines) {
		if name != "" && keep(name) {
			kept = append(kept, name+"="+value)
		}
	}
	if kept == nil {
		return nil
	}
	return []string{strings.Join(kept, "; ")}
}

// HoldsCookie reports whether a route's keys hold a cookie.
func (spec *Spec) HoldsCookie(name string) bool {
	if slices.Contains(spec.Cookies, name) {
		return true
	}
	return spec.Identity.From == Cookie && (spec.Identity.Name == name || spec.Identity.Name+SignatureSuffix == name)
}

// HoldsField reports whether a route's keys hold a field.
func (spec *Spec) HoldsField(name string) bool {
	if slices.Contains(spec.Headers, name) {
		return true
	}
	return spec.Identity.From == Field && spec.Identity.Name == name
}

// LeavesCookieOut reports whether a request has a cookie that the key does not hold.
func (spec *Spec) LeavesCookieOut(h httprules.Header) bool {
	for name := range cookiePairs(h["Cookie"]) {
		if name == "" || !spec.HoldsCookie(name) {
			return true
		}
	}
	return false
}
