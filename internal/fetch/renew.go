package fetch

import (
	"slices"

	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// renew renews a stored entry after a 304 (RFC 9111 §4.3.4).
func (f *Fetcher) renew(a *arrival, header httprules.Header) {
	o, received := a.request, f.Now()
	info := parsePageInfo(header)
	httprules.DropHopByHop(header)
	if !header.Has("Date") {
		header["Date"] = []string{httprules.FormatDate(received)} // RFC 9110 §6.6.1; that of before would make it old
	}
	whole := httprules.Freshened(originHeader(o.Stored), header)
	directives := httprules.ParseResponseDirectives(whole)
	fresh := httprules.Storable(whole, directives, o.Route.Terms)
	delete(fresh, "Set-Cookie") // it is for the one who asked
	if age := header["Age"]; len(age) > 0 {
		whole["Age"] = age // of the answer that confirms it (RFC 9111 §4.2.3); it is not kept
	}
	renewed := answer{status: o.Stored.Status, header: whole, body: o.Stored.Body, began: a.began, received: received}
	entry := f.entry(o, renewed)
	entry.Header = fresh
	entry.KeepCost(o.Stored)
	info.bound(entry)
	entry.Skeleton, entry.Parts, entry.PageInfo = o.Stored.Skeleton, o.Stored.Parts, o.Stored.PageInfo
	entry.Work, a.work = o.Stored.Work, info.work
	if info.lines != nil {
		entry.Parts, entry.PageInfo = info.parts, info.lines
	}
	if entry.Skeleton == nil && o.Route.Compress != policy.CompressOff {
		offerCodings(entry, len(entry.Body))
	}
	entry.Prepare()
	h := headOf(entry)
	h.Reason = f.mayStore(o, renewed, entry.Freshness)
	if o.AsVisitor && h.Reason == httprules.OK {
		h.Reason = o.Unstored
	}
	h.Work = info.work
	h.Own, h.Withheld = o.personalFields(header, fresh, directives), o.withholds(h.Reason)
	h.Received, h.Waited, h.Fresh = received, received.Sub(a.began), isFresh(entry, received)
	h.Search, h.Query = httprules.ParseNoVarySearch(fresh), o.query
	f.storeRenewed(a, h)
	a.flight.Leave()
	a.flight.Publish(fill.Head[*Head]{Value: h, Kept: true, Shared: h.IsShared()})
}

// originHeader is the header of an entry without what was added here.
func originHeader(e *store.Entry) httprules.Header {
	if !e.Compress {
		return e.Header
	}
	header := e.Header.Clone()
	delete(header, "Vary")
	if len(e.OriginVary) > 0 {
		header["Vary"] = e.OriginVary
	}
	return header
}

// storeRenewed puts the renewed entry in the place of the one that was confirmed, if it may.
func (f *Fetcher) storeRenewed(a *arrival, h *Head) {
	o, entry := a.request, h.Entry
	switch {
	case o.AsVisitor: // it says nothing of what others would get
	case h.Reason == httprules.SetCookie: // what is stored stays as it was: to be asked about
	case h.Reason != httprules.OK: // the 304 says that it is not for the store, or for others, any more
		f.Store.Remove(o.Stored, store.Replaced)
	case !a.flight.Disowned() && f.Barrier.Judge(&entry.Subject) != tags.Dropped:
		h.stored.Store(f.put(a.flight, entry, h.Received))
	}
	f.Learned.answer(o, h)
}

// personalFields are the fields of a 304 that go to the visitor who caused it, and to nobody
// else: its cookies, and those that private or no-cache names.
func (o *Request) personalFields(notModified, stored httprules.Header, d httprules.Directives) httprules.Header {
	own := httprules.Header{}
	for _, name := range slices.Concat([]string{"Set-Cookie"}, d.PrivateFields, d.NoCacheFields) {
		if lines := notModified[name]; len(lines) > 0 && !stored.Has(name) {
			own[name] = lines
		}
	}
	if o.withholdsCookie() && !o.Route.Terms.RefuseCookies {
		delete(own, "Set-Cookie") // it begins a session for somebody whose own the origin did not see
	}
	return own
}
