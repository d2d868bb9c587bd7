package fetch

import (
	"slices"
	"strings"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/barrier"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
)

// answer is what entries are made of.
type answer struct {
	status          int
	header          httprules.Header
	body            []byte
	began, received time.Time
}

// mayStore reports why an answer may not be stored, or not for others; OK if it may.
func (f *Fetcher) mayStore(o *Request, a answer, fresh httprules.Freshness) httprules.Reason {
	if carried := o.tagsOf(a.header); carried.cut {
		return httprules.TooManyGroups
	}
	return httprules.MayStore(httprules.Storing{
		Method: o.out.Method, NoStore: o.NoStore,
		Authorized: o.Route.Authorized(o.Visitor.Header), Cookie: o.leavesCookieOut(),
		Personal: o.personal(), AnyMethod: o.Route.Key.Body != key.NoBody,
		Status: a.status, Header: a.header, Received: a.received, Directives: httprules.ParseResponseDirectives(a.header), Freshness: fresh, Terms: o.Route.Terms,
	})
}

// Replace puts an entry in the place of one that was found at a moment. One that came
// meanwhile took the old entry out for good.
func (f *Fetcher) Replace(old, entry *store.Entry, found barrier.Moment, now time.Time) {
	if f.Store.Put(entry, now) != nil {
		return
	}
	f.Store.Remove(old, store.Replaced) // where it does not stand in the same place
	if f.Barrier.ForgotSince(found) {
		f.Store.Remove(entry, store.Purged)
	}
}

// Restated judges a stored answer under the terms of a route; nil if they do not let it be
// stored. from is nil where no origin answers its host.
func Restated(old *store.Entry, route *policy.Route, from *policy.Origin) *store.Entry {
	directives, terms := httprules.ParseResponseDirectives(old.Header), route.Terms
	if old.OriginOnly {
		terms = terms.OriginOnly()
	}
	fresh := httprules.FreshnessOf(old.Status, old.Header, directives, old.Received, old.Received, terms)
	fresh.Born = old.Freshness.Born
	if old.LifeLimit != httprules.Unset {
		fresh.Lifetime = min(fresh.Lifetime, old.LifeLimit)
	}
	reason := httprules.MayStore(httprules.Storing{
		Method: old.Method, Cookie: old.OriginOnly, Personal: old.Personal, AnyMethod: route.Key.Body != key.NoBody,
		Status: old.Status, Header: old.Header, Received: old.Received, Directives: directives, Freshness: fresh, Terms: route.Terms,
	})
	if reason != httprules.OK || old.Length() > route.MaxBody {
		return nil
	}
	carried := tagsOf(old.Subject.Tags[:old.RouteTags], old.Header, from)
	if carried.cut {
		return nil
	}
	entry := old.Restated()
	entry.Subject.Tags, entry.RouteTags = carried.tags, carried.byRoute
	entry.Freshness, entry.Browser, entry.Idle, entry.Terms, entry.Failure = fresh, route.Browser.Of(old.Status, old.Header), route.Idle, route.TermsDigest, route.Terms.Failed(old.Status)
	entry.Bound, entry.Tagged = boundOf(route), !route.Untagged
	entry.KeepCost(old)
	entry.Prepare()
	return entry
}

// entry makes an entry of an answer, without its preparation.
func (f *Fetcher) entry(o *Request, a answer) *store.Entry {
	search := httprules.ParseNoVarySearch(a.header)
	carried := o.tagsOf(a.header)
	directives, terms := httprules.ParseResponseDirectives(a.header), o.Route.Terms
	originOnly := o.leavesCookieOut()
	if originOnly {
		terms = terms.OriginOnly() // what may be one visitor's lives as long as its origin says, and no longer
	}
	vary := o.vary(a.header)
	implied := f.implied(o, vary, a.received)
	subject := o.subject()
	subject.Tags, subject.Reaching = carried.tags, search.Stated
	return &store.Entry{
		Key: o.keyUnder(search), Search: search.String(), Method: strings.Clone(o.out.Method), Scheme: o.Visitor.Scheme,
		Subject: subject, RouteTags: carried.byRoute,
		Fill: store.Fill{Stamp: o.Stamp, Began: a.began}, Failure: terms.Failed(a.status), Terms: o.Route.TermsDigest, OriginOnly: originOnly, LifeLimit: httprules.Unset,
		Vary: append(vary, implied...), Implied: len(implied), Encodings: httprules.EncodingsOf(a.header),
		Personal: o.personal(), ForAuthorized: directives.Public || directives.MustRevalidate || directives.SMaxAge != httprules.Unset,
		Status: a.status, Header: a.header, Body: a.body, Received: a.received,
		Freshness: httprules.FreshnessOf(a.status, a.header, directives, a.began, a.received, terms),
		Browser:   o.Route.Browser.Of(a.status, a.header), Idle: o.Route.Idle, Bound: boundOf(o.Route), Tagged: !o.Route.Untagged,
	}
}

// boundOf is what a route's entries may take together.
func boundOf(route *policy.Route) store.Bound {
	if route.Admit.AtMost == 0 {
		return store.Bound{}
	}
	return store.Bound{Name: "route " + route.Name, AtMost: route.Admit.AtMost}
}

// vary is what an answer says that it depends on. A skeleton is asked for without codings,
// whoever asks; and where the route says which cookies the origin sees, the key holds them.
func (o *Request) vary(header httprules.Header) []httprules.Varying {
	names := slices.DeleteFunc(httprules.VaryNames(header), func(name string) bool {
		return name == "Accept-Encoding" && o.Route.Compose || name == "Cookie" && o.Route.Terms.States() && len(o.Route.AlsoCookies) == 0 && !slices.Contains(o.Route.AlsoFields, "Cookie")
	})
	return httprules.VaryingOf(names, &o.Sent)
}

// implied is what an answer may depend on although it does not say so: fields that the
// origin was asked with since its Vary had named them, and those that other variants of
// the key, still fresh, depend on. An answer to one of their values is none to another.
func (f *Fetcher) implied(o *Request, vary []httprules.Varying, now time.Time) []httprules.Varying {
	var names []string
	add := func(name string) {
		if name != "Accept-Encoding" && name != "Cookie" && !slices.Contains(names, name) && !slices.ContainsFunc(vary, func(v httprules.Varying) bool { return v.Name == name }) {
			names = append(names, name)
		}
	}
	for _, name := range o.varied {
		add(name)
	}
	if !o.Route.Terms.States() {
		for _, other := range f.Store.Variants([]byte(o.Key)) {
			for _, v := range other.Vary[:len(other.Vary)-other.Implied] {
				if other.Freshness.Remaining(now) > 0 {
					add(v.Name)
				}
			}
		}
	}
	return httprules.VaryingOf(names, &o.Sent)
}

// carried are an entry's tags.
type carried struct {
	tags    []string // the route's first, then those that its origin names
	byRoute int      // of them, the route's
	cut     bool     // some had to be left out
}

// tagsOf gathers the tags of an answer.
func (o *Request) tagsOf(header httprules.Header) carried {
	return tagsOf(o.Route.TagsOf(&o.Visitor), header, o.Way.Origin)
}

// tagsOf adds the tags that the origin names to those of the route, each once.
func tagsOf(route []string, header httprules.Header, from *policy.Origin) carried {
	groups, cut := protocol.ParseGroups(header["Cache-Groups"])
	if from != nil && from.TagHeader != "" {
		plain, more := httprules.ParsePlainGroups(header[from.TagHeader], from.TagSeparator)
		groups, cut = append(groups, plain...), cut+more
	}
	all := make([]string, 0, len(route)+len(groups))
	known := make(map[string]struct{}, cap(all))
	add := func(names []string) {
		for _, name := range names {
			if _, had := known[name]; !had {
				known[name] = struct{}{}
				all = append(all, name)
			}
		}
	}
	add(route)
	byRoute := len(all)
	add(groups)
	return carried{tags: all[:min(len(all), protocol.MaxTags)], byRoute: min(byRoute, protocol.MaxTags), cut: cut > 0 || len(all) > protocol.MaxTags}
}
