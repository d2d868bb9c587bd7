package edge

import (
	"slices"
	"time"

	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// confirm renews a stored entry after a 304 (RFC 9111 §4.3.4).
func (e *Edge) confirm(f *fill.Flight[*head], o *order, header httprules.Header, began time.Time) error {
	received := e.Now()
	stored := o.found.Header
	if o.found.Compress { // what we added is no word of the origin's
		stored = stored.Clone()
		delete(stored, "Vary")
		if len(o.found.OriginVary) > 0 {
			stored["Vary"] = o.found.OriginVary
		}
	}
	told := listen(header)
	httprules.DropHopByHop(header)
	if !header.Has("Date") {
		header["Date"] = []string{httprules.FormatDate(received)} // RFC 9110 §6.6.1; that of before would make it old
	}
	whole := httprules.Freshened(stored, header)
	directives := httprules.ParseResponseDirectives(whole)
	fresh := httprules.Storable(whole, directives, o.route.Terms)
	delete(fresh, "Set-Cookie") // it is for the one who asked
	if age := header["Age"]; len(age) > 0 {
		whole["Age"] = age // of the answer that confirms it (RFC 9111 §4.2.3); it is not kept
	}
	entry := e.entry(o, o.found.Status, whole, o.found.Body, began, received)
	entry.Header = fresh
	entry.KeepCost(o.found)
	told.bound(entry)
	entry.Skeleton, entry.Parts, entry.Told = o.found.Skeleton, o.found.Parts, o.found.Told
	if told.lines != nil {
		entry.Parts, entry.Told = told.parts, told.lines
	}
	if entry.Skeleton == nil {
		offerCodings(entry, len(entry.Body))
	}
	entry.Prepare()
	rule := e.mayStore(o, o.found.Status, whole, entry.Freshness, received)
	if o.asVisitor && rule == httprules.OK {
		rule = o.unstored
	}
	h := &head{status: entry.Status, rule: rule, header: entry.Header, own: personalFields(header, fresh, directives), withheld: o.withholds(rule), received: received, waited: received.Sub(began), entry: entry,
		fresh: isFresh(entry, received), subject: &entry.Subject, vary: entry.Vary, encodings: entry.Encodings, search: httprules.ParseNoVarySearch(fresh), query: o.query, browser: httprules.Unset}
	if o.withholdsCookie() && !o.route.Terms.RefuseCookies {
		delete(h.own, "Set-Cookie") // it begins a session for somebody whose own the origin did not see
	}
	switch {
	case o.asVisitor: // it says nothing of what others would get
	case rule == httprules.SetCookie: // what is stored stays as it was: to be asked about
	case rule != httprules.OK: // the 304 says that it is not for the store, or for others, any more
		e.Store.Remove(o.found, store.Replaced)
	case !f.Disowned() && e.Marks.Judge(&entry.Subject) != tags.Dropped:
		h.kept.Store(e.put(f, entry, received))
	}
	e.remember(o, h)
	if h.kept.Load() {
		e.compressor.takeOver(entry, o.found)
	}
	f.Leave()
	f.Head(h, true, h.isShared())
	return nil
}

// personalFields are the fields of a 304 that go to the visitor who caused it, and to nobody
// else: its cookies, and those that private or no-cache names.
func personalFields(notModified, stored httprules.Header, d httprules.Directives) httprules.Header {
	own := httprules.Header{}
	for _, name := range slices.Concat([]string{"Set-Cookie"}, d.PrivateFields, d.NoCacheFields) {
		if lines := notModified[name]; len(lines) > 0 && !stored.Has(name) {
			own[name] = lines
		}
	}
	return own
}
