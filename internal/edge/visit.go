package edge

import (
	"cmp"
	"fmt"
	"net/http"
	"runtime/debug"
	"slices"
	"strings"
	"sync/atomic"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/decide"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/outbound"
	"gerastic/internal/core/store"
)

// exchange is one request of a visitor's and its answer. Exchanges are pooled: nothing may keep
// one, or its key, beyond end.
type exchange struct {
	lookup
	stripe meter.Stripe // pools are per core, so this part of the meter is, too

	w http.ResponseWriter
	r *http.Request

	upload    *upload           // the request's body; nil: it has none
	body      []byte            // all of it that counts, where the key holds it
	asCame    []byte            // and as the visitor sent it
	holder    *store.Holder     // of what is being sent; nil: it is little, or not stored
	packs     *compressing      // compresses what passes; nil: nothing does
	far       store.OpenBody    // what is sent from the tier below; nil: nothing
	moved     *atomic.Int64     // unix ns at which some of it last went out; nil without holder
	borrowed  int64             // bytes of what is being sent and not stored
	leavePace func()            // gives back the place at the visitor's pace; nil: it has none
	forward   httprules.Forward // why the origin is asked, once it is
	own       httprules.Header  // fields that are for this visitor alone
	depth     int               // 0 for a visitor's request, 1 for an include of their page, and so on
	budget    *compose.Budget   // of the page that this is an include of; nil for the request itself
	page      *compose.Budget   // of the request's own page, once it is composed
	sample    meter.Sample
	vary      []httprules.Varying // of what is given
	primes    bool                // nobody waits for the answer: it is asked for before a visitor does
}

func (x *exchange) begin(w http.ResponseWriter, r *http.Request) {
	x.w, x.r = w, r
	x.sent.Remote, x.sent.Proto = r.RemoteAddr, r.ProtoMajor
	httprules.DropConnectionFields(httprules.Header(r.Header)) // no key may hold what ends here
	dropSession(r.Header)
	x.began = x.edge.config.Now()
	x.inForce = x.edge.inForce.Load()
	x.sample, x.depth, x.primes, x.vary = meter.Sample{Outcome: meter.Error}, 0, false, nil
	x.asks, x.asked = nil, false
	if x.inForce != nil && x.inForce.grouping { // else it reaches nobody
		dropGroup(r.Header)
	}
	x.req = requestOf(r, x.edge.config.Trusted)
	x.expectBody()
	x.w = careful(w, r, x.upload)
}

// dropSession takes an engineer's sign-in on the console off: it is none of the site's
// business, and would be a key to all of it.
func dropSession(h http.Header) {
	if !slices.ContainsFunc(h["Cookie"], func(line string) bool { return strings.Contains(line, httprules.SessionCookie) }) {
		return
	}
	if kept := key.KeepCookies(h["Cookie"], func(name string) bool { return !httprules.IsSessionCookie(name) }); len(kept) > 0 {
		h["Cookie"] = kept
	} else {
		delete(h, "Cookie")
	}
}

// end records the request, once, however it ended, and gives the exchange back.
func (x *exchange) end() {
	broken := recover()
	x.letGo()
	if x.upload != nil {
		x.upload.finish()
	}
	x.sample.Took = x.edge.config.Now().Sub(x.began)
	if x.depth > 0 { // within a page: not a request of the visitor's
		x.sample.Route = meter.IncludeRoute(cmp.Or(x.sample.Route, "(no route)"))
	}
	x.record()
	log := x.edge.config.Log
	x.release()
	if broken == nil {
		return
	}
	if broken != http.ErrAbortHandler {
		log.Error("a request ended in a panic; the connection was broken", "panic", fmt.Sprint(broken), "stack", string(debug.Stack()))
	}
	panic(http.ErrAbortHandler)
}

// record counts the request. What was primed is none of a visitor's, and counts if an origin was
// asked.
func (x *exchange) record() {
	if !x.primes {
		x.edge.meter.Record(x.stripe, &x.sample)
		x.edge.recents.note(x)
		if x.route != nil && x.route.Warm != nil {
			x.edge.asked.note(&x.lookup, &x.sample, x.vary)
		}
		x.tell()
		return
	}
	if x.sample.Origin {
		x.sample.Outcome, x.sample.Saved, x.sample.Spared = meter.Primed, 0, ""
		x.edge.meter.Record(x.stripe, &x.sample)
	}
}

// release gives the exchange back, unrecorded.
func (x *exchange) release() {
	x.w, x.r, x.inForce, x.route, x.req, x.in, x.upload, x.body, x.asCame, x.budget, x.own = nil, nil, nil, nil, key.Request{}, decide.Input{}, nil, nil, nil, nil, nil
	x.forward, x.sent.Route, x.sent.Remote = httprules.NotForwarded, nil, ""
	x.asks, x.asked = nil, false // includes are looked for without a beginning
	x.edge.exchanges.Put(x)
}

// requestOf takes the parts of a request that keys and decisions are made of. The
// forwarding fields count only when they come from a trusted proxy.
func requestOf(r *http.Request, trusted outbound.Trusted) key.Request {
	req := key.Request{Method: r.Method, Scheme: "http", Host: r.Host, Header: httprules.Header(r.Header)}
	if r.TLS != nil {
		req.Scheme = "https"
	}
	if trusted.Contains(r.RemoteAddr) {
		if proto := strings.ToLower(r.Header.Get("X-Forwarded-Proto")); proto == "http" || proto == "https" {
			req.Scheme = proto
		}
		if host := r.Header.Get("X-Forwarded-Host"); host != "" && isHost(host) {
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

// visit takes the request through.
func (x *exchange) visit() {
	if x.inForce == nil {
		x.refuse(http.StatusServiceUnavailable, "there is no policy yet", meter.Route)
		return
	}
	if x.turnAway() {
		return
	}
	x.takeBody()
	if x.mustAsk() && !x.takeAsked() {
		return
	}
	x.match()
	if x.route != nil {
		x.sample.Route = x.route.Name
	}
	if x.refuseBody() || x.in.Enabled && x.takesBody() && !x.takeQuestion() {
		return
	}
	x.askGroup()
	x.countUnkeyed()
	if x.upgrade() && x.in.Route != nil {
		x.sample.Cause = meter.Asked
		x.pass(httprules.ForwardRequest)
		return
	}
	x.carryOut(x.look())
}

// carryOut does what was decided.
func (x *exchange) carryOut(d decide.Decision) {
	x.sample.Cause = d.Cause
	switch d.Action {
	case decide.Bypass:
		x.pass(d.Forward)
	case decide.ServeStale:
		x.serve(x.in.Entry, meter.Stale, httprules.CacheStatus{})
	case decide.Serve:
		if !x.openFar() {
			x.carryOut(x.lookNear())
			return
		}
		x.serve(x.in.Entry, meter.Hit, httprules.CacheStatus{})
		x.compare(x.in.Entry)
	case decide.ServeAndRefresh:
		x.refresh(x.in.Entry)
		outcome := meter.Stale
		if d.Cause == meter.NoCause { // renewed before its end
			outcome = meter.Hit
		}
		x.serve(x.in.Entry, outcome, httprules.CacheStatus{})
	case decide.Refuse:
		x.refuse(http.StatusGatewayTimeout, "nothing stored answers this request, and it asked for a stored answer only", d.Cause)
	default:
		x.obtain(d)
	}
}

// takeQuestion reads the body that the key holds; that of a GET means nothing and is not
// sent on (RFC 9110 §9.3.1). It reports false after it has refused the request.
func (x *exchange) takeQuestion() bool {
	if u := x.upload; u != nil && (x.r.Method == http.MethodPost || x.r.Method == "QUERY") {
		u.within(keyTime)
		whole := u.gather(x.r.Context(), keyTime)
		u.within(0)
		if x.refuseBody() {
			return false
		}
		if !whole { // there is more than a key can hold
			x.passBecause(meter.BodyTooLarge)
			return true
		}
		x.body = u.Bytes()
	}
	x.asCame = x.body
	if x.keyBody(x.body); x.sends != nil {
		x.body = x.sends
	}
	return true
}

// takeAsked reads what the request asks from its body. It reports false after it has refused the
// request.
func (x *exchange) takeAsked() bool {
	x.asked = true
	u := x.upload
	if u == nil {
		return true
	}
	u.within(keyTime)
	whole := u.gather(x.r.Context(), keyTime)
	u.within(0)
	if x.refuseBody() {
		return false
	}
	if whole {
		x.asks = key.QuestionOf(&x.req, u.Bytes())
	}
	return true
}

// compare has this hit compared with what its origin would answer, if it is among those that
// are to be.
func (x *exchange) compare(entry *store.Entry) {
	if x.r.Method != http.MethodGet || !x.edge.fetch.Compares(entry, x.route, x.began) {
		return
	}
	if entry.Far != nil {
		if entry = x.edge.store.Find(x.key, &x.sent).Entry; entry == nil {
			return
		}
	}
	if hit, ok := x.hit(); ok {
		x.edge.fetch.Compare(entry, hit)
	}
}
