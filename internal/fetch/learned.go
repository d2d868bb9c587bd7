package fetch

import (
	"net/http"
	"slices"
	"time"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/policy"
)

// Learned is what the answers to keys have told of what comes next. All of it is a hint, and
// bounded.
type Learned struct {
	unshareable memo[Unshareable]
	varied      memo[[]string]               // fields that the origin's Vary named for a key
	searches    memo[httprules.NoVarySearch] // the No-Vary-Search rules of paths
}

// Unshareable is what is remembered of an answer that was not for others.
type Unshareable struct {
	Until  time.Time        // those who ask for it until then do not wait in line to learn it
	Reason httprules.Reason // why it was not stored; OK if it was, but not fresh
	Status int
	At     time.Time
	tries  int // so often in a row
}

// unshareableFor is for how long those who ask for such a key do not wait for one another.
// Where trying again costs a request more than the visitor needs, it doubles up to
// MostUnshareable.
const (
	unshareableFor  = 10 * time.Second
	MostUnshareable = 10 * time.Minute
)

// Similar names the requests of a key of which one says what comes of the others: where the
// origin sees all cookies, what it makes of one that the key does not hold says nothing of a
// request without.
func Similar(canonical string, route *policy.Route, h httprules.Header) string {
	if !route.Terms.States() && route.LeavesCookieOut(h) {
		return canonical + "\x00with cookies"
	}
	return canonical
}

// Unshareable returns what is known of the last answer to requests like one; ok is false if it
// was for others, or nothing is known.
func (l *Learned) Unshareable(similar string) (last Unshareable, ok bool) {
	return l.unshareable.of(similar)
}

// Searches reports whether there is any path whose answers answer other queries, too.
func (l *Learned) Searches() bool { return l.searches.any() }

// Search returns the No-Vary-Search rule of the last answer of a path.
func (l *Learned) Search(searchKey string) (httprules.NoVarySearch, bool) {
	return l.searches.of(searchKey)
}

func (l *Learned) bytes() int64 {
	return l.unshareable.bytes() + l.varied.bytes() + l.searches.bytes()
}

// answer notes whether those who ask for a key next need to wait for one another, and why its
// answer was not stored.
func (l *Learned) answer(o *Request, h *Head) {
	if o.Alone || o.AsVisitor || o.Conditional && h.Status == http.StatusNotModified || h.Reason == httprules.RequestNoStore || h.Reason == httprules.MethodNotCached || h.Reason == httprules.FirstSight {
		return // it says nothing of what others would get
	}
	if h.IsShared() {
		l.unshareable.forget(o.similar())
		return
	}
	last, _ := l.unshareable.of(o.similar())
	now := Unshareable{Reason: h.Reason, Status: h.Status, At: h.Received, Until: h.Received.Add(unshareableFor), tries: last.tries + 1}
	if o.Route.Terms.States() && h.Withheld {
		now.Until = h.Received.Add(min(unshareableFor<<min(last.tries, 10), MostUnshareable))
	}
	if h.Reason != httprules.OK && h.Status >= 500 {
		now.Until = time.Time{} // a failure: the next answer may be for all
	}
	l.unshareable.remember(o.similar(), now)
}

// refused notes why an answer that was to be stored was not.
func (l *Learned) refused(o *Request, h *Head, why httprules.Reason) {
	l.unshareable.remember(o.similar(), Unshareable{Reason: why, Status: h.Status, At: h.Received})
}

// maxVaried is how many fields are remembered for a key: whoever names more is asked twice.
const maxVaried = 32

// vary notes which fields the origin's Vary names for a key, so that it is asked with them at
// once.
func (l *Learned) vary(o *Request, header httprules.Header) {
	if !o.Route.Terms.States() {
		return
	}
	names := slices.DeleteFunc(httprules.VaryNames(header), func(name string) bool {
		return name == "Accept-Encoding" || name == "Cookie" || !o.Route.Withholds(name)
	})
	if len(names) == 0 || len(names) > maxVaried {
		l.varied.forget(o.Key)
		return
	}
	l.varied.remember(o.Key, names)
}

// search notes the No-Vary-Search rule of an answer that is stored.
func (l *Learned) search(o *Request, header httprules.Header) {
	if search := httprules.ParseNoVarySearch(header); search.Stated {
		l.searches.remember(o.SearchKey, search)
	}
}

// similar: see Similar.
func (o *Request) similar() string { return Similar(o.Key, o.Route, o.Visitor.Header) }

// personal: the key holds who is asking, and they said who they are.
func (o *Request) personal() bool {
	_, known := o.Route.Key.Identity.Of(o.Visitor.Header)
	return known
}

// leavesCookieOut: the origin saw a cookie that the key does not hold.
func (o *Request) leavesCookieOut() bool {
	return !o.Route.Terms.States() && o.Route.LeavesCookieOut(o.Visitor.Header)
}
