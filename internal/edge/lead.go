package edge

import (
	"cmp"
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"slices"
	"time"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// lead carries out a fill. It runs on its own, so that a visitor who goes away ends
// nothing that others wait for or that is worth storing.
func (e *Edge) lead(f *fill.Flight[*head], o *order) {
	ctx, cancel := context.WithCancelCause(e.life)
	defer cancel(nil)
	limit := time.AfterFunc(max(o.client.Origin.Total, o.limit), func() {
		if f.Headed() {
			f.Discard() // it takes too long to be stored, but those who read it read on
		} else {
			cancel(context.DeadlineExceeded)
		}
	})
	defer limit.Stop()
	f.OnLonely(func() { cancel(context.Canceled) })
	began := e.Now()
	err := e.fly(ctx, f, o, began)
	if o.behind {
		e.Meter.Record(e.Meter.Stripe(), &meter.Sample{Route: o.route.Name, Outcome: meter.Behind, Origin: o.requests.Made() > 0, Waited: e.Now().Sub(began)})
	}
	if err != nil && errors.Is(context.Cause(ctx), context.DeadlineExceeded) {
		err = context.DeadlineExceeded
	}
	f.End(err)
}

// fly asks the origin and brings the answer in; the error says that it is not whole.
func (e *Edge) fly(ctx context.Context, f *fill.Flight[*head], o *order, began time.Time) error {
	o.conditions()
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{Got1xxResponse: func(code int, header textproto.MIMEHeader) error {
		if code != http.StatusContinue && code != http.StatusSwitchingProtocols {
			f.Hint(&head{status: code, header: httprules.Header(header).Clone()})
		}
		return nil
	}})
	resp, err := e.ask(ctx, o)
	if err != nil {
		e.Log.Warn("the origin failed", "origin", o.client.Origin.Name, "path", o.request.Path, "error", err)
		return err
	}
	defer resp.Body.Close()
	e.invalidateGroups(o.req.Method, o.request.Host, o.request.Path, resp.StatusCode, httprules.Header(resp.Header))
	if resp.StatusCode == http.StatusNotModified && !o.asked {
		return e.confirm(f, o, httprules.Header(resp.Header), began)
	}
	return e.bring(ctx, f, o, resp, began)
}

// isFresh reports whether an answer needs no validation before it is used for others.
func isFresh(entry *store.Entry, received time.Time) bool {
	return !entry.Freshness.MustAsk && entry.Freshness.Remaining(received) > 0
}

// remember notes whether those who ask for a key next need to wait for one another, and why
// its answer was not stored.
func (e *Edge) remember(o *order, h *head) {
	if o.alone || o.asVisitor || o.asked && h.status == http.StatusNotModified || h.rule == httprules.RequestNoStore || h.rule == httprules.MethodNotCached {
		return // it says nothing of what others would get
	}
	if h.isShared() {
		e.unshared.forget(o.likeThis())
		return
	}
	last, _ := e.unshared.of(o.likeThis())
	note := unshared{rule: h.rule, status: h.status, at: h.received, until: h.received.Add(loneTime), tries: last.tries + 1}
	if o.route.Terms.States() && h.withheld {
		note.until = h.received.Add(min(loneTime<<min(last.tries, 10), mostLone))
	}
	if h.rule != httprules.OK && h.status >= 500 {
		note.until = time.Time{} // a failure: the next answer may be for all
	}
	e.unshared.note(o.likeThis(), note)
}

// bring takes a whole answer in: to all who wait, and into the store if it may.
func (e *Edge) bring(ctx context.Context, f *fill.Flight[*head], o *order, resp *http.Response, began time.Time) error {
	received := e.Now()
	header := httprules.Header(resp.Header)
	httprules.DropHopByHop(header)
	if !header.Has("Date") {
		header["Date"] = []string{httprules.FormatDate(received)} // RFC 9110 §6.6.1
	}
	told := listen(header)
	composes := composes(o.route.Compose, header)
	if surrogate(header) {
		delete(header, "Surrogate-Control") // it was meant for us
	}
	entry := e.entry(o, resp.StatusCode, header, nil, began, received)
	told.bound(entry)
	entry.Parts, entry.Told = told.parts, told.lines
	h := &head{told: told.lines, composes: composes, status: resp.StatusCode, header: header, own: header, received: received, waited: received.Sub(began), length: resp.ContentLength, vary: entry.Vary, search: httprules.ParseNoVarySearch(header), query: o.query, browser: o.route.Browser,
		fresh: isFresh(entry, received), subject: &entry.Subject, encodings: entry.Encodings, personal: entry.Personal, unsure: o.route.Key.Body == key.GraphQL}
	for name := range resp.Trailer {
		h.trailers = append(h.trailers, name)
	}
	h.rule = e.mayStore(o, resp.StatusCode, header, entry.Freshness, received)
	if o.asVisitor && o.unstored.Declared() && !h.rule.ForOne() && h.rule != httprules.RequestNoStore {
		e.unshared.forget(o.likeThis()) // the next answer may be for all
	}
	if o.asked && resp.StatusCode == http.StatusNotModified || o.asVisitor && o.unstored != httprules.OK && (h.rule == httprules.OK || h.rule == httprules.RequestNoStore) {
		h.rule = o.unstored // it was made for this visitor
	}
	h.withheld = o.withholds(h.rule)
	if h.rule == httprules.OK && resp.ContentLength > o.route.MaxBody {
		h.rule = httprules.TooLarge
	}
	if o.req.Method == http.MethodHead {
		h.rule = httprules.MethodNotCached
	}
	expect := max(0, resp.ContentLength)
	keep := h.rule == httprules.OK && e.Store.Reserve(expect)
	reserved := int64(0)
	if keep {
		reserved = expect
	} else if h.rule == httprules.OK {
		h.rule = httprules.TooLarge
	}
	defer func() { e.Store.Release(reserved) }()
	if keep {
		entry.Header = httprules.Storable(header, httprules.ParseResponseDirectives(header), o.route.Terms)
		if !composes {
			offerCodings(entry, int(cmp.Or(expect, 1<<20)))
		}
		if entry.Compress {
			header["Vary"] = entry.Header["Vary"]
		}
		h.header = entry.Header
		if header.Has("Age") {
			h.header = entry.Header.Clone()
			h.header["Age"] = header["Age"]
		}
		if !o.route.Terms.RefuseCookies {
			delete(header, "Set-Cookie")
		}
		e.learn(o, header)
	}
	e.remember(o, h)
	if keep && resp.ContentLength == 0 { // a visitor has all of it when he has the head
		e.keep(f, entry, h, o, began, false)
		f.Head(h, true, h.isShared())
		return nil
	}
	coming := &arrival{edge: e, flight: f, order: o, head: h, entry: entry, began: began, composes: composes, keep: keep, expect: expect, reserved: reserved}
	reserved = 0 // it is the arrival's now
	return coming.take(ctx, resp)
}

// maxVaried is how many fields are remembered for a key: whoever names more is asked twice.
const maxVaried = 32

// learn remembers which fields the origin's Vary names for a key, so that it is asked with
// them at once.
func (e *Edge) learn(o *order, header httprules.Header) {
	if !o.route.Terms.States() {
		return
	}
	names := slices.DeleteFunc(httprules.VaryNames(header), func(name string) bool {
		return name == "Accept-Encoding" || name == "Cookie" || !o.route.Withholds(name)
	})
	if len(names) == 0 || len(names) > maxVaried {
		e.varied.forget(o.key)
		return
	}
	e.varied.note(o.key, names)
}

// skeleton parses what is composed for each request; nil if it has no marks, or they are
// not in order: then it is served as it came.
func (e *Edge) skeleton(body []byte, o *order) *compose.Page {
	page, err := compose.Parse(body)
	if err != nil {
		e.Log.Warn("a page is served with its marks, since they are not in order", "path", o.request.Path, "error", err)
	}
	return page
}

// headDelay is how long the head of an answer that is stored is held back for its body.
const headDelay = 2 * time.Millisecond

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

// endOf returns io.EOF when nothing more comes, as it should after the announced length.
func endOf(body io.Reader) error {
	var more [1]byte
	n, err := body.Read(more[:])
	if n > 0 || err == nil {
		return errors.New("the origin sent more than it announced")
	}
	return err
}

// keep puts a whole answer away. An entry that a purge has overtaken meanwhile is
// not worth its room: the marks would defeat it at every lookup. Nobody joins the flight
// afterwards: a visitor who has the whole of one answer may ask again before it ends.
func (e *Edge) keep(f *fill.Flight[*head], entry *store.Entry, h *head, o *order, began time.Time, composes bool) {
	defer f.Leave()
	defer func() {
		if !h.kept.Load() {
			e.Store.Abandon(entry)
		}
	}()
	entry.Body = f.Body()
	if composes {
		entry.Skeleton = e.skeleton(entry.Body, o)
	}
	now := e.Now()
	entry.Filled(o.found, now.Sub(began))
	entry.Prepare()
	if o.route.Key.Body == key.GraphQL && key.HasGraphQLErrors(entry.Body) {
		e.unshared.note(o.likeThis(), unshared{rule: httprules.GraphQLErrors, status: h.status, at: h.received})
		return
	}
	if f.Disowned() || e.Marks.Judge(&entry.Subject) == tags.Dropped {
		return
	}
	if search := httprules.ParseNoVarySearch(entry.Header); search.Stated {
		e.searches.note(o.searchKey, search)
	}
	if e.put(f, entry, now) {
		h.kept.Store(true)
		if o.found != nil && !entry.Failure { // this is the answer now to the request that it answered, whatever each of them depends on
			e.Store.Remove(o.found, store.Replaced)
		}
		e.compressor.want(entry)
	}
}

// put stores what a fill brought; false if it did not fit, or something newer was there. A
// change that the ledger could not take may come at the same moment: then either its sweep
// finds the entry, or this finds the flight disowned.
func (e *Edge) put(f *fill.Flight[*head], entry *store.Entry, now time.Time) bool {
	if e.Store.Put(entry, now) != nil {
		return false
	}
	if f.Disowned() {
		e.Store.Remove(entry, store.Purged)
		return false
	}
	return true
}
