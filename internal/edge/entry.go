package edge

import (
	"slices"
	"strings"
	"time"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
)

func (e *Edge) mayStore(o *order, status int, header httprules.Header, f httprules.Freshness, received time.Time) httprules.Reason {
	if _, _, all := tagsOf(o, header); !all {
		return httprules.TooManyGroups
	}
	return httprules.MayStore(httprules.Storing{
		Method: o.req.Method, NoStore: o.noStore,
		Authorized: o.route.Authorized(o.request.Header), Cookie: o.leavesCookieOut(),
		Personal: personal(o), AnyMethod: o.route.Key.Body != key.NoBody,
		Status: status, Header: header, Received: received, Directives: httprules.ParseResponseDirectives(header), Freshness: f, Terms: o.route.Terms,
	})
}

// personal: the key holds who is asking, and they said who they are.
func personal(o *order) bool {
	_, known := o.route.Key.Identity.Of(o.request.Header)
	return known
}

// leavesCookieOut: the origin saw a cookie that the key does not hold.
func (o *order) leavesCookieOut() bool {
	return !o.route.Terms.States() && o.route.Key.LeavesCookieOut(o.request.Header)
}

// likeThis names the requests of a key of which one says what comes of the others: where the
// origin sees all cookies, what it makes of one that the key does not hold says nothing of a
// request without.
func likeThis(key string, route *policy.Route, h httprules.Header) string {
	if !route.Terms.States() && route.Key.LeavesCookieOut(h) {
		return key + "\x00with cookies"
	}
	return key
}

func (o *order) likeThis() string { return likeThis(o.key, o.route, o.request.Header) }

// inForce is an entry as the terms in force judge it. One that was stored under others is
// judged anew: its header and times are kept. nil: it may not be stored any more, or there
// was none. forgets is Edge.forgets from before it was found.
func (x *exchange) inForce(old *store.Entry, forgets uint64) *store.Entry {
	if old == nil || old.Terms == x.route.TermsDigest {
		return old
	}
	entry := x.edge.restated(old, x.route, x.rules.Policy.OriginFor(x.req.Host))
	switch {
	case x.examines:
	case entry == nil:
		x.edge.Store.Remove(old, store.Replaced)
	default:
		x.edge.replace(old, entry, x.began, forgets)
	}
	return entry
}

// replace puts an entry in the place of one that was found after so many Forgets. One that came
// meanwhile took the old entry out for good.
func (e *Edge) replace(old, entry *store.Entry, now time.Time, forgets uint64) {
	if e.Store.Put(entry, now) != nil {
		return
	}
	e.Store.Remove(old, store.Replaced) // where it does not stand in the same place
	if e.forgets.Load() != forgets || forgets%2 == 1 {
		e.Store.Remove(entry, store.Purged)
		return
	}
	e.compressor.takeOver(entry, old)
}

// restated judges a stored answer under other terms; nil if they do not let it be stored.
func (e *Edge) restated(old *store.Entry, route *policy.Route, from *policy.Origin) *store.Entry {
	directives, terms := httprules.ParseResponseDirectives(old.Header), route.Terms
	if old.OriginOnly {
		terms = terms.OriginOnly()
	}
	f := httprules.FreshnessOf(old.Status, old.Header, directives, old.Received, old.Received, terms)
	f.Born = old.Freshness.Born
	if old.Most != httprules.Unset {
		f.Lifetime = min(f.Lifetime, old.Most)
	}
	rule := httprules.MayStore(httprules.Storing{
		Method: old.Method, Cookie: old.OriginOnly, Personal: old.Personal, AnyMethod: route.Key.Body != key.NoBody,
		Status: old.Status, Header: old.Header, Received: old.Received, Directives: directives, Freshness: f, Terms: route.Terms,
	})
	if rule != httprules.OK || int64(len(old.Body)) > route.MaxBody {
		return nil
	}
	named, byRoute, all := allTags(old.Subject.Tags[:old.RouteTags], old.Header, from)
	if !all {
		return nil
	}
	entry := old.Restated()
	entry.Subject.Tags, entry.RouteTags = named, byRoute
	entry.Freshness, entry.Browser, entry.Idle, entry.Terms, entry.Failure = f, route.Browser, route.Idle, route.TermsDigest, route.Terms.Failed(old.Status)
	entry.KeepCost(old)
	entry.Prepare()
	return entry
}

// entry makes an entry of a response, without its preparation.
func (e *Edge) entry(o *order, status int, header httprules.Header, body []byte, began, received time.Time) *store.Entry {
	search := httprules.ParseNoVarySearch(header)
	named, own, _ := tagsOf(o, header)
	directives, terms := httprules.ParseResponseDirectives(header), o.route.Terms
	originOnly := o.leavesCookieOut()
	if originOnly {
		terms = terms.OriginOnly() // what may be one visitor's lives as long as its origin says, and no longer
	}
	vary := o.vary(header)
	implied := e.implied(o, vary, received)
	subject := o.subject()
	subject.Tags, subject.Reaching = named, search.Stated
	return &store.Entry{
		Key: o.keyUnder(search), Search: search.String(), Method: strings.Clone(o.req.Method), Scheme: o.request.Scheme,
		Subject: subject, RouteTags: own,
		Fill: store.Fill{Stamp: o.stamp, Began: began}, Failure: terms.Failed(status), Terms: o.route.TermsDigest, OriginOnly: originOnly, Most: httprules.Unset,
		Vary: append(vary, implied...), Implied: len(implied), Encodings: httprules.EncodingsOf(header),
		Personal: personal(o), ForAuthorized: directives.Public || directives.MustRevalidate || directives.SMaxAge != httprules.Unset,
		Status: status, Header: header, Body: body, Received: received,
		Freshness: httprules.FreshnessOf(status, header, directives, began, received, terms),
		Browser:   o.route.Browser, Idle: o.route.Idle,
	}
}

// vary is what an answer says that it depends on. A skeleton is asked for without codings,
// whoever asks; and where the route says which cookies the origin sees, the key holds them.
func (o *order) vary(header httprules.Header) []httprules.Varying {
	names := slices.DeleteFunc(httprules.VaryNames(header), func(name string) bool {
		return name == "Accept-Encoding" && o.route.Compose || name == "Cookie" && o.route.Terms.States() && len(o.route.AlsoCookies) == 0 && !slices.Contains(o.route.AlsoFields, "Cookie")
	})
	return httprules.VaryingOf(names, &o.sent)
}

// implied is what an answer may depend on although it does not say so: fields that the
// origin was asked with since its Vary had named them, and those that other variants of
// the key, still fresh, depend on. An answer to one of their values is none to another.
func (e *Edge) implied(o *order, vary []httprules.Varying, now time.Time) []httprules.Varying {
	var names []string
	add := func(name string) {
		if name != "Accept-Encoding" && name != "Cookie" && !slices.Contains(names, name) && !slices.ContainsFunc(vary, func(v httprules.Varying) bool { return v.Name == name }) {
			names = append(names, name)
		}
	}
	for _, name := range o.varied {
		add(name)
	}
	if !o.route.Terms.States() {
		for _, other := range e.Store.Variants([]byte(o.key)) {
			for _, v := range other.Vary[:len(other.Vary)-other.Implied] {
				if other.Freshness.Remaining(now) > 0 {
					add(v.Name)
				}
			}
		}
	}
	return httprules.VaryingOf(names, &o.sent)
}

// keyUnder is the key with what a No-Vary-Search rule leaves of the query.
func (o *order) keyUnder(search httprules.Search) string {
	r := o.request
	r.Reduced = nil
	if search.Stated {
		reduced := search.String() + "?" + search.Canonical(o.query)
		r.Reduced = &reduced
	}
	return string(o.route.Key.Append(nil, o.route.KeyName, &r))
}

// tagsOf gathers an entry's tags: the route's, of which there are so many, and those
// that the origin names. all is false when some had to be left out.
func tagsOf(o *order, header httprules.Header) (named []string, byRoute int, all bool) {
	return allTags(o.route.TagsOf(&o.request), header, o.client.Origin)
}

// allTags adds the tags that the origin names to those of the route.
func allTags(route []string, header httprules.Header, from *policy.Origin) (named []string, byRoute int, all bool) {
	own := slices.Clone(route)
	byRoute = len(own)
	groups, cut := httprules.ParseGroups(header["Cache-Groups"])
	if from != nil && from.TagHeader != "" {
		plain, more := httprules.ParsePlainGroups(header[from.TagHeader], from.TagSeparator)
		groups, cut = append(groups, plain...), cut+more
	}
	for _, tag := range groups {
		if !slices.Contains(own, tag) {
			own = append(own, tag)
		}
	}
	return own[:min(len(own), httprules.MaxGroups)], min(byRoute, httprules.MaxGroups), cut == 0 && len(own) <= httprules.MaxGroups
}
