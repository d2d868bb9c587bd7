package edge

import (
	"fmt"
	"net/http"
	"runtime/debug"
	"strings"
	"time"

	"gerastic/internal/core/decide"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/rules"
	"gerastic/internal/core/store"
)

// exchange is one request on its way. Exchanges are pooled: nothing may keep one, or
// its key, beyond end.
type exchange struct {
	edge   *Edge
	stripe meter.Stripe // pools are per core, so this part of the meter is, too

	w     http.ResponseWriter
	r     *http.Request
	rules *Rules
	plan  *policy.Plan
	req   key.Request
	key   []byte
	began time.Time
	in    decide.Input

	sample meter.Sample
}

func (x *exchange) begin(w http.ResponseWriter, r *http.Request) {
	x.w, x.r = w, r
	x.began = x.edge.Now()
	x.rules = x.edge.rules.Load()
	x.sample = meter.Sample{Outcome: meter.Error}
	x.req = RequestOf(r, x.edge.Trusted.Contains(r.RemoteAddr))
}

// end records the request, once, however it ended, and gives the exchange back.
func (x *exchange) end() {
	broken := recover()
	x.sample.Took = x.edge.Now().Sub(x.began)
	x.edge.Meter.Record(x.stripe, &x.sample)
	e := x.edge
	x.w, x.r, x.rules, x.plan, x.req, x.in = nil, nil, nil, nil, key.Request{}, decide.Input{}
	e.exchanges.Put(x)
	if broken == nil {
		return
	}
	if broken != http.ErrAbortHandler {
		e.Log.Error("a request ended in a panic; the connection was broken", "panic", fmt.Sprint(broken), "stack", string(debug.Stack()))
	}
	panic(http.ErrAbortHandler)
}

// RequestOf takes the parts of a request that keys and decisions are made of. The
// forwarding fields count only when they come from a trusted proxy.
func RequestOf(r *http.Request, trusted bool) key.Request {
	req := key.Request{Method: r.Method, Scheme: "http", Host: r.Host, Header: rules.Header(r.Header)}
	if r.TLS != nil {
		req.Scheme = "https"
	}
	if trusted {
		if proto := strings.ToLower(r.Header.Get("X-Forwarded-Proto")); proto == "http" || proto == "https" {
			req.Scheme = proto
		}
		if host := r.Header.Get("X-Forwarded-Host"); host != "" && !strings.ContainsAny(host, ", /\\@") {
			req.Host = host
		}
	}
	req.Host = key.CanonicalHost(req.Host, req.Scheme)
	// The request target as it was sent: what is encoded stays encoded (RFC 9110 §7.1).
	target := r.RequestURI
	if target == "" || target[0] != '/' {
		target = r.URL.EscapedPath()
		if target == "" {
			target = "/"
		}
		req.Path, req.Query, req.HasQuery = target, r.URL.RawQuery, r.URL.RawQuery != "" || r.URL.ForceQuery
		return req
	}
	req.Path, req.Query, req.HasQuery = strings.Cut(target, "?")
	return req
}

// answer takes the request through.
func (x *exchange) answer() {
	if x.rules == nil {
		x.refuse(http.StatusServiceUnavailable, "there is no policy yet", meter.Route)
		return
	}
	x.match()
	if x.plan != nil {
		x.sample.Route = x.plan.Name
	}
	if x.plan == nil || !x.in.Enabled || upgrades(x.r.Header) {
		d := decide.Of(&x.in)
		x.sample.Cause = d.Cause
		if d.Action != decide.Bypass { // an upgrade on a cached route
			d.Forward, x.sample.Cause = rules.ForwardRequest, meter.Asked
		}
		x.pass(d.Forward)
		return
	}
	x.find()
	d := decide.Of(&x.in)
	x.sample.Cause = d.Cause
	switch d.Action {
	case decide.Serve:
		x.serve(x.in.Entry, meter.Hit, rules.CacheStatus{})
	case decide.ServeAndRefresh:
		x.refresh(x.in.Entry)
		x.serve(x.in.Entry, meter.Stale, rules.CacheStatus{})
	case decide.Refuse:
		x.refuse(http.StatusGatewayTimeout, "nothing stored answers this request, and it asked for a stored answer only", d.Cause)
	default:
		x.fetch(d)
	}
}

// match finds the route and starts the decision's input.
func (x *exchange) match() {
	p := x.rules.Policy
	x.in = decide.Input{Now: x.began, Reason: meter.Route}
	x.plan = p.Match(x.req.Method, x.req.Host, x.req.Path)
	if x.plan == nil {
		if len(p.Covering(x.req.Host, x.req.Path)) > 0 {
			x.in.Reason = meter.Method
		}
		return
	}
	x.in.Plan, x.in.Enabled = x.plan, x.rules.Enabled(x.plan)
	if h := x.req.Header; h.Has("Cache-Control") || h.Has("Pragma") {
		x.in.Visitor = rules.RequestDirectives(h)
	} else {
		x.in.Visitor = rules.Directives{MaxAge: rules.Unset, MinFresh: rules.Unset}
	}
}

// find looks up what is stored for the request.
func (x *exchange) find() {
	e := x.edge
	x.key = x.plan.Key.Append(x.key[:0], x.plan.KeyName, &x.req)
	x.in.Entry, x.in.Variants = e.Store.Find(x.key, x.req.Header)
	if x.in.Entry != nil {
		x.in.Verdict = x.in.Entry.Judge(e.Marks)
	} else if x.in.Variants == 0 {
		x.in.Removed = causeOf(e.Store.Missing(x.key))
	}
}

// causeOf turns what the store remembers of a key into a cause.
func causeOf(why store.Removal, known bool) meter.Cause {
	if !known {
		return meter.NoCause
	}
	switch why {
	case store.Purged:
		return meter.Purged
	case store.Evicted, store.Crowded:
		return meter.Evicted
	case store.Idle:
		return meter.Expired
	}
	return meter.NoCause
}

func upgrades(h http.Header) bool {
	return len(h["Upgrade"]) > 0 && len(h["Connection"]) > 0
}

// serve answers from an entry. For a hit, status may be zero: the entry has the line
// prepared.
func (x *exchange) serve(entry *store.Entry, outcome meter.Outcome, status rules.CacheStatus) {
	h := x.w.Header()
	age, line, control := entry.Moving(x.began)
	if status != (rules.CacheStatus{}) {
		line = append(append([]string(nil), entry.Header["Cache-Status"]...), status.String())
	}
	h["Age"], h["Cache-Status"] = age, line
	if control != nil {
		h["Cache-Control"] = control
	}
	x.sample.Outcome = outcome
	if outcome == meter.Hit || outcome == meter.Stale {
		x.sample.Saved = entry.Cost()
		entry.Use(x.began)
	}
	if rules.Conditional(x.req.Header) {
		switch rules.Evaluate(x.req.Header, entry.Status, entry.Header, entry.Received) {
		case rules.NotModified:
			for i := range entry.Lines {
				if rules.InNotModified(entry.Lines[i].Name) {
					h[entry.Lines[i].Name] = entry.Lines[i].Values
				}
			}
			x.status(http.StatusNotModified)
			return
		case rules.Failed:
			x.status(http.StatusPreconditionFailed)
			return
		}
	}
	for i := range entry.Lines {
		h[entry.Lines[i].Name] = entry.Lines[i].Values
	}
	x.status(entry.Status)
	if x.r.Method != http.MethodHead {
		n, _ := x.w.Write(entry.Body)
		x.sample.Bytes = int64(n)
	}
}

func (x *exchange) status(status int) {
	x.sample.Status = status
	x.w.WriteHeader(status)
}

// refuse answers with a short, plain body of our own.
func (x *exchange) refuse(status int, text string, cause meter.Cause) {
	h := x.w.Header()
	clear(h)
	h.Set("Content-Type", "text/plain; charset=utf-8")
	h.Set("Cache-Control", "no-store")
	x.sample.Outcome, x.sample.Cause = meter.Error, cause
	x.status(status)
	if x.r.Method != http.MethodHead {
		n, _ := fmt.Fprintf(x.w, "%d: %s\n", status, text)
		x.sample.Bytes = int64(n)
	}
}
