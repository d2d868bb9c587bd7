package edge

import (
	"context"
	"errors"
	"io"
	"net/http"
	"slices"
	"strconv"
	"sync/atomic"
	"time"

	"gerastic/internal/core/decide"
	"gerastic/internal/core/fill"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/rules"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/origin"
)

// head is what a fill knows before the body: the status and header that visitors get.
type head struct {
	status   int
	header   rules.Header // for everyone
	own      rules.Header // for the one who leads: with the fields that are for him alone
	received time.Time
	waited   time.Duration   // from asking to the first byte
	took     atomic.Int64    // ns, from asking to the last byte; 0 until then
	length   int64           // of the body, -1 if unknown
	rule     rules.Rule      // why the answer is not for others; OK if it is
	vary     []rules.Varying // what the answer depends on, as the leader's request had it
	browser  time.Duration
	entry    *store.Entry // a stored answer that the origin confirmed (304): the body is there
}

// answers tells whether a request that joined may read the answer.
func (h *head) answers(request rules.Header) bool {
	return h.rule == rules.OK && rules.Matches(h.vary, request)
}

// order is all that a fill needs; it outlives the request that caused it.
type order struct {
	plan     *policy.Plan
	client   *origin.Client
	req      *http.Request
	request  key.Request
	header   rules.Header // the visitor's, for Vary
	key      string
	stamp    tags.Stamp
	found    *store.Entry // to be validated, or whose cost is known
	validate bool
	noStore  bool
	behind   bool
}

// order prepares a fill for the exchange.
func (x *exchange) order(stamp tags.Stamp, d decide.Decision) (*order, error) {
	o := x.rules.Policy.OriginFor(x.req.Host)
	if o == nil {
		return nil, errNoOrigin
	}
	client := x.rules.clients[o]
	query, has := x.plan.Key.Query.Canonical(x.req.Query, x.req.HasQuery)
	ord := &order{
		plan: x.plan, client: client, key: string(x.key), stamp: stamp, noStore: d.NoStore,
		request: x.req, header: x.req.Header.Clone(),
	}
	ord.request.Header = ord.header
	ord.req = &http.Request{
		Method: x.req.Method, URL: client.Target(x.r.URL, query, has), Host: x.req.Host,
		Header: origin.FillHeader(x.r, &x.req, x.edge.Trusted),
		Proto:  "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
	}
	if x.in.Entry != nil && x.in.Verdict != tags.Dropped {
		ord.found = x.in.Entry
		ord.validate = d.Action == decide.Validate || d.Action == decide.ServeAndRefresh
	}
	return ord, nil
}

var errNoOrigin = errors.New("no origin of the policy answers this host")

// fetch asks the origin, or joins a request that already does.
func (x *exchange) fetch(d decide.Decision) {
	e := x.edge
	stamp := e.Marks.Stamp()
	// A HEAD of what is stored asks for all of it, so that it can renew the entry and be
	// shared; a HEAD of what is not stays a HEAD.
	headOnly := x.r.Method == http.MethodHead && x.in.Entry == nil
	alone := headOnly || d.NoStore || e.lone.holds(x.key, x.began)
	flightKey := x.flightKey()
	for {
		var reader *fill.Reader[*head]
		var flight *fill.Flight[*head]
		lead := true
		if alone {
			reader, flight = e.fills.Alone(stamp)
		} else {
			reader, flight, lead = e.fills.Join(flightKey, stamp)
		}
		if lead {
			o, err := x.order(stamp, d)
			if err == nil && !headOnly {
				o.req.Method = http.MethodGet
			}
			if err != nil {
				flight.End(err)
				reader.Close()
				x.refuse(http.StatusMisdirectedRequest, err.Error(), d.Cause)
				return
			}
			go e.lead(flight, o)
		}
		h, err := reader.Wait(x.r.Context())
		if err == nil && !lead && !h.answers(x.req.Header) {
			reader.Close()
			if h.rule != rules.OK {
				alone = true // not for others: everyone asks for himself, all at once
			} else {
				flightKey = string(x.key) + varyKey(h.vary, x.req.Header)
			}
			continue
		}
		x.receive(reader, h, err, lead, d)
		reader.Close()
		return
	}
}

// flightKey is the key, with what this key's stored variants are known to depend on.
func (x *exchange) flightKey() string {
	if x.in.Entry != nil {
		return string(x.key) + varyKey(x.in.Entry.Vary, x.req.Header)
	}
	if x.in.Variants > 0 {
		if known := x.edge.Store.Variants(x.key); len(known) > 0 {
			return string(x.key) + varyKey(known[0].Vary, x.req.Header)
		}
	}
	return string(x.key)
}

func varyKey(vary []rules.Varying, request rules.Header) string {
	if len(vary) == 0 {
		return ""
	}
	suffix := "\x00"
	for _, v := range vary {
		suffix += v.Name + "=" + request.Joined(v.Name) + "\x00"
	}
	return suffix
}

// receive writes what a fill brings to the visitor.
func (x *exchange) receive(reader *fill.Reader[*head], h *head, err error, lead bool, d decide.Decision) {
	if err == nil && decide.FailedStatus(h.status) || err != nil && x.r.Context().Err() == nil {
		if stale := x.in.Entry; stale != nil && x.in.Plan != nil && decide.OnError(stale, x.in.Verdict, x.edge.Now()) {
			x.sample.Origin, x.sample.Waited = lead, x.edge.Now().Sub(x.began)
			x.serve(stale, meter.Stale, rules.CacheStatus{})
			return
		}
	}
	if err != nil {
		x.fail(err, lead, d)
		return
	}
	if h.rule != rules.OK {
		x.sample.Cause = meter.Unstorable(h.rule)
	}
	status := rules.CacheStatus{Forward: d.Forward, Stored: h.rule == rules.OK && h.entry == nil, Collapsed: !lead}
	outcome := meter.Miss
	switch {
	case !lead:
		outcome = meter.Joined
		x.sample.Saved = h.waited
	case h.entry != nil:
		outcome = meter.Revalidated
	}
	x.sample.Origin = lead
	if lead {
		x.sample.Waited = h.waited
	}
	if h.entry != nil {
		status.Status = http.StatusNotModified
		status.Stored = true
		x.serve(h.entry, outcome, status)
		return
	}
	x.sample.Outcome = outcome
	x.stream(reader, h, status)
	if took := h.took.Load(); took > 0 {
		if lead {
			x.sample.Waited = time.Duration(took)
		} else {
			x.sample.Saved = time.Duration(took)
		}
	}
}

// fail answers for an origin that did not.
func (x *exchange) fail(err error, lead bool, d decide.Decision) {
	x.sample.Origin, x.sample.Waited = lead, x.edge.Now().Sub(x.began)
	if x.r.Context().Err() != nil {
		x.sample.Cause = d.Cause
		x.sample.Status = 499 // the visitor went away; nobody reads an answer
		panic(http.ErrAbortHandler)
	}
	f := origin.FailureOf(err)
	x.refuse(f.Status, f.Text, d.Cause)
}

// stream sends the header and then the body as it arrives.
func (x *exchange) stream(reader *fill.Reader[*head], h *head, status rules.CacheStatus) {
	out := x.w.Header()
	header := h.header
	if !status.Collapsed {
		header = h.own
	}
	for name, values := range header {
		out[name] = values
	}
	out["Cache-Status"] = append(append([]string(nil), h.header["Cache-Status"]...), status.String())
	if h.browser != rules.Unset && h.rule == rules.OK {
		out["Cache-Control"] = []string{"max-age=" + strconv.FormatInt(int64((h.browser+rules.InitialAge(h.header, h.received, h.received))/time.Second), 10)}
		delete(out, "Expires")
		delete(out, "Pragma")
	}
	if rules.Conditional(x.req.Header) {
		switch rules.Evaluate(x.req.Header, h.status, h.header, h.received) {
		case rules.NotModified:
			for name := range out {
				if !rules.InNotModified(name) && name != "Cache-Status" && name != "Age" {
					delete(out, name)
				}
			}
			x.status(http.StatusNotModified)
			return
		case rules.Failed:
			clear(out)
			x.status(http.StatusPreconditionFailed)
			return
		}
	}
	x.status(h.status)
	if x.r.Method == http.MethodHead {
		return
	}
	flusher := http.NewResponseController(x.w)
	for {
		data, err := reader.Next(x.r.Context(), func() { _ = flusher.Flush() })
		if err == io.EOF {
			return
		}
		if err != nil {
			// Half is nothing: the visitor must see a broken connection, not a short body.
			x.sample.Outcome = meter.Error
			panic(http.ErrAbortHandler)
		}
		n, err := x.w.Write(data)
		x.sample.Bytes += int64(n)
		if err != nil {
			return // the visitor went away
		}
	}
}

// refresh renews an entry behind the visitor's back, unless that is already being done.
func (x *exchange) refresh(entry *store.Entry) {
	stamp := x.edge.Marks.Stamp()
	flightKey := x.flightKey()
	if x.edge.fills.Flying(flightKey, stamp) {
		return
	}
	reader, flight, lead := x.edge.fills.Join(flightKey, stamp)
	if lead {
		o, err := x.order(stamp, decide.Decision{Action: decide.ServeAndRefresh})
		if err != nil {
			flight.End(err)
		} else {
			o.behind = true
			o.found = entry
			o.req.Method = http.MethodGet
			go x.edge.lead(flight, o)
		}
	}
	reader.Close()
}

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
	if o.validate {
		for name, values := range rules.Validators(o.found.Header) {
			o.req.Header[name] = values
		}
	}
	resp, err := o.client.Do(o.req.WithContext(ctx))
	if err == nil && resp.StatusCode == http.StatusNotModified {
		resp.Body.Close()
		header := rules.Header(resp.Header)
		if o.validate && rules.Validates(header, o.found.Header) {
			return e.confirm(f, o, header, began)
		}
		// It confirms something that we do not have: ask for all of it.
		o.validate = false
		for _, name := range []string{"If-None-Match", "If-Modified-Since"} {
			o.req.Header.Del(name)
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

// confirm renews a stored entry after a 304 (RFC 9111 §4.3.4).
func (e *Edge) confirm(f *fill.Flight[*head], o *order, header rules.Header, began time.Time) error {
	received := e.Now()
	fresh := rules.Freshened(o.found.Header, header)
	entry := e.entry(o, o.found.Status, fresh, o.found.Body, began, received)
	entry.Vary = o.found.Vary
	entry.KeepCost(o.found)
	entry.Prepare()
	if rule := e.mayStore(o, o.found.Status, fresh, entry.Freshness, received); rule == rules.OK {
		e.Store.Put(entry, received)
	} else {
		e.Store.Remove(o.found, store.Replaced)
	}
	h := &head{status: entry.Status, header: entry.Header, received: received, waited: received.Sub(began), entry: entry, vary: entry.Vary, browser: rules.Unset}
	f.Head(h, true, true)
	return nil
}

func (e *Edge) mayStore(o *order, status int, header rules.Header, f rules.Freshness, received time.Time) rules.Rule {
	return rules.MayStore(rules.Storing{
		Method: o.req.Method, Authorized: o.header.Has("Authorization"), NoStore: o.noStore,
		Status: status, Header: header, Received: received, Directives: rules.ResponseDirectives(header), Freshness: f, Terms: o.plan.Terms,
	})
}

// entry makes an entry of a response, without its preparation.
func (e *Edge) entry(o *order, status int, header rules.Header, body []byte, began, received time.Time) *store.Entry {
	query, _ := o.plan.Key.Query.Canonical(o.request.Query, o.request.HasQuery)
	return &store.Entry{
		Key: o.key, Method: o.req.Method, Scheme: o.request.Scheme,
		Subject: tags.Subject{
			Tags: tagsOf(o, header), Route: o.plan.Name,
			Host: o.request.Host, Path: o.request.Path, Query: query, Stamp: o.stamp,
		},
		Vary:   rules.VaryingOf(header, o.header),
		Status: status, Header: header, Body: body, Received: received,
		Freshness: rules.FreshnessOf(status, header, rules.ResponseDirectives(header), began, received, o.plan.Terms),
		Browser:   o.plan.Browser, Idle: o.plan.Idle,
	}
}

// tagsOf gathers an entry's tags: the route's, and those that the origin names.
func tagsOf(o *order, header rules.Header) []string {
	own := o.plan.TagsOf(&o.request)
	groups, _ := rules.Groups(header["Cache-Groups"])
	if name := o.client.Origin.TagHeader; name != "" {
		plain, _ := rules.PlainGroups(header[name], o.client.Origin.TagSeparator)
		groups = append(groups, plain...)
	}
	for _, tag := range groups {
		if !slices.Contains(own, tag) {
			own = append(own, tag)
		}
	}
	return own[:min(len(own), rules.MaxGroups)]
}

// bring takes a whole answer in: to all who wait, and into the store if it may.
func (e *Edge) bring(ctx context.Context, f *fill.Flight[*head], o *order, resp *http.Response, began time.Time, limit *time.Timer) error {
	received := e.Now()
	header := rules.Header(resp.Header)
	rules.DropHopByHop(header)
	if !header.Has("Date") {
		header["Date"] = []string{rules.FormatDate(received)} // RFC 9110 §6.6.1
	}
	entry := e.entry(o, resp.StatusCode, header, nil, began, received)
	h := &head{status: resp.StatusCode, header: header, own: header, received: received, waited: received.Sub(began), length: resp.ContentLength, vary: entry.Vary, browser: o.plan.Browser}
	h.rule = e.mayStore(o, resp.StatusCode, header, entry.Freshness, received)
	if h.rule == rules.OK && resp.ContentLength > o.plan.MaxBody {
		h.rule = rules.TooLarge
	}
	if o.req.Method != http.MethodGet {
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
			e.lone.note(o.key, received)
		}
	}
	if keep && resp.ContentLength == 0 { // a visitor has all of it when he has the head
		e.keep(f, entry, o, began)
		keep = false
		f.Head(h, true, true)
		return nil
	}
	f.Head(h, keep, h.rule == rules.OK)
	for {
		room, err := f.Room(ctx, expect-f.Size())
		if err != nil {
			return err
		}
		if over := f.Size() + int64(len(room)) - reserved; keep && over > 0 {
			if f.Size() > o.plan.MaxBody || !e.Store.Reserve(over) {
				keep = false
				limit.Stop()
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
	h.took.Store(int64(e.Now().Sub(began)))
	if keep && f.Size() <= o.plan.MaxBody {
		e.Store.Release(reserved)
		reserved = 0
		e.keep(f, entry, o, began)
	}
	return nil
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
// not worth its room: the marks would defeat it at every lookup.
func (e *Edge) keep(f *fill.Flight[*head], entry *store.Entry, o *order, began time.Time) {
	entry.Body = f.Body()
	now := e.Now()
	entry.Filled(o.found, now.Sub(began))
	entry.Prepare()
	if f.Disowned() || e.Marks.Judge(&entry.Subject) == tags.Dropped {
		return
	}
	e.Store.Put(entry, now)
}
