package edge

import (
	"cmp"
	"context"
	"errors"
	"io"
	"maps"
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
		e.Meter.Record(e.Meter.Stripe(), &meter.Sample{Route: o.plan.Name, Outcome: meter.Behind, Origin: true, Waited: e.Now().Sub(began)})
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
			f.Hint(&head{status: code, header: rules.Header(header).Clone()})
		}
		return nil
	}})
	resp, err := e.ask(ctx, o)
	if err != nil {
		e.Log.Warn("the origin failed", "origin", o.client.Origin.Name, "path", o.request.Path, "error", err)
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusNotModified && !o.asked {
		return e.confirm(f, o, rules.Header(resp.Header), began)
	}
	return e.bring(ctx, f, o, resp, began)
}

// maxAsked bounds how often an answer is asked for again because it depends on more than
// the origin was told.
const maxAsked = 4

// ask sends the request until the answer is one to it: a 304 only for what is stored here,
// or to the visitor's own conditions, and nothing that depends on a field which the visitor
// sent and the origin has not seen.
func (e *Edge) ask(ctx context.Context, o *order) (*http.Response, error) {
	for asked := 1; ; asked++ {
		resp, err := o.client.Do(o.req.WithContext(ctx), o.limit)
		if err != nil {
			return nil, err
		}
		header := rules.Header(resp.Header)
		notModified := resp.StatusCode == http.StatusNotModified
		missing := o.unseen(header)
		switch {
		case missing != nil && asked < maxAsked:
			o.varied = append(slices.Clone(o.varied), missing...)
		case missing != nil: // its Vary names other fields each time: it gets all, and the answer is for this visitor
			o.asVisitor, o.noStore = true, true
		case !notModified || o.asked || o.confirmed(header):
			return resp, nil
		case !rules.Conditional(rules.Header(o.req.Header)):
			resp.Body.Close()
			return nil, errors.New("the origin answers 304 to a request without conditions")
		default:
			o.validate, o.candidates = false, nil // it confirms something that we do not have: ask for all of it
		}
		if resp.ContentLength <= maxDrained && resp.ContentLength >= 0 {
			_, _ = io.Copy(io.Discard, resp.Body)
		}
		resp.Body.Close()
		if err := o.again(); err != nil {
			return nil, err
		}
	}
}

// maxDrained is how long an answer that is not used may be, in bytes, to be read all the same,
// so that its connection can be used again.
const maxDrained = 256 << 10

// again prepares the request to be sent once more.
func (o *order) again() (err error) {
	kept := http.Header{}
	if o.asked {
		for _, name := range conditions {
			if lines, ok := o.req.Header[name]; ok {
				kept[name] = lines
			}
		}
	}
	o.address()
	maps.Copy(o.req.Header, kept)
	o.conditions()
	if o.req.GetBody != nil {
		o.req.Body, err = o.req.GetBody()
	}
	return err
}

// withholds reports whether the visitor sent something that the origin did not see and that
// may make an answer which is for one visitor another. Where its origin says so of every
// such answer, only a cookie tells one visitor from the next; it is not asked twice for the
// sake of a language, since asking may cost something, a message of a queue for instance.
func (o *order) withholds(rule rules.Rule) bool {
	switch {
	case !o.plan.Terms.States() || o.asVisitor:
		return false
	case rule.Declared():
		return o.withholdsCookie()
	}
	for name, lines := range o.sent.Whole() {
		if saw := o.req.Header[name]; !slices.Equal(saw, lines) && rules.Normalised(name, saw) != rules.Normalised(name, lines) {
			return true
		}
	}
	return false
}

// withholdsCookie reports whether the visitor sent a cookie that the origin does not see.
func (o *order) withholdsCookie() bool {
	return !o.asVisitor && slices.ContainsFunc(key.CookieNames(o.request.Header), o.plan.WithholdsCookie)
}

// unseen are the fields that a response's Vary names and that the visitor sent otherwise
// than the origin saw them; nil if there are none. Never Cookie: which cookies the origin
// sees, the key and the route say.
func (o *order) unseen(header rules.Header) []string {
	if !o.plan.Terms.States() || o.asVisitor || rules.VariesOnAll(header) {
		return nil
	}
	var unseen []string
	for _, v := range o.vary(header) {
		if v.Name == "Cookie" || slices.Contains(o.varied, v.Name) {
			continue
		}
		if saw := o.req.Header[v.Name]; len(saw) > 0 != v.Present || rules.Normalised(v.Name, saw) != v.Value {
			unseen = append(unseen, v.Name)
		}
	}
	return unseen
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
	rules.DropHopByHop(header)
	whole := rules.Freshened(stored, header)
	directives := rules.ResponseDirectives(whole)
	fresh := rules.Storable(whole, directives, o.plan.Terms)
	delete(fresh, "Set-Cookie") // it is for the one who asked
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
	rule := e.mayStore(o, o.found.Status, whole, entry.Freshness, received)
	if o.asVisitor && rule == rules.OK {
		rule = o.unstored
	}
	h := &head{status: entry.Status, rule: rule, header: entry.Header, own: personalFields(header, fresh, directives), withheld: o.withholds(rule), received: received, waited: received.Sub(began), entry: entry,
		fresh: isFresh(entry, received), subject: &entry.Subject, vary: entry.Vary, encodings: entry.Encodings, search: rules.SearchOf(fresh), query: o.query, browser: rules.Unset}
	if o.withholdsCookie() && !o.plan.Terms.RefuseCookies {
		delete(h.own, "Set-Cookie") // it begins a session for somebody whose own the origin did not see
	}
	switch {
	case o.asVisitor: // it says nothing of what others would get
	case rule == rules.SetCookie: // what is stored stays as it was: to be asked about
	case rule != rules.OK: // the 304 says that it is not for the store, or for others, any more
		e.Store.Remove(o.found, store.Replaced)
	case !f.Disowned():
		h.kept.Store(e.Store.Put(entry, received))
	}
	e.remember(o, h)
	e.compress(entry, o.found)
	f.Leave()
	f.Head(h, true, h.isShared())
	return nil
}

// personalFields are the fields of a 304 that go to the visitor who caused it, and to nobody
// else: its cookies, and those that private or no-cache names.
func personalFields(notModified, stored rules.Header, d rules.Directives) rules.Header {
	own := rules.Header{}
	for _, name := range slices.Concat([]string{"Set-Cookie"}, d.PrivateFields, d.NoCacheFields) {
		if lines := notModified[name]; len(lines) > 0 && !stored.Has(name) {
			own[name] = lines
		}
	}
	return own
}

// isFresh reports whether an answer needs no validation before it is used for others.
func isFresh(entry *store.Entry, received time.Time) bool {
	return !entry.Freshness.MustAsk && entry.Freshness.Left(received) > 0
}

// remember notes whether those who ask for a key next need to wait for one another, and why
// its answer was not stored.
func (e *Edge) remember(o *order, h *head) {
	if o.alone || o.asVisitor || o.asked && h.status == http.StatusNotModified || h.rule == rules.RequestNoStore || h.rule == rules.MethodNotCached {
		return // it says nothing of what others would get
	}
	if h.isShared() {
		e.unshared.forget(o.key)
		return
	}
	last, _ := e.unshared.of(o.key)
	note := unshared{rule: h.rule, status: h.status, at: h.received, until: h.received.Add(loneTime), tries: last.tries + 1}
	if o.plan.Terms.States() && h.withheld {
		note.until = h.received.Add(min(loneTime<<min(last.tries, 10), mostLone))
	}
	if h.rule != rules.OK && h.status >= 500 {
		note.until = time.Time{} // a failure: the next answer may be for all
	}
	e.unshared.note(o.key, note)
}

func (e *Edge) mayStore(o *order, status int, header rules.Header, f rules.Freshness, received time.Time) rules.Rule {
	if _, _, all := tagsOf(o, header); !all {
		return rules.TooManyGroups
	}
	return rules.MayStore(rules.Storing{
		Method: o.req.Method, NoStore: o.noStore,
		Authorized: o.plan.Authorized(o.request.Header), Cookie: o.leavesCookieOut(),
		Personal: personal(o), AnyMethod: o.plan.Key.Body != key.NoBody,
		Status: status, Header: header, Received: received, Directives: rules.ResponseDirectives(header), Freshness: f, Terms: o.plan.Terms,
	})
}

// personal: the key holds who is asking, and they said who they are.
func personal(o *order) bool {
	_, known := o.plan.Key.Identity.Of(o.request.Header)
	return known
}

// leavesCookieOut: the origin saw a cookie that the key does not hold.
func (o *order) leavesCookieOut() bool {
	return !o.plan.Terms.States() && o.plan.Key.LeavesCookieOut(o.request.Header)
}

// entry makes an entry of a response, without its preparation.
func (e *Edge) entry(o *order, status int, header rules.Header, body []byte, began, received time.Time) *store.Entry {
	search := rules.SearchOf(header)
	named, own, _ := tagsOf(o, header)
	directives, terms := rules.ResponseDirectives(header), o.plan.Terms
	if o.leavesCookieOut() {
		terms = terms.OriginOnly() // what may be one visitor's lives as long as its origin says, and no longer
	}
	vary := o.vary(header)
	implied := e.implied(o, vary, received)
	return &store.Entry{
		Key: o.keyUnder(search), Search: search.String(), Method: o.req.Method, Scheme: o.request.Scheme,
		Subject: tags.Subject{
			Tags: named, Route: o.plan.Name,
			Host: o.request.Host, Path: key.EquivalentPath(o.request.Path), Query: key.Equivalent(o.query), Stamp: o.stamp,
		},
		RouteTags: own,
		Vary:      append(vary, implied...), Implied: len(implied), Encodings: rules.EncodingsOf(header),
		Personal: personal(o), ForAuthorized: directives.Public || directives.MustRevalidate || directives.SMaxAge != rules.Unset,
		Status: status, Header: header, Body: body, Received: received,
		Freshness: rules.FreshnessOf(status, header, directives, began, received, terms),
		Browser:   o.plan.Browser, Idle: o.plan.Idle,
	}
}

// vary is what an answer says that it depends on. A skeleton is asked for without codings,
// whoever asks; and where the route says which cookies the origin sees, the key holds them.
func (o *order) vary(header rules.Header) []rules.Varying {
	names := slices.DeleteFunc(rules.VaryNames(header), func(name string) bool {
		return name == "Accept-Encoding" && o.plan.Compose || name == "Cookie" && o.plan.Terms.States() && len(o.plan.AlsoCookies) == 0 && !slices.Contains(o.plan.AlsoFields, "Cookie")
	})
	return rules.VaryingOf(names, &o.sent)
}

// implied is what an answer may depend on although it does not say so: fields that the
// origin was asked with since its Vary had named them, and those that other variants of
// the key, still fresh, depend on. An answer to one of their values is none to another.
func (e *Edge) implied(o *order, vary []rules.Varying, now time.Time) []rules.Varying {
	var names []string
	add := func(name string) {
		if name != "Accept-Encoding" && name != "Cookie" && !slices.Contains(names, name) && !slices.ContainsFunc(vary, func(v rules.Varying) bool { return v.Name == name }) {
			names = append(names, name)
		}
	}
	for _, name := range o.varied {
		add(name)
	}
	if !o.plan.Terms.States() {
		for _, other := range e.Store.Variants([]byte(o.key)) {
			for _, v := range other.Vary[:len(other.Vary)-other.Implied] {
				if other.Freshness.Left(now) > 0 {
					add(v.Name)
				}
			}
		}
	}
	return rules.VaryingOf(names, &o.sent)
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
func (e *Edge) bring(ctx context.Context, f *fill.Flight[*head], o *order, resp *http.Response, began time.Time) error {
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
	h := &head{told: told.lines, composes: composes, status: resp.StatusCode, header: header, own: header, received: received, waited: received.Sub(began), length: resp.ContentLength, vary: entry.Vary, search: rules.SearchOf(header), query: o.query, browser: o.plan.Browser,
		fresh: isFresh(entry, received), subject: &entry.Subject, encodings: entry.Encodings, personal: entry.Personal, unsure: o.plan.Key.Body == key.GraphQL}
	for name := range resp.Trailer {
		h.trailers = append(h.trailers, name)
	}
	h.rule = e.mayStore(o, resp.StatusCode, header, entry.Freshness, received)
	if o.asVisitor && o.unstored.Declared() && !h.rule.ForOne() && h.rule != rules.RequestNoStore {
		e.unshared.forget(o.key) // the next answer may be for all
	}
	if o.asked && resp.StatusCode == http.StatusNotModified || o.asVisitor && o.unstored != rules.OK && (h.rule == rules.OK || h.rule == rules.RequestNoStore) {
		h.rule = o.unstored // it was made for this visitor
	}
	h.withheld = o.withholds(h.rule)
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
		e.learn(o, header)
	}
	e.remember(o, h)
	if keep && resp.ContentLength == 0 { // a visitor has all of it when he has the head
		e.keep(f, entry, h, o, began, false)
		f.Head(h, true, h.isShared())
		return nil
	}
	stored := keep
	publish := sync.OnceFunc(func() { f.Head(h, stored, h.isShared()) })
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
				publish()
				f.Discard()
				e.unshared.note(o.key, unshared{rule: rules.TooLarge, status: h.status, at: h.received})
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
	if keep && f.Size() <= o.plan.MaxBody && f.Seal() {
		e.Store.Release(reserved)
		reserved = 0
		e.keep(f, entry, h, o, began, composes)
		h.skeleton.Store(entry.Skeleton)
		h.whole.Store(&entry.Body)
	}
	h.took.Store(max(1, int64(e.Now().Sub(began))))
	return nil
}

// learn remembers which fields the origin's Vary names for a key, so that it is asked with
// them at once.
func (e *Edge) learn(o *order, header rules.Header) {
	if !o.plan.Terms.States() {
		return
	}
	names := slices.DeleteFunc(rules.VaryNames(header), func(name string) bool {
		return name == "Accept-Encoding" || name == "Cookie" || !o.plan.Withholds(name)
	})
	if len(names) == 0 {
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
func (e *Edge) keep(f *fill.Flight[*head], entry *store.Entry, h *head, o *order, began time.Time, composes bool) {
	defer f.Leave()
	entry.Body = f.Body()
	if composes {
		entry.Skeleton = e.skeleton(entry.Body, o)
	}
	now := e.Now()
	entry.Filled(o.found, now.Sub(began))
	entry.Prepare()
	if o.plan.Key.Body == key.GraphQL && key.HasGraphQLErrors(entry.Body) {
		e.unshared.note(o.key, unshared{rule: rules.GraphQLErrors, status: h.status, at: h.received})
		return
	}
	if f.Disowned() || e.Marks.Judge(&entry.Subject) == tags.Dropped {
		return
	}
	if search := rules.SearchOf(entry.Header); search.Stated {
		e.searches.note(o.searchKey, search)
		e.searching.note(entry.Subject.Path, struct{}{})
	}
	if e.Store.Put(entry, now) {
		h.kept.Store(true)
		e.compress(entry, nil)
	}
}
