package edge

import (
	"errors"
	"math/rand/v2"
	"time"

	"gerastic/internal/core/barrier"
	"gerastic/internal/core/decide"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/outbound"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/fetch"
)

// lookup is a request on its way to a decision: match → key → find → judge. Serving, explain
// and composing all go it.
type lookup struct {
	edge     *Edge
	inForce  *inForce
	route    *policy.Route
	req      key.Request
	sent     outbound.Request // the request as it reaches the origin
	key      []byte
	began    time.Time
	in       decide.Input
	asks     *key.Question // what the request asks, where a route tells requests apart by it
	asked    bool          // asks was found out
	examines bool          // nothing is to be changed
	sends    []byte        // what the origin is asked with in place of the body; nil: as it came
	unasked  *visitor      // whose group their origin has not said; nil: it is known, or nobody's
	near     bool          // what is found has its body in memory
}

// match finds the route and starts the decision's input.
func (l *lookup) match() {
	p := l.inForce
	l.near, l.sends, l.unasked = false, nil, nil
	l.in = decide.Input{Now: l.began, Reason: meter.Route, Lost: l.edge.barrier.Doubts(l.began)}
	l.route = l.matched()
	if l.route == nil {
		if len(p.Covering(l.req.Host, l.req.Path)) > 0 {
			l.in.Reason = meter.Method
		}
		return
	}
	l.in.Route, l.in.Enabled, l.sent.Route = l.route, p.On(l.route), l.route
	if l.route.Group != nil {
		l.group(l.route.Group)
	}
	l.in.SignedIn, l.in.Authorized = l.route.SignedIn(l.req.Header), l.route.Authorized(l.req.Header)
	if id := &l.route.Key.Identity; id.Required {
		_, named := id.Of(l.req.Header)
		l.in.Nameless = !named
	}
	if h := l.req.Header; h.Has("Cache-Control") || h.Has("Pragma") {
		l.in.Visitor = httprules.ParseRequestDirectives(h)
	} else {
		l.in.Visitor = httprules.Directives{MaxAge: httprules.Unset, MinFresh: httprules.Unset, MaxStale: httprules.Unset}
	}
	if l.route.RefreshEarly {
		l.in.Random = rand.Float64()
	}
}

// matched is the route of the request. Where routes tell requests apart by what they ask, that is found
// out first; a question in a body must have been read.
func (l *lookup) matched() *policy.Route {
	p := l.inForce
	route := p.Match(l.req.Method, l.req.Host, l.req.Path)
	if route == nil || route.Asks == nil && !l.asked {
		return route
	}
	if !l.asked && (l.req.Method == "GET" || l.req.Method == "HEAD") {
		l.asks = key.QuestionOf(&l.req, nil)
	}
	return p.MatchAsking(l.req.Method, l.req.Host, l.req.Path, l.asks)
}

// mustAsk reports whether the request's body says which route it has.
func (l *lookup) mustAsk() bool {
	if l.req.Method == "GET" || l.req.Method == "HEAD" || l.inForce == nil {
		return false
	}
	route := l.inForce.Match(l.req.Method, l.req.Host, l.req.Path)
	return route != nil && route.Asks != nil
}

// takesBody reports whether the route's keys hold the request's body.
func (l *lookup) takesBody() bool {
	return l.in.Route != nil && l.route.Key.Body != key.NoBody
}

// keyBody gives the key the request's body. A request without a canonical form passes through,
// its body with it.
func (l *lookup) keyBody(body []byte) {
	taken, err := l.route.Key.BodyOf(&l.req, body)
	switch {
	case err == nil:
		l.req.Body, l.req.Content, l.sends = taken.Canonical, taken.Content, taken.Sent
	case errors.Is(err, key.TooLongBody):
		l.passBecause(meter.BodyTooLarge)
	default:
		l.passBecause(meter.Method)
	}
}

// passBecause takes the request off its route.
func (l *lookup) passBecause(why meter.Cause) { l.in.Route, l.in.Reason = nil, why }

// look finds what is stored for a request that was matched, and decides.
func (l *lookup) look() decide.Decision {
	if l.in.Route != nil && (l.in.Enabled || l.examines) {
		l.find()
	}
	d := decide.Of(&l.in)
	if e := l.in.Entry; e != nil && e.Far != nil && d.Action != decide.Serve && !l.examines {
		return l.lookNear() // more is done with its body than that it is sent
	}
	return d
}

// lookNear is look where a body must be in memory.
func (l *lookup) lookNear() decide.Decision {
	l.near = true
	l.in.Entry, l.in.Failure, l.in.Variants, l.in.Removed = nil, nil, 0, meter.NoCause
	return l.look()
}

// stored is what the store has under the key.
func (l *lookup) stored() store.Found {
	if l.near {
		return l.edge.store.Find(l.key, &l.sent)
	}
	return l.edge.store.FindFar(l.key, &l.sent)
}

// find looks up what is stored for the request.
func (l *lookup) find() {
	l.key = l.route.Key.Append(l.key[:0], l.route.KeyName, &l.req)
	if l.in.SignedIn != "" || l.in.Nameless {
		return // nothing that is shared is for this visitor
	}
	e := l.edge
	moment := e.barrier.Moment()
	l.found(l.stored(), moment)
	if l.in.Entry == nil && e.fetch.Learned.Searches() {
		l.findReduced()
	}
	if l.in.Entry != nil {
		l.in.Verdict = l.in.Entry.Judge(e.barrier.Marks)
		if l.in.Failure != nil {
			l.in.Settle()
		}
	} else if l.in.Variants == 0 {
		if why, known := e.store.Missing(l.key); known {
			l.in.Removed = decide.Removed(why)
		}
	}
}

// findReduced looks for what answers other queries, too (No-Vary-Search). The rule that
// is known for the path only finds the place; the entry's own rule decides.
func (l *lookup) findReduced() {
	e := l.edge
	search, known := e.fetch.Learned.Search(l.searchKey())
	if !known {
		return
	}
	l.useSearch(search)
	moment := e.barrier.Moment()
	found := l.stored()
	if found.Entry != nil && found.Entry.Search != search.String() {
		found.Entry, found.Failure = nil, nil
	}
	l.found(found, moment)
}

// found takes what the store has had since a moment, as the terms in force judge it. A failure
// that a purge concerns says nothing any more.
func (l *lookup) found(f store.Found, since barrier.Moment) {
	l.in.Entry, l.in.Failure, l.in.Variants = l.judge(f.Entry, since), l.judge(f.Failure, since), f.Variants
	if f.Entry != nil && l.in.Entry == nil {
		l.in.Variants--
	}
	if l.in.Failure != nil && (l.in.Entry == nil || l.in.Failure.Judge(l.edge.barrier.Marks) != tags.Alive) {
		l.in.Failure = nil
	}
}

// judge returns an entry as the terms in force judge it. One that was stored under others is
// judged anew: its header and times are kept. nil: it may not be stored any more, or there
// was none.
func (l *lookup) judge(old *store.Entry, since barrier.Moment) *store.Entry {
	if old == nil || old.Terms == l.route.TermsDigest {
		return old
	}
	if old.Far != nil && !l.examines {
		l.near = true
		return l.judge(l.stored().Entry, since)
	}
	entry := fetch.Restated(old, l.route, l.inForce.OriginFor(l.req.Host))
	switch {
	case l.examines:
	case entry == nil:
		l.edge.store.Remove(old, store.Replaced)
	default:
		l.edge.fetch.Replace(old, entry, since, l.began)
	}
	return entry
}

// searchKey names the path whose answers share a No-Vary-Search rule.
func (l *lookup) searchKey() string {
	nothing := ""
	req := l.req
	req.Reduced = &nothing
	return string(l.route.Key.Append(nil, l.route.KeyName, &req))
}

// useSearch makes the key hold what a No-Vary-Search rule leaves of the query.
func (l *lookup) useSearch(search httprules.NoVarySearch) {
	reduced := search.String() + "?" + search.Canonical(l.query())
	l.req.Reduced = &reduced
	l.key = l.route.Key.Append(l.key[:0], l.route.KeyName, &l.req)
}

// query is the request's query as its route takes it into the key.
func (l *lookup) query() string {
	query, _ := l.route.Key.Query.Canonical(l.req.Query, l.req.HasQuery)
	return query
}

// similar names the requests of which one says what comes of this one.
func (l *lookup) similar() string { return fetch.Similar(string(l.key), l.route, l.req.Header) }
