package httprules

import (
	"time"
)

// Storing is what MayStore needs to know of an exchange.
type Storing struct {
	Method     string
	Authorized bool // the request carried Authorization, and the key does not
	Personal   bool // the key holds who is asking: the entry is for them alone
	AnyMethod  bool // the key holds method and body, so that POST and QUERY may be stored
	NoStore    bool // the request said no-store and the route obeys it
	// Cookie: the origin saw a cookie that the key does not hold.
	Cookie     bool
	Status     int
	Header     Header
	Received   time.Time
	Directives Directives
	Freshness  Freshness
	Terms      LifetimeTerms
}

// understood reports whether this cache carries out what a status demands of caches
// (RFC 9111 §5.2.2.3): all final ones that RFC 9110 defines, but for partial answers.
func understood(status int) bool {
	switch status {
	case 200, 201, 202, 203, 204, 205, 300, 301, 302, 303, 307, 308,
		400, 401, 402, 403, 404, 405, 406, 407, 408, 409, 410, 411, 412, 413, 414, 415, 416, 417, 421, 422, 426, 428, 429, 431, 451,
		500, 501, 502, 503, 504, 505:
		return true
	}
	return false
}

// MayStore reports whether a shared cache may store a response (RFC 9111 §3), and the
// rule that forbids it if not.
func MayStore(s Storing) Reason {
	forced := s.Terms.Forces(s.Freshness.Source)
	d := s.Directives
	switch {
	case s.Method != "GET" && s.Method != "HEAD" && !s.AnyMethod:
		return MethodNotCached
	case s.Status < 200:
		return StatusNotFinal
	case s.Status == 206 || s.Status == 304:
		return PartialContent
	case d.MustUnderstand && !understood(s.Status):
		return StatusNotUnderstood
	case d.NoStore && !d.MustUnderstand && !forced: // §5.2.2.3: must-understand lifts no-store
		return NoStore
	case s.NoStore:
		return RequestNoStore
	case d.Private && !forced && !s.Personal:
		return PrivateResponse
	case s.Authorized && !d.Public && !d.MustRevalidate && d.SMaxAge == Unset: // never lifted: a forced lifetime is no permission to share
		return Authorized
	case IsEventStream(s.Header):
		return EventStream
	case s.Cookie && !d.Public && (s.Freshness.Source == NoSource || s.Freshness.Source > FromExpires):
		return UnkeyedCookie
	case VariesOnAll(s.Header):
		return VaryAll
	case s.Terms.RefuseCookies && s.Header.Has("Set-Cookie"):
		return SetCookie
	case s.Freshness.Source == NoSource && !d.Public && !freshStatus[s.Status]:
		return NoLifetime
	case s.Freshness.Remaining(s.Received) <= 0 && !usableWhenStale(s):
		if s.Freshness.Source == NoSource {
			return NoLifetime
		}
		return AlreadyStale
	}
	return OK
}

// IsEventStream reports whether an answer is a stream of events, which never ends.
func IsEventStream(h Header) bool {
	return MediaType(h.Get("Content-Type")) == "text/event-stream"
}

// usableWhenStale reports whether keeping a stale answer can ever serve anybody: it
// can be validated, or served stale.
func usableWhenStale(s Storing) bool {
	return s.Header.Has("Etag") || s.Header.Has("Last-Modified") ||
		s.Freshness.StaleWhileRevalidate > 0 || s.Freshness.StaleIfError > 0
}

// Storable returns the header fields that go into the store: without those of the
// connection (§3.1), those that private="…" or no-cache="…" names (§5.2.2.7,
// §5.2.2.4: not to be reused without asking, so not kept), Age, which is worked out
// anew for each use, and Set-Cookie where the route strips it. h is not changed.
func Storable(h Header, d Directives, terms LifetimeTerms) Header {
	kept := h.Clone()
	DropHopByHop(kept)
	for _, name := range d.PrivateFields {
		delete(kept, name)
	}
	for _, name := range d.NoCacheFields {
		delete(kept, name)
	}
	delete(kept, "Age")
	if !terms.RefuseCookies {
		delete(kept, "Set-Cookie")
	}
	return kept
}
