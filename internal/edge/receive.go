package edge

import (
	"crypto/sha256"
	"io"
	"maps"
	"net/http"
	"strconv"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/decide"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/fetch"
)

// receive answers with what a fill brings, or for the error that it ended with.
func (x *exchange) receive(s share, h *fetch.Head, err error, w *want) {
	switch {
	case x.standIn(s, h, err, w):
	case err != nil:
		x.fail(err, w)
	case h.AtHand:
		x.sample.Cause, x.forward = meter.NoCause, httprules.NotForwarded
		x.serve(h.Entry, meter.Hit, httprules.CacheStatus{})
	default:
		x.answer(s, h, w)
	}
}

// standIn answers with what is stored for an origin that failed, if that may be; it reports
// whether it did (RFC 5861 §4).
func (x *exchange) standIn(s share, h *fetch.Head, err error, w *want) bool {
	failed := err == nil && x.route.Terms.Failed(h.Status) || err != nil && x.r.Context().Err() == nil
	stale := x.in.Entry
	if !failed || x.in.Route == nil || !decide.OnError(&x.in, x.edge.config.Now()) {
		return false
	}
	x.sample.Origin, x.sample.Waited = w.madeRequest(), x.edge.config.Now().Sub(x.began)
	if err == nil && s.Lead {
		x.sample.Spent = h.Work
	}
	status := httprules.CacheStatus{Forward: w.Forward, TTL: int64(x.in.Remaining(x.began) / time.Second), HasTTL: true, Collapsed: !s.Lead}
	if err == nil {
		status.Status = h.Status
	}
	x.serve(stale, meter.Stale, status)
	return true
}

// answer answers with what a fill has brought.
func (x *exchange) answer(s share, h *fetch.Head, w *want) {
	passed := h.Reason != httprules.OK && (w.Cause == meter.SignedIn || w.Cause == meter.Nameless)
	if h.Reason != httprules.OK && !passed {
		x.sample.Cause = meter.Unstorable(h.Reason)
	}
	outcome := meter.Miss
	switch {
	case passed:
		outcome = meter.Bypass
	case !s.Lead:
		outcome = meter.Joined
		x.sample.Saved, x.sample.Spared = h.Waited, h.Work
	case h.Entry != nil:
		outcome = meter.Revalidated
	}
	x.sample.Origin = s.Lead
	if s.Lead {
		x.sample.Waited, x.sample.Spent = h.Waited, h.Work
	}
	status := httprules.CacheStatus{Forward: w.Forward, Stored: x.edge.fetch.ClaimsStored(h), Collapsed: !s.Lead}
	if h.Entry != nil {
		status.Status = http.StatusNotModified
		if s.Lead {
			x.own = h.Own
		}
		x.serve(h.Entry, outcome, status)
		return
	}
	x.sample.Outcome = outcome
	x.stream(s, h, status)
	if took := h.Took(); took > 0 && s.Lead {
		x.sample.Waited = took
	} else if took > 0 {
		x.sample.Saved = took
	}
}

// fail answers for an origin that did not.
func (x *exchange) fail(err error, w *want) {
	x.sample.Origin, x.sample.Waited = w.madeRequest(), x.edge.config.Now().Sub(x.began)
	if x.r.Context().Err() != nil {
		x.sample.Cause = w.Cause
		panic(http.ErrAbortHandler)
	}
	x.refuseFailed(err, w.Cause)
}

// refuseFailed tells the visitor how their origin failed.
func (x *exchange) refuseFailed(err error, cause meter.Cause) {
	f := fetch.FailureOf(err)
	if x.in.Entry != nil && x.in.Entry.Freshness.NeverStale {
		f.Status = http.StatusGatewayTimeout // must-revalidate could not be done (RFC 9111 §5.2.2.2)
	}
	x.refuse(f.Status, f.Text, cause)
}

// stream answers with a body that is still arriving, or has arrived just now.
func (x *exchange) stream(s share, h *fetch.Head, status httprules.CacheStatus) {
	header := h.Header
	if s.Lead {
		header = h.Own
	}
	x.headOfArriving(h, header, status)
	r := reply{status: h.Status, judged: h.Header, received: h.Received, entry: h.Filling, held: h.Held(), length: h.Length, parts: onePart}
	if s.Lead {
		r.own = h.Own
	}
	if h.Filling != nil {
		x.vary = h.Filling.Vary
	}
	if !h.Composes {
		r.arriving = &arriving{Head: h, share: s}
		finish := func() {}
		if h.Reason != httprules.OK { // it only passes
			finish, r.parts = x.compresses(x.route), noParts
		}
		x.reply(&r)
		finish()
		return
	}
	if !x.hold(r.entry, r.form, r.held) {
		x.refuseFailed(fetch.ErrBusy, x.sample.Cause)
		return
	}
	body, ok := x.gather(s, h)
	if !ok {
		return
	}
	if page := x.parsed(h, body); page != nil {
		x.compose(skeleton{page: page, digest: sha256.Sum256(body), status: h.Status, browser: h.Browser, lines: linesOf(header)})
		return
	}
	r.whole, r.parts, r.held = body, noParts, 0 // it is not a skeleton after all
	x.w.Header()["Content-Length"] = []string{strconv.Itoa(len(body))}
	x.reply(&r)
}

// headOfArriving writes the head of an answer that arrives, but for its status.
func (x *exchange) headOfArriving(h *fetch.Head, header httprules.Header, status httprules.CacheStatus) {
	out := x.w.Header()
	maps.Copy(out, header)
	explains := x.explains()
	if explains {
		x.detail(&status)
		if h.PageInfo != nil {
			out[protocol.PartsField] = h.PageInfo
		}
	}
	out["Cache-Status"] = append(append([]string(nil), h.Header["Cache-Status"]...), status.String())
	if h.Browser != httprules.Unset && h.Reason == httprules.OK {
		out["Cache-Control"] = []string{httprules.BrowserControl(h.Header, h.Personal, h.Browser, httprules.InitialAge(h.Header, h.Received, h.Received))}
		delete(out, "Expires")
		delete(out, "Pragma")
	}
}

// arriving is a body on its way.
type arriving struct {
	*fetch.Head
	share
}

// next returns the next bytes, io.EOF after the last. What was sent goes out when more lets
// wait for itself.
func (a *arriving) next(x *exchange, out *http.ResponseController) ([]byte, error) {
	return a.Reader.Next(x.r.Context(), func() { _ = out.Flush() })
}

// sendArriving writes a span of a body as it comes.
func (x *exchange) sendArriving(a *arriving, span httprules.Span) {
	out := http.NewResponseController(x.w)
	skip, send := span.From, span.Length
	for {
		data, err := a.next(x, out)
		if err == io.EOF {
			maps.Copy(x.w.Header(), a.Trailer())
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
			return // the visitor has the part; the fill goes on without them
		}
		n, err := x.give(data)
		x.sample.Bytes += n
		if err != nil {
			return // the visitor went away
		}
	}
}
