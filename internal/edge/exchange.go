package edge

import (
	"cmp"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"runtime/debug"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/decide"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/origin"
)

// exchange is one request on its way. Exchanges are pooled: nothing may keep one, or
// its key, beyond end.
type exchange struct {
	edge   *Edge
	stripe meter.Stripe // pools are per core, so this part of the meter is, too

	w     http.ResponseWriter
	r     *http.Request
	rules *Rules
	route *policy.Route
	req   key.Request
	sent  origin.Sent // the request as it reaches the origin
	key   []byte
	began time.Time
	in    decide.Input

	upload   *upload           // the request's body; nil: it has none
	body     []byte            // all of it, where the key holds it
	holder   *store.Holder     // of what is being sent; nil: it is little, or not stored
	moved    *atomic.Int64     // unix ns at which some of it last went out; nil without holder
	borrowed int64             // bytes of what is being sent and not stored
	place    func()            // gives back the place at the visitor's pace; nil: it has none
	forward  httprules.Forward // why the origin is asked, once it is
	own      httprules.Header  // fields that are for this visitor alone
	examines bool              // nothing is to be changed
	depth    int               // 0 for a visitor's request, 1 for a piece of their page, and so on
	budget   *compose.Budget   // of the page that this is a piece of; nil for the request itself
	page     *compose.Budget   // of the request's own page, once it is composed
	sample   meter.Sample
}

func (x *exchange) begin(w http.ResponseWriter, r *http.Request) {
	x.w, x.r = w, r
	x.sent.Remote, x.sent.Proto = r.RemoteAddr, r.ProtoMajor
	httprules.DropConnectionFields(httprules.Header(r.Header)) // no key may hold what ends here
	dropSession(r.Header)
	x.began = x.edge.Now()
	x.rules = x.edge.rules.Load()
	x.sample, x.depth = meter.Sample{Outcome: meter.Error}, 0
	x.req = RequestOf(r, x.edge.Trusted.Contains(r.RemoteAddr))
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
	x.sample.Took = x.edge.Now().Sub(x.began)
	if x.depth > 0 { // within a page: not a request of the visitor's
		x.sample.Route = meter.PieceRoute(cmp.Or(x.sample.Route, "(no route)"))
	}
	x.edge.Meter.Record(x.stripe, &x.sample)
	x.tell()
	e := x.edge
	x.release()
	if broken == nil {
		return
	}
	if broken != http.ErrAbortHandler {
		e.Log.Error("a request ended in a panic; the connection was broken", "panic", fmt.Sprint(broken), "stack", string(debug.Stack()))
	}
	panic(http.ErrAbortHandler)
}

// release gives the exchange back, unrecorded.
func (x *exchange) release() {
	x.w, x.r, x.rules, x.route, x.req, x.in, x.upload, x.body, x.budget, x.own = nil, nil, nil, nil, key.Request{}, decide.Input{}, nil, nil, nil, nil
	x.forward, x.sent.Route, x.sent.Remote = httprules.NotForwarded, nil, ""
	x.edge.exchanges.Put(x)
}

// RequestOf takes the parts of a request that keys and decisions are made of. The
// forwarding fields count only when they come from a trusted proxy.
func RequestOf(r *http.Request, trusted bool) key.Request {
	req := key.Request{Method: r.Method, Scheme: "http", Host: r.Host, Header: httprules.Header(r.Header)}
	if r.TLS != nil {
		req.Scheme = "https"
	}
	if trusted {
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

// answer takes the request through.
func (x *exchange) answer() {
	if x.rules == nil {
		x.refuse(http.StatusServiceUnavailable, "there is no policy yet", meter.Route)
		return
	}
	if x.turnAway() {
		return
	}
	x.takeBody()
	x.match()
	if x.route != nil {
		x.sample.Route = x.route.Name
	}
	if x.refuseBody() || x.in.Enabled && x.route.Key.Body != key.NoBody && !x.question() {
		return
	}
	x.countUnkeyed()
	if x.upgrade() && x.in.Route != nil {
		x.sample.Cause = meter.Asked
		x.pass(httprules.ForwardRequest)
		return
	}
	if x.in.Route != nil && x.in.Enabled {
		x.find()
	}
	d := decide.Of(&x.in)
	x.sample.Cause = d.Cause
	switch d.Action {
	case decide.Bypass:
		x.pass(d.Forward)
	case decide.ServeStale:
		x.serve(x.in.Entry, meter.Stale, httprules.CacheStatus{})
	case decide.Serve:
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
		x.fetch(d)
	}
}

// match finds the route and starts the decision's input.
func (x *exchange) match() {
	p := x.rules.Policy
	x.in = decide.Input{Now: x.began, Reason: meter.Route, Lost: x.edge.Lost(x.began)}
	x.route = p.Match(x.req.Method, x.req.Host, x.req.Path)
	if x.route == nil {
		if len(p.Covering(x.req.Host, x.req.Path)) > 0 {
			x.in.Reason = meter.Method
		}
		return
	}
	x.in.Route, x.in.Enabled, x.sent.Route = x.route, x.rules.Enabled(x.route), x.route
	x.in.SignedIn, x.in.Authorized = x.route.SignedIn(x.req.Header), x.route.Authorized(x.req.Header)
	if id := &x.route.Key.Identity; id.Required {
		_, named := id.Of(x.req.Header)
		x.in.Nameless = !named
	}
	if h := x.req.Header; h.Has("Cache-Control") || h.Has("Pragma") {
		x.in.Visitor = httprules.ParseRequestDirectives(h)
	} else {
		x.in.Visitor = httprules.Directives{MaxAge: httprules.Unset, MinFresh: httprules.Unset, MaxStale: httprules.Unset}
	}
	if x.route.RefreshEarly {
		x.in.Random = rand.Float64()
	}
}

// question reads the body that the key holds; that of a GET means nothing and is not
// sent on (RFC 9110 §9.3.1). Without a canonical form the request passes through, its body
// with it. It reports false after it has refused the request.
func (x *exchange) question() bool {
	if u := x.upload; u != nil && (x.r.Method == http.MethodPost || x.r.Method == "QUERY") {
		u.within(keyTime)
		whole := u.gather(x.r.Context(), keyTime)
		u.within(0)
		if x.refuseBody() {
			return false
		}
		if whole {
			x.body = u.bytes()
		} else { // there is more than a key can hold
			x.in.Route, x.in.Reason = nil, meter.BodyTooLarge
			return true
		}
	}
	canonical, err := key.BodyOf(x.route.Key.Body, &x.req, x.body)
	if err == nil {
		x.req.Body = canonical
		return true
	}
	x.in.Route, x.in.Reason = nil, meter.Method
	if errors.Is(err, key.TooLongBody) {
		x.in.Reason = meter.BodyTooLarge
	}
	return true
}

// find looks up what is stored for the request.
func (x *exchange) find() {
	e := x.edge
	x.key = x.route.Key.Append(x.key[:0], x.route.KeyName, &x.req)
	if x.in.SignedIn != "" || x.in.Nameless {
		return // nothing that is shared is for this visitor
	}
	forgets := e.forgets.Load()
	x.found(e.Store.Find(x.key, &x.sent), forgets)
	if x.in.Entry == nil && e.searches.any() {
		x.findReduced()
	}
	if x.in.Entry != nil {
		x.in.Verdict = x.in.Entry.Judge(e.Marks)
		if x.in.Failure != nil {
			x.in.Settle()
		}
	} else if x.in.Variants == 0 {
		if why, known := e.Store.Missing(x.key); known {
			x.in.Removed = decide.Removed(why)
		}
	}
}

// findReduced looks for what answers other queries, too (No-Vary-Search). The rule that
// is known for the path only finds the place; the entry's own rule decides.
func (x *exchange) findReduced() {
	e := x.edge
	rule, known := e.searches.of(x.searchKey())
	if !known {
		return
	}
	x.useRule(rule)
	forgets := e.forgets.Load()
	found := e.Store.Find(x.key, &x.sent)
	if found.Entry != nil && found.Entry.Search != rule.String() {
		found.Entry, found.Failure = nil, nil
	}
	x.found(found, forgets)
}

// found takes what the store has, as the terms in force judge it. A failure that a purge
// concerns says nothing any more.
func (x *exchange) found(f store.Found, forgets uint64) {
	x.in.Entry, x.in.Failure, x.in.Variants = x.inForce(f.Entry, forgets), x.inForce(f.Failure, forgets), f.Variants
	if f.Entry != nil && x.in.Entry == nil {
		x.in.Variants--
	}
	if x.in.Failure != nil && (x.in.Entry == nil || x.in.Failure.Judge(x.edge.Marks) != tags.Alive) {
		x.in.Failure = nil
	}
}

// searchKey names the path whose answers share a No-Vary-Search rule.
func (x *exchange) searchKey() string {
	nothing := ""
	req := x.req
	req.Reduced = &nothing
	return string(x.route.Key.Append(nil, x.route.KeyName, &req))
}

// useRule makes the key hold what a rule leaves of the query.
func (x *exchange) useRule(rule httprules.Search) {
	query, _ := x.route.Key.Query.Canonical(x.req.Query, x.req.HasQuery)
	reduced := rule.String() + "?" + rule.Canonical(query)
	x.req.Reduced = &reduced
	x.key = x.route.Key.Append(x.key[:0], x.route.KeyName, &x.req)
}
