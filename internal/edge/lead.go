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
	"strings"
	"sync"
	"time"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/fill"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/rules"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// lead carries out a fill. It runs on its own, so that a visitor who goes away ends
// nothing that others wait for or that is worth storing.
func (e *Edge) lead(f *fill.Flight[*head], o *order) {
	ctx, cancel := context.WithCancelCause(context.Background())
	defer cancel(nil)
	limit := time.AfterFunc(o.client.Origin.Total, func() { cancel(context.DeadlineExceeded) })
	defer limit.Stop()
	f.OnLonely(func() { cancel(context.Canceled) })
	began := e.Now()
	err := e.fly(ctx, f, o, began, limit)
	if o.behind {
		e.Meter.Record(e.Meter.Stripe(), &meter.Sample{Route: o.plan.Name, Outcome: meter.Behind, Origin: true, Waited: e.Now().Sub(began)})
	}
	if err != nil && errors.Is(context.Cause(ctx), context.DeadlineExceeded) {
		err = context.DeadlineExceeded
	}
	f.End(err)
}

// fly asks the origin and brings the answer in; the error says that it is not whole.
func (e *Edge) fly(ctx context.Context, f *fill.Flight[*head], o *order, began time.Time, limit *time.Timer) error {
	o.conditions()
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{Got1xxResponse: func(code int, header textproto.MIMEHeader) error {
		if code != http.StatusContinue && code != http.StatusSwitchingProtocols {
			f.Hint(&head{status: code, header: rules.Header(header).Clone()})
		}
		return nil
	}})
	resp, err := o.client.Do(o.req.WithContext(ctx))
	if err == nil && resp.StatusCode == http.StatusNotModified {
		resp.Body.Close()
		header := rules.Header(resp.Header)
		if o.confirmed(header) {
			return e.confirm(f, o, header, began)
		}
		// It confirms something that we do not have: ask for all of it.
		for _, name := range []string{"If-None-Match", "If-Modified-Since"} {
			o.req.Header.Del(name)
		}
		if o.req.GetBody != nil {
			o.req.Body, _ = o.req.GetBody()
		}
		if resp, err = o.client.Do(o.req.WithContext(ctx)); err == nil && resp.StatusCode == http.StatusNotModified {
			resp.Body.Close()
			err = errors.New("the origin answers 304 to a request without conditions")
		}
	}
	if err != nil {
		e.Log.Warn("the origin failed", "origin", o.client.Origin.Name, "path", o.request.Path, "error", err)
		return err
	}
	defer resp.Body.Close()
	return e.bring(ctx, f, o, resp, began, limit)
}

// conditions asks whether what is stored still holds (RFC 9111 §4.3.1).
func (o *order) conditions() {
	if o.validate {
		for name, values := range rules.Validators(o.found.Header) {
			o.req.Header[name] = values
		}
		return
	}
	var tags []string
	for _, c := range o.candidates {
		if etag := c.Header.Get("Etag"); !slices.Contains(tags, etag) {
			tags = append(tags, etag)
		}
	}
	if len(tags) > 0 {
		o.req.Header["If-None-Match"] = []string{strings.Join(tags, ", ")}
	}
}

// confirmed finds the entry that a 304 confirms (RFC 9111 §4.3.4).
func (o *order) confirmed(header rules.Header) bool {
	if o.validate {
		return rules.Validates(header, o.found.Header)
	}
	for _, c := range o.candidates {
		if etag := header.Get("Etag"); etag != "" && etag == c.Header.Get("Etag") {
			o.found = c
			return true
		}
	}
	return false
}

// confirm renews a stored entry after a 304 (RFC 9111 §4.3.4).
func (e *Edge) confirm(f *fill.Flight[*head], o *order, header rules.Header, began time.Time) error {
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
	fresh := rules.Freshened(stored, header)
	entry := e.entry(o, o.found.Status, fresh, o.found.Body, began, received)
	entry.KeepCost(o.found)
	entry.Freshness, entry.Subject.Stamp = told.bound(entry.Freshness, entry.Subject.Stamp)
	entry.Skeleton, entry.Parts, entry.Told = o.found.Skeleton, o.found.Parts, o.found.Told
	if told.lines != nil {
		entry.Parts, entry.Told = told.parts, told.lines
	}
	if entry.Skeleton == nil {
		offerCodings(entry, len(entry.Body))
	}
	entry.Prepare()
	rule := e.mayStore(o, o.found.Status, fresh, entry.Freshness, received)
	switch {
	case rule != rules.OK: // the 304 says that it is not for the store, or for others, any more
		e.Store.Remove(o.found, store.Replaced)
	case !f.Disowned():
		e.Store.Put(entry, received)
	}
	h := &head{status: entry.Status, rule: rule, header: entry.Header, received: received, waited: received.Sub(began), entry: entry, vary: entry.Vary, search: rules.SearchOf(fresh), query: o.query, browser: rules.Unset}
	e.compress(entry, o.found)
	f.Leave()
	f.Head(h, true, rule == rules.OK)
	return nil
}

func (e *Edge) mayStore(o *order, status int, header rules.Header, f rules.Freshness, received time.Time) rules.Rule {
	if _, _, all := tagsOf(o, header); !all {
		return rules.TooManyGroups
	}
	return rules.MayStore(rules.Storing{
		Method: o.req.Method, NoStore: o.noStore,
		Authorized: o.header.Has("Authorization") && o.plan.Key.Identity.Name != "Authorization",
		Personal:   personal(o), AnyMethod: o.plan.Key.Body != key.NoBody,
		Status: status, Header: header, Received: received, Directives: rules.ResponseDirectives(header), Freshness: f, Terms: o.plan.Terms,
	})
}

// personal: the key holds who is asking, and he said who he is.
func personal(o *order) bool {
	_, known := o.plan.Key.Identity.Of(o.header)
	return known
}

// entry makes an entry of a response, without its preparation.
func (e *Edge) entry(o *order, status int, header rules.Header, body []byte, began, received time.Time) *store.Entry {
	search := rules.SearchOf(header)
	named, own, _ := tagsOf(o, header)
	return &store.Entry{
		Key: o.keyUnder(search), Search: search.String(), Method: o.req.Method, Scheme: o.request.Scheme,
		Subject: tags.Subject{
			Tags: named, Route: o.plan.Name,
			Host: o.request.Host, Path: o.request.Path, Query: o.query, Stamp: o.stamp,
		},
		RouteTags: own,
		Vary:      o.vary(header),
		Status:    status, Header: header, Body: body, Received: received,
		Freshness: rules.FreshnessOf(status, header, rules.ResponseDirectives(header), began, received, o.plan.Terms),
		Browser:   o.plan.Browser, Idle: o.plan.Idle,
	}
}

// vary is what an answer depends on. A skeleton is asked for without codings, whoever asks.
func (o *order) vary(header rules.Header) []rules.Varying {
	vary := rules.VaryingOf(header, o.header)
	if o.plan.Compose {
		vary = slices.DeleteFunc(vary, func(v rules.Varying) bool { return v.Name == "Accept-Encoding" })
	}
	return vary
}

// keyUnder is the key with what a No-Vary-Search rule leaves of the query.
func (o *order) keyUnder(search rules.Search) string {
	r := o.request
	r.Reduced = nil
	if search.Stated {
		reduced := search.String() + "?" + search.Canonical(o.query)
		r.Reduced = &reduced
	}
	return string(o.plan.Key.Append(nil, o.plan.KeyName, &r))
}

// tagsOf gathers an entry's tags: the route's, of which there are so many, and those
// that the origin names. all is false when some had to be left out.
func tagsOf(o *order, header rules.Header) (named []string, byRoute int, all bool) {
	own := o.plan.TagsOf(&o.request)
	byRoute = len(own)
	groups, cut := rules.Groups(header["Cache-Groups"])
	if name := o.client.Origin.TagHeader; name != "" {
		plain, more := rules.PlainGroups(header[name], o.client.Origin.TagSeparator)
		groups, cut = append(groups, plain...), cut+more
	}
	for _, tag := range groups {
		if !slices.Contains(own, tag) {
			own = append(own, tag)
		}
	}
	return own[:min(len(own), rules.MaxGroups)], min(byRoute, rules.MaxGroups), cut == 0 && len(own) <= rules.MaxGroups
}

// bring takes a whole answer in: to all who wait, and into the store if it may.
func (e *Edge) bring(ctx context.Context, f *fill.Flight[*head], o *order, resp *http.Response, began time.Time, limit *time.Timer) error {
	received := e.Now()
	header := rules.Header(resp.Header)
	rules.DropHopByHop(header)
	if !header.Has("Date") {
		header["Date"] = []string{rules.FormatDate(received)} // RFC 9110 §6.6.1
	}
	told := listen(header)
	composes := composes(o.plan.Compose, header)
	if surrogate(header) {
		delete(header, "Surrogate-Control") // it was meant for us
	}
	entry := e.entry(o, resp.StatusCode, header, nil, began, received)
	entry.Freshness, entry.Subject.Stamp = told.bound(entry.Freshness, entry.Subject.Stamp)
	entry.Parts, entry.Told = told.parts, told.lines
	h := &head{told: told.lines, composes: composes, status: resp.StatusCode, header: header, own: header, received: received, waited: received.Sub(began), length: resp.ContentLength, vary: entry.Vary, search: rules.SearchOf(header), query: o.query, browser: o.plan.Browser}
	for name := range resp.Trailer {
		h.trailers = append(h.trailers, name)
	}
	h.rule = e.mayStore(o, resp.StatusCode, header, entry.Freshness, received)
	if h.rule == rules.OK && resp.ContentLength > o.plan.MaxBody {
		h.rule = rules.TooLarge
	}
	if o.req.Method == http.MethodHead {
		h.rule = rules.MethodNotCached
	}
	expect := max(0, resp.ContentLength)
	keep := h.rule == rules.OK && e.Store.Reserve(expect)
	reserved := int64(0)
	if keep {
		reserved = expect
	} else if h.rule == rules.OK {
		h.rule = rules.TooLarge
	}
	defer func() { e.Store.Release(reserved) }()
	if keep {
		entry.Header = rules.Storable(header, rules.ResponseDirectives(header), o.plan.Terms)
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
		if !o.plan.Terms.RefuseCookies {
			delete(header, "Set-Cookie")
		}
		e.lone.forget(o.key)
	} else {
		limit.Stop() // what is only passed on may take as long as it likes
		if h.rule != rules.RequestNoStore && h.rule != rules.MethodNotCached && resp.StatusCode < 500 {
			e.lone.note(o.key, received.Add(loneTime))
		}
	}
	if keep && resp.ContentLength == 0 { // a visitor has all of it when he has the head
		e.keep(f, entry, o, began, false)
		keep = false
		f.Head(h, true, true)
		return nil
	}
	stored := keep
	publish := sync.OnceFunc(func() { f.Head(h, stored, h.rule == rules.OK) })
	if keep {
		// What comes whole within a moment is given out whole, and wakes those who wait once.
		moment := time.AfterFunc(headDelay, publish)
		defer moment.Stop()
	} else {
		publish()
	}
	defer publish()
	for {
		room, err := f.Room(ctx, expect-f.Size())
		if err != nil {
			return err
		}
		if over := f.Size() + int64(len(room)) - reserved; keep && over > 0 {
			if f.Size() > o.plan.MaxBody || !e.Store.Reserve(over) {
				keep = false
				limit.Stop()
				publish()
				f.Discard()
				continue
			}
			reserved += over
		}
		n, err := resp.Body.Read(room)
		if keep && expect > 0 && f.Size()+int64(n) == expect {
			f.Hold(n)
			if err == nil {
				err = endOf(resp.Body)
			}
		} else {
			f.Wrote(n)
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
	}
	h.trailer = resp.Trailer
	h.took.Store(int64(e.Now().Sub(began)))
	if keep && f.Size() <= o.plan.MaxBody {
		e.Store.Release(reserved)
		reserved = 0
		e.keep(f, entry, o, began, composes)
		h.skeleton.Store(entry.Skeleton)
		h.whole.Store(&entry.Body)
	}
	return nil
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
	chooses := slices.ContainsFunc(entry.Vary, func(v rules.Varying) bool { return v.Name == "Accept-Encoding" })
	if chooses || !rules.MayCompress(entry.Status, entry.Header, rules.ResponseDirectives(entry.Header), size) {
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
func (e *Edge) keep(f *fill.Flight[*head], entry *store.Entry, o *order, began time.Time, composes bool) {
	defer f.Leave()
	entry.Body = f.Body()
	if composes {
		entry.Skeleton = e.skeleton(entry.Body, o)
	}
	now := e.Now()
	entry.Filled(o.found, now.Sub(began))
	entry.Prepare()
	if o.plan.Key.Body == key.GraphQL && key.HasGraphQLErrors(entry.Body) {
		return
	}
	if f.Disowned() || e.Marks.Judge(&entry.Subject) == tags.Dropped {
		return
	}
	if search := rules.SearchOf(entry.Header); search.Stated {
		e.searches.note(o.searchKey, search)
		e.searching.note(o.request.Path, struct{}{})
	}
	if e.Store.Put(entry, now) {
		e.compress(entry, nil)
	}
}
