package edge

import (
	"bytes"
	"cmp"
	"errors"
	"io"
	"math"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"gerastic/internal/core/compose"
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
	waited   time.Duration          // from asking to the first byte
	took     atomic.Int64           // ns, from asking to the last byte; 0 until then
	length   int64                  // of the body, -1 if unknown
	rule     rules.Rule             // why the answer is not for others; OK if it is
	vary     []rules.Varying        // what the answer depends on, as the leader's request had it
	search   rules.Search           // which other queries it answers
	query    string                 // that it was asked with
	trailers []string               // announced
	trailer  http.Header            // complete when the body is
	whole    atomic.Pointer[[]byte] // the body, once all of it is there and stored
	browser  time.Duration
	told     []string                     // of the fragments in it, for engineers
	composes bool                         // it is a skeleton
	skeleton atomic.Pointer[compose.Page] // parsed, once it is stored
	entry    *store.Entry                 // a stored answer that the origin confirmed (304): the body is there
}

// answers tells whether a request that joined may read the answer.
func (h *head) answers(request rules.Header, query string) bool {
	return h.rule == rules.OK && rules.Matches(h.vary, request) && h.search.Canonical(h.query) == h.search.Canonical(query)
}

// order is all that a fill needs; it outlives the request that caused it.
type order struct {
	plan       *policy.Plan
	client     *origin.Client
	req        *http.Request
	request    key.Request
	header     rules.Header // the visitor's, for Vary
	key        string
	stamp      tags.Stamp
	searchKey  string
	query      string
	found      *store.Entry   // to be validated, or whose cost is known
	candidates []*store.Entry // other variants, which the origin may confirm instead of sending another
	validate   bool
	noStore    bool
	behind     bool
}

// order prepares a fill for the exchange. A HEAD of what is stored asks for all of it,
// so that it can renew the entry and be shared; a HEAD of what is not stays a HEAD.
func (x *exchange) order(stamp tags.Stamp, d decide.Decision) (*order, error) {
	o := x.rules.Policy.OriginFor(x.req.Host)
	if o == nil {
		return nil, errNoOrigin
	}
	client := x.rules.clients[o]
	query, has := x.plan.Key.Query.Canonical(x.req.Query, x.req.HasQuery)
	ord := &order{
		plan: x.plan, client: client, key: string(x.key), searchKey: x.searchKey(), query: query, stamp: stamp, noStore: d.NoStore,
		request: x.req, header: x.req.Header.Clone(),
	}
	ord.request.Header = ord.header
	method := x.req.Method
	if method == http.MethodHead && x.in.Entry != nil {
		method = http.MethodGet
	}
	ord.req = &http.Request{
		Method: method, URL: client.Target(x.r.URL, query, has), Host: x.req.Host,
		Header: origin.FillHeader(x.r, &x.req, &x.plan.Key, x.edge.Trusted),
		Proto:  "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
	}
	ord.req.Header.Set("Surrogate-Capability", rules.CacheName+`="ESI/1.0"`)
	if x.plan.Compose { // what is compressed cannot be read
		ord.req.Header.Del("Accept-Encoding")
	}
	if body := x.body; body != nil {
		if kind := x.plan.Key.Body; kind == key.JSON || kind == key.GraphQL {
			// Parameters of the media type are not in the key.
			if media, _, cut := strings.Cut(ord.req.Header.Get("Content-Type"), ";"); cut {
				ord.req.Header.Set("Content-Type", strings.TrimSpace(media))
			}
		}
		ord.req.ContentLength = int64(len(body))
		ord.req.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body)), nil }
		ord.req.Body, _ = ord.req.GetBody()
	}
	if x.in.Entry != nil && x.in.Verdict != tags.Dropped {
		ord.found = x.in.Entry
		ord.validate = d.Action == decide.Validate || d.Action == decide.ServeAndRefresh
	} else if x.in.Entry == nil && x.in.Variants > 0 {
		ord.candidates = x.candidates()
	}
	return ord, nil
}

// candidates are the other variants that a strong validator can name (RFC 9111 §4.1, §4.3.1).
func (x *exchange) candidates() []*store.Entry {
	var named []*store.Entry
	for _, e := range x.edge.Store.Variants(x.key) {
		if etag := e.Header.Get("Etag"); strings.HasPrefix(etag, `"`) && e.Judge(x.edge.Marks) != tags.Dropped {
			named = append(named, e)
		}
	}
	return named
}

var errNoOrigin = errors.New("no origin of the policy answers this host")

// fetch asks the origin, or joins a request that already does.
func (x *exchange) fetch(d decide.Decision) {
	e := x.edge
	stamp := e.Marks.Stamp()
	until, lone := e.lone.of(string(x.key))
	// When the ledger is lost, nobody knows whether what is under way began before a purge.
	alone := x.r.Method == http.MethodHead && x.in.Entry == nil || d.NoStore || x.in.Lost || lone && x.began.Before(until)
	if alone && x.req.Header.Has("Range") && !x.plan.Compose { // not for the store, so the part alone will do
		x.pass(d.Forward)
		return
	}
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
			if err != nil {
				flight.End(err)
				reader.Close()
				x.refuse(http.StatusMisdirectedRequest, err.Error(), d.Cause)
				return
			}
			go e.lead(flight, o)
		}
		h, err := reader.Wait(x.r.Context(), x.hint)
		if err == nil && h.rule != rules.OK && x.req.Header.Has("Range") && h.status == http.StatusOK && !h.composes {
			// Only a part was asked for, and the whole is not for the store.
			reader.Close()
			x.pass(d.Forward)
			return
		}
		if err == nil && !lead && !h.answers(x.req.Header, x.query()) {
			reader.Close()
			if h.rule != rules.OK {
				alone = true // not for others: everyone asks for himself, all at once
			} else {
				next := string(x.key) + varyKey(h.vary, x.req.Header)
				alone = next == flightKey // nothing that tells the two apart: do not join again
				flightKey = next
			}
			continue
		}
		x.receive(reader, h, err, lead, d)
		reader.Close()
		return
	}
}

func (x *exchange) query() string {
	query, _ := x.plan.Key.Query.Canonical(x.req.Query, x.req.HasQuery)
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
		suffix += v.Name
		if request.Has(v.Name) { // absent is not empty
			suffix += "=" + request.Joined(v.Name)
		}
		suffix += "\x00"
	}
	return suffix
}

// receive writes what a fill brings to the visitor.
func (x *exchange) receive(reader *fill.Reader[*head], h *head, err error, lead bool, d decide.Decision) {
	if err == nil && decide.FailedStatus(h.status) || err != nil && x.r.Context().Err() == nil {
		if stale := x.in.Entry; x.in.Plan != nil && decide.OnError(&x.in, x.edge.Now()) {
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
		status.Stored = h.rule == rules.OK
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
	if x.in.Entry != nil && x.in.Entry.Freshness.NeverStale {
		f.Status = http.StatusGatewayTimeout // must-revalidate could not be done (RFC 9111 §5.2.2.2)
	}
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
	x.detail(&status, x.explains())
	out["Cache-Status"] = append(append([]string(nil), h.header["Cache-Status"]...), status.String())
	if h.browser != rules.Unset && h.rule == rules.OK {
		out["Cache-Control"] = []string{"max-age=" + strconv.FormatInt(int64((h.browser+rules.InitialAge(h.header, h.received, h.received))/time.Second), 10)}
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
	if len(h.trailers) > 0 {
		out["Trailer"] = h.trailers // announced, so that the answer is sent in chunks
	}
	skip, send := int64(0), int64(math.MaxInt64)
	if span, part := x.partOf(h); part && gathered == nil {
		skip, send = span.From, span.Length
		out["Content-Range"] = []string{span.ContentRange(h.length)}
		out["Content-Length"] = []string{strconv.FormatInt(span.Length, 10)}
		x.status(http.StatusPartialContent)
	} else if body := cmp.Or(gathered, h.whole.Load()); body != nil && len(h.trailers) == 0 {
		// All is there: one write, however many pieces it came in.
		out["Content-Length"] = []string{strconv.Itoa(len(*body))}
		x.status(h.status)
		if x.r.Method != http.MethodHead {
			n, _ := x.w.Write(*body)
			x.sample.Bytes = int64(n)
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
			return // he has his part; the fill goes on without him
		}
		n, err := x.w.Write(data)
		x.sample.Bytes += int64(n)
		if err != nil {
			return // the visitor went away
		}
	}
}

// partOf is the one range of a stream whose length is known that a visitor asks for.
// Several are answered with the whole: the stream comes once.
func (x *exchange) partOf(h *head) (rules.Span, bool) {
	if h.status != http.StatusOK || h.length <= 0 || x.r.Method != http.MethodGet {
		return rules.Span{}, false
	}
	result, spans := rules.Ranges(x.req.Header, h.header, h.length)
	if result != rules.Parts || len(spans) != 1 {
		return rules.Span{}, false
	}
	return spans[0], true
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
			go x.edge.lead(flight, o)
		}
	}
	reader.Close()
}
