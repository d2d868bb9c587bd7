package edge

import (
	"bytes"
	"cmp"
	"errors"
	"io"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/decide"
	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/origin"
)

// head is what a fill knows before the body: the status and header that visitors get.
type head struct {
	status    int
	header    httprules.Header // for everyone
	own       httprules.Header // for the one who leads: with the fields that are for them alone; of a 304, only those
	received  time.Time
	waited    time.Duration          // from asking to the first byte
	took      atomic.Int64           // ns, from asking to the last byte; 0 until then
	length    int64                  // of the body, -1 if unknown
	rule      httprules.Reason       // why the answer is not for others; OK if it is
	fresh     bool                   // on arrival, so that those who joined may have it
	subject   *tags.Subject          // of the entry that it becomes
	unsure    bool                   // only its end shows whether it is stored
	withheld  bool                   // the origin did not see what may make the answer another
	kept      atomic.Bool            // it is stored
	busy      bool                   // too many answers go at their visitors' pace for this one
	filling   *store.Entry           // that it may become; nil: it is not for the store
	vary      []httprules.Varying    // what the answer depends on, as the leader's request had it
	encodings []string               // content codings that its origin gave it
	personal  bool                   // for the one whom the key names
	search    httprules.Search       // which other queries it answers
	query     string                 // that it was asked with
	trailers  []string               // announced
	trailer   http.Header            // complete when the body is
	whole     atomic.Pointer[[]byte] // the body, once all of it is there and stored
	browser   time.Duration
	told      []string                     // of the fragments in it, for engineers
	composes  bool                         // it is a skeleton
	skeleton  atomic.Pointer[compose.Page] // parsed, once it is stored
	entry     *store.Entry                 // a stored answer that the origin confirmed (304): the body is there
	there     bool                         // so was all of it: nobody was asked
}

// isShared reports whether those who joined may have the answer at all: it is stored, and
// needs no validation for each of them (RFC 9111 §5.2.2.4).
func (h *head) isShared() bool { return h.rule == httprules.OK && h.fresh }

// answers reports whether a request that joined may read the answer.
func (h *head) answers(request httprules.Fields, query string) bool {
	return h.isShared() && httprules.Accepts(request, h.encodings) && httprules.Matches(h.vary, request) && h.search.Canonical(h.query) == h.search.Canonical(query)
}

// claims reports whether the answer may be said to be stored: it is, or nothing is known
// that would keep it from that.
func (h *head) claims(e *Edge) bool {
	if h.rule != httprules.OK || h.entry != nil && !h.kept.Load() {
		return false
	}
	return h.kept.Load() || h.took.Load() == 0 && h.length >= 0 && !h.unsure && e.Marks.Judge(h.subject) != tags.Dropped
}

// order is all that a fill needs; it outlives the request that caused it.
type order struct {
	route      *policy.Route
	client     *origin.Client
	req        *http.Request
	request    key.Request
	sent       origin.Sent   // the request as it reaches the origin, for Vary
	limit      time.Duration // for the head
	varied     []string      // fields that it is asked with because its Vary named them
	asVisitor  bool          // with everything that the visitor sent
	alone      bool          // it says nothing of what others would get
	key        string
	stamp      tags.Stamp
	searchKey  string
	query      string
	found      *store.Entry   // to be validated, or whose cost is known
	candidates []*store.Entry // other variants, which the origin may confirm instead of sending another
	validate   bool
	noStore    bool
	behind     bool
	unstored   httprules.Reason // why the last answer was not stored; OK: nothing is known
	asked      bool             // it carries the visitor's own conditions
	requests   origin.Requests
}

// order prepares a fill for the exchange. A HEAD of what is stored asks for all of it,
// so that it can renew the entry and be shared; a HEAD of what is not stays a HEAD.
func (x *exchange) order(stamp tags.Stamp, d decide.Decision) (*order, error) {
	o := x.rules.Policy.OriginFor(x.req.Host)
	if o == nil {
		return nil, errNoOrigin
	}
	client := x.rules.clients[o]
	query, has := x.route.Key.Query.Canonical(x.req.Query, x.req.HasQuery)
	ord := &order{
		route: x.route, client: client, key: string(x.key), searchKey: x.searchKey(), query: query, stamp: stamp, noStore: d.NoStore,
		request: x.req, sent: x.sent, limit: x.route.Limit(o), asVisitor: d.AsVisitor, alone: d.Alone,
	}
	ord.request.Header = x.req.Header.Clone()
	ord.sent.Request = &ord.request
	ord.varied = x.variedNames()
	method := x.req.Method
	if method == http.MethodHead && x.in.Entry != nil {
		method = http.MethodGet
	}
	ord.req = &http.Request{
		Method: method, URL: client.Target(x.r.URL, query, has), Host: x.req.Host,
		Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
	}
	ord.address()
	if body := x.body; body != nil {
		if kind := x.route.Key.Body; kind == key.JSON || kind == key.GraphQL {
			// Parameters of the media type are not in the key.
			if media, _, cut := strings.Cut(ord.req.Header.Get("Content-Type"), ";"); cut {
				ord.req.Header.Set("Content-Type", strings.TrimSpace(media))
			}
		}
		ord.req.ContentLength = int64(len(body))
		ord.req.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body)), nil }
		ord.req.Body, _ = ord.req.GetBody()
	}
	if x.in.Entry != nil && x.in.Verdict != tags.Dropped && !d.Alone {
		ord.found = x.in.Entry
		ord.validate = d.Action == decide.Validate || d.Action == decide.ServeAndRefresh
	} else if d.Alone {
		// What is stored is not for this visitor, so that nothing of it is to be confirmed.
	} else if x.in.Entry == nil && x.in.Variants > 0 {
		ord.candidates = x.candidates()
	}
	return ord, nil
}

// address makes the header that the origin is asked with.
func (o *order) address() {
	if o.asVisitor {
		o.req.Header = o.sent.Whole()
	} else {
		o.req.Header = o.sent.Fill(o.varied)
	}
	if o.behind { // the visitor does not wait for it
		delete(o.req.Header, "Cache-Control")
		delete(o.req.Header, "Pragma")
	}
	o.req.Header.Set("Surrogate-Capability", capability)
	if o.route.Compose { // what is compressed cannot be read
		o.req.Header.Del("Accept-Encoding")
	}
}

// capability tells origins that pages are composed here.
const capability = httprules.CacheName + `="ESI/1.0"`

// variedNames are the fields that the origin is known to vary on for this key.
func (x *exchange) variedNames() []string {
	if !x.route.Terms.States() {
		return nil
	}
	names, _ := x.edge.varied.of(string(x.key))
	if e := x.in.Entry; e != nil { // it is confirmed only if it is asked for as before
		names = slices.Clone(names)
		for _, v := range e.Vary {
			if !slices.Contains(names, v.Name) {
				names = append(names, v.Name)
			}
		}
	}
	return names
}

// candidates are the other variants that a strong validator can name (RFC 9111 §4.1,
// §4.3.1), and that the visitor could read.
func (x *exchange) candidates() []*store.Entry {
	var named []*store.Entry
	for _, e := range x.edge.Store.Variants(x.key) {
		if etag := e.Header.Get("Etag"); strings.HasPrefix(etag, `"`) && e.Judge(x.edge.Marks) != tags.Dropped && httprules.Accepts(&x.sent, e.Encodings) {
			named = append(named, e)
		}
	}
	return slices.DeleteFunc(slices.Clone(named), func(e *store.Entry) bool {
		// One tag for two codings tells nobody which of them is confirmed (RFC 9110 §8.8.3.3).
		return slices.ContainsFunc(named, func(other *store.Entry) bool {
			return other.Header.Get("Etag") == e.Header.Get("Etag") && !slices.Equal(other.Encodings, e.Encodings)
		})
	})
}

// known is what is known of the answer before it comes.
func (o *order) known() *tags.Subject {
	s := o.subject()
	s.Tags = o.route.TagsOf(&o.request)
	if o.found != nil {
		s.Tags = append(s.Tags, o.found.Subject.Tags...)
	}
	return &s
}

// subject is what the answer is, but for its tags.
func (o *order) subject() tags.Subject {
	return tags.Subject{
		Route: o.route.Name, Stamp: o.stamp,
		// Cloned: else each would keep the whole request line that it was cut from.
		Host: strings.Clone(o.request.Host), Path: strings.Clone(key.EquivalentPath(o.request.Path)), Query: strings.Clone(key.Equivalent(o.query)),
	}
}

var errNoOrigin = errors.New("no origin of the policy answers this host")

// fetch asks the origin, or joins a request that already does.
func (x *exchange) fetch(d decide.Decision) {
	last, known := x.edge.unshared.of(likeThis(string(x.key), x.route, x.req.Header))
	// When the ledger is lost, nobody knows whether what is under way began before a purge.
	alone := d.Alone || x.r.Method == http.MethodHead && x.in.Entry == nil || d.NoStore || x.in.Lost || known && x.began.Before(last.until)
	x.forward = d.Forward
	if x.in.Entry == nil && !x.route.Compose && accepts(x.req.Header, "text/event-stream") {
		x.sample.Cause = meter.Unstorable(httprules.EventStream)
		x.pass(d.Forward) // a stream is for the one who opens it
		return
	}
	ask := asking{Decision: d}
	if known {
		ask.unstored = last.rule
	}
	if known && (x.began.Before(last.until) || last.rule.Declared() && x.began.Before(last.at.Add(mostLone))) && x.isPersonal(last.rule, last.status) {
		ask.AsVisitor = true
	}
	alone = alone || x.bearConditions(&ask) || ask.AsVisitor
	if alone && x.req.Header.Has("Range") && !x.route.Compose { // not for the store, so the part alone will do
		x.pass(d.Forward)
		return
	}
	flightKey := x.flightKey()
	for again := true; again; {
		again, flightKey, alone = x.attempt(&ask, flightKey, alone)
	}
}

// asking is a decision to ask the origin.
type asking struct {
	decide.Decision
	unstored   httprules.Reason // what kept its last answer from the store; OK if nothing did
	conditions bool             // the visitor's own are asked
	strict     bool             // what began before a purge is not joined
	order      *order           // that is carried out, of those who lead
}

// madeRequest reports whether an origin was asked for it.
func (a *asking) madeRequest() bool { return a.order != nil && a.order.requests.Made() > 0 }

// bearConditions lets the visitor's own conditions go to the origin, if there are any and
// the last answer was not stored: it knows what the visitor has, and we have nothing to
// compare it with.
func (x *exchange) bearConditions(ask *asking) bool {
	ask.conditions = ask.unstored != httprules.OK && x.in.Entry == nil && !x.route.Compose && slices.ContainsFunc(conditions, x.req.Header.Has)
	return ask.conditions
}

// isPersonal reports whether an answer that is not for others may have come out otherwise
// had the origin seen all that the visitor sent: the route withholds some of it. What is
// nowhere, and what fails, fails for all.
func (x *exchange) isPersonal(rule httprules.Reason, status int) bool {
	return x.route.Terms.States() && rule.ForOne() && status < 500 && status != http.StatusNotFound && status != http.StatusGone && status != http.StatusTooManyRequests
}

// attempt leads or joins one fill and answers with it, unless what it brings is not for this
// visitor: then it says how to go on.
func (x *exchange) attempt(d *asking, flightKey string, alone bool) (again bool, nextKey string, nextAlone bool) {
	e := x.edge
	stamp := e.Marks.Stamp()
	var reader *fill.Reader[*head]
	var flight *fill.Flight[*head]
	lead := true
	spared := e.spared
	if d.strict {
		spared = nil
	}
	if alone {
		reader, flight = e.fills.Alone(stamp)
	} else {
		reader, flight, lead = e.fills.Join(flightKey, stamp, spared)
	}
	defer reader.Close()
	if lead && !alone && x.already(flight) {
		lead = false
	}
	if lead && !x.send(flight, d) {
		return false, "", false
	}
	h, err := reader.Wait(x.r.Context(), x.hint)
	if err == nil && !lead && flight.Stamp < stamp && !e.spared(h.subject) {
		// A purge between the beginning of the fill and that of the request names what only the
		// answer told. Once is enough: the next one is not joined unless it began later.
		d.strict = true
		return true, flightKey, false
	}
	if err == nil && h.busy {
		err = origin.ErrBusy
	}
	if err == nil && h.rule != httprules.OK && x.req.Header.Has("Range") && h.status == http.StatusOK && !h.composes {
		if lead {
			e.countMore(x.route, 1)
		}
		reader.Close()
		x.pass(d.Forward) // only a part was asked for, and the whole is not for the store
		return false, "", false
	}
	if err == nil && !d.AsVisitor && (h.withheld || !lead) && x.isPersonal(h.rule, h.status) {
		// It is for one visitor alone, so that each asks for it with all that they sent.
		if lead {
			e.countMore(x.route, 1)
		}
		d.AsVisitor, d.unstored = true, h.rule
		x.bearConditions(d)
		return true, flightKey, true
	}
	if err != nil || lead || h.answers(&x.sent, x.query()) {
		x.receive(reader, h, err, lead, d)
		return false, "", false
	}
	if !h.isShared() || !httprules.Accepts(&x.sent, h.encodings) {
		return true, flightKey, true // not for others: all ask for themselves, all at once
	}
	nextKey = string(x.key) + varyKey(h.vary, &x.sent)
	return true, nextKey, nextKey == flightKey // nothing that tells the two apart: do not join again
}

// already gives a flight what another one has stored since the request was looked up, and
// reports whether there was something: who leads would ask the origin for it again.
func (x *exchange) already(flight *fill.Flight[*head]) bool {
	in := x.in
	in.Entry, in.Failure = x.edge.Store.Find(x.key, &x.sent).Entry, nil
	if in.Entry == nil || in.Entry == x.in.Entry || in.Entry.Terms != x.route.TermsDigest {
		return false
	}
	in.Verdict = in.Entry.Judge(x.edge.Marks)
	if decide.Of(&in).Action != decide.Serve {
		return false
	}
	x.in = in
	h := &head{status: in.Entry.Status, header: in.Entry.Header, entry: in.Entry, there: true, fresh: true, subject: &in.Entry.Subject, vary: in.Entry.Vary, encodings: in.Entry.Encodings,
		search: httprules.ParseNoVarySearch(in.Entry.Header), query: x.query(), received: in.Entry.Received, browser: httprules.Unset}
	h.kept.Store(true)
	flight.Leave()
	flight.Head(h, true, true)
	flight.End(nil)
	return true
}

// spared reports whether no purge concerns an answer since its fill began.
func (e *Edge) spared(answer *tags.Subject) bool { return e.Marks.Judge(answer) == tags.Alive }

// send starts a fill; false after it has told the visitor why it cannot.
func (x *exchange) send(flight *fill.Flight[*head], d *asking) bool {
	o, err := x.order(flight.Stamp, d.Decision)
	if err != nil {
		flight.End(err)
		x.forward = httprules.NotForwarded
		x.refuse(http.StatusMisdirectedRequest, err.Error(), d.Cause)
		return false
	}
	d.order = o
	o.unstored, o.asked = d.unstored, d.conditions
	flight.Knows(o.known())
	if d.conditions {
		o.candidates = nil
		for _, name := range conditions {
			if lines := x.req.Header[name]; len(lines) > 0 {
				o.req.Header[name] = lines
			}
		}
	}
	if !x.edge.run(func() { x.edge.lead(flight, o) }) {
		flight.End(errEnding)
	}
	return true
}

// conditions are the fields in which a visitor says what they have already.
var conditions = []string{"If-Match", "If-None-Match", "If-Modified-Since", "If-Unmodified-Since"}

// errEnding says that the edge has been shut down.
var errEnding = errors.New("this node is stopping")

// accepts reports whether a request's Accept names a media type.
func accepts(h httprules.Header, media string) bool {
	for _, line := range h["Accept"] {
		for member := range strings.SplitSeq(line, ",") {
			kind, _, _ := strings.Cut(member, ";")
			if strings.EqualFold(strings.TrimSpace(kind), media) {
				return true
			}
		}
	}
	return false
}

func (x *exchange) query() string {
	query, _ := x.route.Key.Query.Canonical(x.req.Query, x.req.HasQuery)
	return query
}

// hint passes an interim answer on (RFC 9110 §15.2).
func (x *exchange) hint(h *head) {
	if !x.r.ProtoAtLeast(1, 1) {
		return // HTTP/1.0 knows none
	}
	out := x.w.Header()
	for name, values := range h.header {
		out[name] = values
	}
	x.w.WriteHeader(h.status)
	clear(out)
}

// flightKey is the key, with what this key's stored variants are known to depend on.
func (x *exchange) flightKey() string {
	if x.in.Entry != nil {
		return string(x.key) + varyKey(x.in.Entry.Vary, &x.sent)
	}
	if x.in.Variants > 0 {
		if known := x.edge.Store.Variants(x.key); len(known) > 0 {
			return string(x.key) + varyKey(known[0].Vary, &x.sent)
		}
	}
	return string(x.key)
}

func varyKey(vary []httprules.Varying, request httprules.Fields) string {
	if len(vary) == 0 {
		return ""
	}
	suffix := "\x00"
	for _, v := range vary {
		suffix += v.Name
		if lines := request.Lines(v.Name); len(lines) > 0 { // absent is not empty
			suffix += "=" + httprules.Normalised(v.Name, lines)
		}
		suffix += "\x00"
	}
	return suffix
}

// receive writes what a fill brings to the visitor.
func (x *exchange) receive(reader *fill.Reader[*head], h *head, err error, lead bool, d *asking) {
	if err == nil && x.route.Terms.Failed(h.status) || err != nil && x.r.Context().Err() == nil {
		if stale := x.in.Entry; x.in.Route != nil && decide.OnError(&x.in, x.edge.Now()) {
			x.sample.Origin, x.sample.Waited = d.madeRequest(), x.edge.Now().Sub(x.began)
			status := httprules.CacheStatus{Forward: d.Forward, TTL: int64(x.in.Remaining(x.began) / time.Second), HasTTL: true, Collapsed: !lead}
			if err == nil {
				status.Status = h.status
			}
			x.serve(stale, meter.Stale, status)
			return
		}
	}
	if err != nil {
		x.fail(err, d)
		return
	}
	if h.there {
		x.sample.Cause, x.forward = meter.NoCause, httprules.NotForwarded
		x.serve(h.entry, meter.Hit, httprules.CacheStatus{})
		return
	}
	passed := h.rule != httprules.OK && (d.Cause == meter.SignedIn || d.Cause == meter.Nameless)
	if h.rule != httprules.OK && !passed {
		x.sample.Cause = meter.Unstorable(h.rule)
	}
	status := httprules.CacheStatus{Forward: d.Forward, Stored: h.claims(x.edge), Collapsed: !lead}
	outcome := meter.Miss
	switch {
	case passed:
		outcome = meter.Bypass
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
		if lead {
			x.own = h.own
		}
		x.serve(h.entry, outcome, status)
		return
	}
	x.sample.Outcome = outcome
	if !x.hold(h.filling, h.held()) {
		x.fail(origin.ErrBusy, d)
		return
	}
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
func (x *exchange) fail(err error, d *asking) {
	x.sample.Origin, x.sample.Waited = d.madeRequest(), x.edge.Now().Sub(x.began)
	if x.r.Context().Err() != nil {
		x.sample.Cause = d.Cause
		panic(http.ErrAbortHandler)
	}
	f := origin.FailureOf(err)
	if x.in.Entry != nil && x.in.Entry.Freshness.NeverStale {
		f.Status = http.StatusGatewayTimeout // must-revalidate could not be done (RFC 9111 §5.2.2.2)
	}
	x.refuse(f.Status, f.Text, d.Cause)
}

// stream sends the header and then the body as it arrives.
func (x *exchange) stream(reader *fill.Reader[*head], h *head, status httprules.CacheStatus) {
	out := x.w.Header()
	header := h.header
	if !status.Collapsed {
		header = h.own
	}
	for name, values := range header {
		out[name] = values
	}
	x.detail(&status, x.explains())
	out["Cache-Status"] = append(append([]string(nil), h.header["Cache-Status"]...), status.String())
	if h.browser != httprules.Unset && h.rule == httprules.OK {
		out["Cache-Control"] = []string{httprules.BrowserControl(h.header, h.personal, h.browser, httprules.InitialAge(h.header, h.received, h.received))}
		delete(out, "Expires")
		delete(out, "Pragma")
	}
	if explains := x.explains(); explains && h.told != nil {
		out[partsField] = h.told
	}
	var gathered *[]byte
	if h.composes {
		body, err := x.whole(reader, h)
		if err != nil || x.composeFill(body, h, header) {
			return
		}
		gathered = &body // it is no skeleton after all
	}
	if httprules.NotModified(x.req.Header, h.status, h.header, h.received) {
		for name := range out {
			_, common := h.header[name]
			if own := !common && header.Has(name) && !status.Collapsed; !own && !httprules.InNotModified(name) && name != "Cache-Status" && name != "Age" {
				delete(out, name)
			}
		}
		x.status(http.StatusNotModified)
		return
	}
	if len(h.trailers) > 0 {
		out["Trailer"] = h.trailers // announced, so that the answer is sent in chunks
	}
	skip, send := int64(0), int64(math.MaxInt64)
	if span, part := x.partOf(h); part && gathered == nil {
		skip, send = span.From, span.Length
		partial(out)
		out["Content-Range"] = []string{span.ContentRange(h.length)}
		out["Content-Length"] = []string{strconv.FormatInt(span.Length, 10)}
		x.status(http.StatusPartialContent)
	} else if body := cmp.Or(gathered, h.whole.Load()); body != nil && len(h.trailers) == 0 {
		// All is there: one write, however many pieces it came in.
		out["Content-Length"] = []string{strconv.Itoa(len(*body))}
		x.status(h.status)
		if x.r.Method != http.MethodHead {
			x.sample.Bytes, _ = x.give(*body)
		}
		return
	} else {
		x.status(h.status)
	}
	if x.r.Method == http.MethodHead {
		return
	}
	flusher := http.NewResponseController(x.w)
	for {
		data, err := reader.Next(x.r.Context(), func() { _ = flusher.Flush() })
		if err == io.EOF {
			for name, values := range h.trailer {
				out[name] = values
			}
			return
		}
		if err != nil {
			// Half is nothing: the visitor must see a broken connection, not a short body.
			x.sample.Outcome = meter.Error
			panic(http.ErrAbortHandler)
		}
		passed := min(skip, int64(len(data)))
		skip -= passed
		data = data[passed:]
		data = data[:min(send, int64(len(data)))]
		send -= int64(len(data))
		if send == 0 && len(data) == 0 {
			return // the visitor has the part; the fill goes on without him
		}
		n, err := x.give(data)
		x.sample.Bytes += n
		if err != nil {
			return // the visitor went away
		}
	}
}

// partOf is the one range of a stream whose length is known that a visitor asks for.
// Several are answered with the whole: the stream comes once.
func (x *exchange) partOf(h *head) (httprules.Span, bool) {
	if h.status != http.StatusOK || h.length <= 0 || x.r.Method != http.MethodGet {
		return httprules.Span{}, false
	}
	result, spans := httprules.Ranges(x.req.Header, h.header, h.length)
	if result != httprules.Parts || len(spans) != 1 {
		return httprules.Span{}, false
	}
	return spans[0], true
}

// refresh renews an entry behind the visitor's back, unless that is already being done.
func (x *exchange) refresh(entry *store.Entry) {
	e := x.edge
	stamp := e.Marks.Stamp()
	flightKey := x.flightKey()
	if e.fills.Flying(flightKey, stamp, e.spared) {
		return
	}
	reader, flight, lead := e.fills.Join(flightKey, stamp, e.spared)
	defer reader.Close()
	if !lead {
		return
	}
	if x.already(flight) {
		return
	}
	o, err := x.order(stamp, decide.Decision{Action: decide.ServeAndRefresh})
	if err != nil {
		flight.End(err)
		return
	}
	o.behind, o.found = true, entry
	o.address()
	flight.Knows(o.known())
	if !e.run(func() { e.lead(flight, o) }) {
		flight.End(errEnding)
	}
}
