package httprules

import (
	"strings"
	"time"
)

// Conditional reports whether a request asks for an answer only if what it has does not hold
// any more. If-Match and If-Unmodified-Since are for origins alone: a cache does not evaluate
// them (RFC 9111 §4.3.2).
func Conditional(request Header) bool {
	return request.Has("If-None-Match") || request.Has("If-Modified-Since")
}

// NotModified carries out the preconditions of a GET or HEAD against a response of ours,
// in the order of RFC 9110 §13.2.2, and reports whether 304 answers it. Only a successful
// response has a representation to compare with (§13.2.1); received stands in for a missing
// Last-Modified, as RFC 9111 §4.3.2 says.
func NotModified(request Header, status int, response Header, received time.Time) bool {
	if status < 200 || status >= 300 {
		return false
	}
	if request.Has("If-None-Match") {
		return matchesAny(request["If-None-Match"], response.Get("Etag"))
	}
	since, ok := conditionDate(request, "If-Modified-Since")
	if !ok {
		return false
	}
	modified, ok := ParseDate(response.Get("Last-Modified"))
	if !ok {
		if modified, ok = ParseDate(response.Get("Date")); !ok {
			modified = received
		}
	}
	return !modified.After(since)
}

// conditionDate reads a date condition; an unreadable one, or several, count as none
// (RFC 9110 §13.1.3).
func conditionDate(request Header, name string) (time.Time, bool) {
	if len(request[name]) != 1 {
		return time.Time{}, false
	}
	return ParseDate(request.Get(name))
}

func strongMatch(a, b string) bool { return a == b && !strings.HasPrefix(a, "W/") }

func weakMatch(a, b string) bool {
	return strings.TrimPrefix(a, "W/") == strings.TrimPrefix(b, "W/")
}

// matchesAny walks a list of entity tags ("*" matches any response that exists).
// Commas may stand inside the quotes (RFC 9110 §8.8.3). A tag that an origin sends
// without quotes comes back without them, and is compared as it is.
func matchesAny(lines []string, etag string) bool {
	for _, line := range lines {
		rest := strings.TrimSpace(line)
		if rest == "*" {
			return true
		}
		for rest != "" {
			var tag string
			tag, rest = nextEntityTag(rest)
			if tag != "" && etag != "" && weakMatch(tag, etag) {
				return true
			}
		}
	}
	return false
}

// nextEntityTag cuts one entity tag off a list; "" when none can be read.
func nextEntityTag(s string) (tag, rest string) {
	s = strings.TrimLeft(s, " \t,")
	start := 0
	if strings.HasPrefix(s, "W/") {
		start = 2
	}
	if len(s) <= start || s[start] != '"' {
		tag, rest, _ = strings.Cut(s, ",")
		return strings.TrimRight(tag, " \t"), rest
	}
	end := strings.IndexByte(s[start+1:], '"')
	if end < 0 {
		return "", ""
	}
	end += start + 2
	return s[:end], s[end:]
}

// notModifiedFields are those that a 304 sends if the 200 would have had them
// (RFC 9110 §15.4.5); the others would only cost bytes.
var notModifiedFields = map[string]bool{
	"Cache-Control": true, "Content-Location": true, "Date": true, "Etag": true, "Expires": true, "Vary": true,
	"Last-Modified": true, "Cdn-Cache-Control": true,
}

// InNotModified reports whether a stored field belongs in a 304.
func InNotModified(name string) bool { return notModifiedFields[name] }

// Validators are the conditions under which to ask the origin again for a stored
// response (RFC 9111 §4.3.1). Empty when it has none.
func Validators(response Header) Header {
	conditions := Header{}
	if etag := response.Get("Etag"); etag != "" {
		conditions["If-None-Match"] = []string{etag}
	}
	if modified := response.Get("Last-Modified"); modified != "" {
		if _, ok := ParseDate(modified); ok {
			conditions["If-Modified-Since"] = []string{modified}
		}
	}
	return conditions
}

// Validates reports whether a 304 confirms the stored response (RFC 9111 §4.3.4): the
// same strong validator, or the same weak one, or none to compare at all.
func Validates(notModified, stored Header) bool {
	if etag := notModified.Get("Etag"); etag != "" {
		if strings.HasPrefix(etag, "W/") {
			return weakMatch(etag, stored.Get("Etag"))
		}
		return etag == stored.Get("Etag")
	}
	if modified := notModified.Get("Last-Modified"); modified != "" && stored.Has("Last-Modified") {
		return modified == stored.Get("Last-Modified")
	}
	return true
}

// keptOn304 describe the stored body, which a 304 does not bring (RFC 9111 §3.2).
var keptOn304 = map[string]bool{
	"Content-Encoding": true, "Content-Type": true, "Content-Range": true, "Content-Length": true, "Etag": true, "Age": true,
}

// Freshened is the stored header updated by that of a 304 (RFC 9111 §3.2, §4.3.4). What
// the stored answer depended on it still depends on: its Vary may gain names, not lose them.
func Freshened(stored, notModified Header) Header {
	updated := stored.Clone()
	update := notModified.Clone()
	DropHopByHop(update)
	for name, lines := range update {
		if !keptOn304[name] {
			updated[name] = lines
		}
	}
	if stored.Has("Vary") && update.Has("Vary") {
		both := Header{"Vary": append(append([]string(nil), stored["Vary"]...), update["Vary"]...)}
		if names := VaryNames(both); !VariesOnAll(both) && len(names) > 0 {
			updated["Vary"] = []string{strings.Join(names, ", ")}
		} else {
			updated["Vary"] = []string{"*"}
		}
	}
	return updated
}

// Unsafe reports whether a method may change things at the origin, so that its success
// invalidates what is stored (RFC 9110 §9.2.1, RFC 9111 §4.4). Unknown ones may.
func Unsafe(method string) bool {
	switch method {
	case "GET", "HEAD", "OPTIONS", "TRACE", "QUERY", "PROPFIND", "SEARCH", "REPORT":
		return false
	}
	return true
}
