package fetch

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"time"

	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
)

// receive takes a whole answer in: to all who wait, and into the store if it may.
func (f *Fetcher) receive(ctx context.Context, a *arrival, resp *http.Response) error {
	received := f.Now()
	header := httprules.Header(resp.Header)
	httprules.DropHopByHop(header)
	if !header.Has("Date") {
		header["Date"] = []string{httprules.FormatDate(received)} // RFC 9110 §6.6.1
	}
	info := parsePageInfo(header)
	composes := isSkeleton(a.request.Route, header)
	takeSurrogateControl(header)
	a.entry = f.entry(a.request, answer{status: resp.StatusCode, header: header, began: a.began, received: received})
	info.bound(a.entry)
	a.entry.Parts, a.entry.PageInfo, a.entry.Work = info.parts, info.lines, string(info.work)
	a.head = f.headOfAnswer(a, resp)
	a.head.Composes, a.head.PageInfo, a.head.Work, a.work = composes, info.lines, info.work, info.work
	f.settleReason(a, resp)
	a.expect = max(0, resp.ContentLength)
	a.toStore = a.head.Reason == httprules.OK && a.reserve(a.expect)
	if a.toStore {
		f.prepareToStore(a, header)
	} else if a.head.Reason == httprules.OK {
		a.head.Reason = httprules.TooLarge
	}
	f.Learned.answer(a.request, a.head)
	if a.toStore && resp.ContentLength == 0 { // a visitor has all of it when they have the head
		defer a.release()
		f.storeEntry(a)
		a.flight.Publish(a.published(fill.Head[*Head]{Kept: true}))
		return nil
	}
	return a.take(ctx, resp)
}

// headOfAnswer is what is known before the body, but for why it is not for others.
func (f *Fetcher) headOfAnswer(a *arrival, resp *http.Response) *Head {
	o, entry, header := a.request, a.entry, httprules.Header(resp.Header)
	h := &Head{
		Status: resp.StatusCode, Header: header, Own: header, Received: entry.Received, Waited: entry.Received.Sub(a.began), Length: resp.ContentLength, Browser: o.Route.Browser.Of(resp.StatusCode, header),
		Fresh: isFresh(entry, entry.Received), Unsure: o.Route.Key.Body == key.GraphQL, Personal: entry.Personal,
		Subject: &entry.Subject, Vary: entry.Vary, Encodings: entry.Encodings, Search: httprules.ParseNoVarySearch(header), Query: o.query,
	}
	for name := range resp.Trailer {
		h.Trailers = append(h.Trailers, name)
	}
	return h
}

// settleReason decides whether the answer is for others, and whether it may be one for this
// visitor that the origin would have given otherwise.
func (f *Fetcher) settleReason(a *arrival, resp *http.Response) {
	o, h := a.request, a.head
	h.Reason = f.mayStore(o, answer{status: resp.StatusCode, header: httprules.Header(resp.Header), received: h.Received}, a.entry.Freshness)
	if o.AsVisitor && o.Unstored.Declared() && !h.Reason.ForOne() && h.Reason != httprules.RequestNoStore {
		f.Learned.unshareable.forget(o.similar()) // the next answer may be for all
	}
	h.Reason = o.reasonForOne(h)
	h.Withheld = o.withholds(h.Reason)
	switch {
	case o.out.Method == http.MethodHead:
		h.Reason = httprules.MethodNotCached
	case h.Reason == httprules.OK && resp.ContentLength > o.Route.MaxBody:
		h.Reason = httprules.TooLarge
	case h.Reason == httprules.OK && f.comesTooSeldom(o):
		h.Reason = httprules.FirstSight
	}
}

// comesTooSeldom reports whether a route stores only what is asked for more often than this was.
func (f *Fetcher) comesTooSeldom(o *Request) bool {
	admit := &o.Route.Admit
	return admit.After > 1 && !o.Primes && o.Before == nil && !o.AsVisitor && f.sights.Sight(o.Key, f.Now(), admit.Within) < admit.After
}

// reasonForOne is the reason of an answer that was made for the visitor who asked: that of the
// last answer that was not.
func (o *Request) reasonForOne(h *Head) httprules.Reason {
	own := o.AsVisitor && o.Unstored != httprules.OK && (h.Reason == httprules.OK || h.Reason == httprules.RequestNoStore)
	if own || o.Conditional && h.Status == http.StatusNotModified {
		return o.Unstored
	}
	return h.Reason
}

// prepareToStore makes the header that is stored, which is the one that everyone gets.
func (f *Fetcher) prepareToStore(a *arrival, header httprules.Header) {
	o, entry, h := a.request, a.entry, a.head
	entry.Header = httprules.Storable(header, httprules.ParseResponseDirectives(header), o.Route.Terms)
	if !h.Composes && o.Route.Compress != policy.CompressOff {
		offerCodings(entry, int(cmp.Or(a.expect, 1<<20)))
	}
	if entry.Compress {
		header["Vary"] = entry.Header["Vary"]
	}
	h.Header = entry.Header
	if header.Has("Age") {
		h.Header = entry.Header.Clone()
		h.Header["Age"] = header["Age"]
	}
	if !o.Route.Terms.RefuseCookies {
		delete(header, "Set-Cookie")
	}
	f.Learned.vary(o, header)
}

// HeadDelay is how long the head of an answer is held back for what comes after it.
const HeadDelay = 2 * time.Millisecond

// offerCodings marks an entry that visitors may be given in other codings. They must be
// told so, from the first answer on. An origin that chooses by Accept-Encoding itself is
// left to it.
func offerCodings(entry *store.Entry, size int) {
	chooses := slices.ContainsFunc(entry.Vary, func(v httprules.Varying) bool { return v.Name == "Accept-Encoding" })
	if chooses || !httprules.MayCompress(entry.Status, entry.Header, httprules.ParseResponseDirectives(entry.Header), size) {
		return
	}
	entry.Compress, entry.OriginVary = true, entry.Header["Vary"]
	entry.Header["Vary"] = append(slices.Clone(entry.OriginVary), "Accept-Encoding")
}
