package edge

import (
	"crypto/sha256"
	"errors"
	"net/http"
	"slices"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/fetch"
)

// errNoOrigin is the answer to a host that is nobody's.
var errNoOrigin = errors.New("no origin of the policy answers this host")

// pass hands the request through to its origin and the answer back.
func (x *exchange) pass(forward httprules.Forward) {
	o := x.inForce.OriginFor(x.req.Host)
	if o == nil {
		x.refuse(http.StatusMisdirectedRequest, errNoOrigin.Error(), x.sample.Cause)
		return
	}
	asksOnly := x.in.Enabled && x.takesBody()
	var writes []*policy.Write
	if !asksOnly && httprules.Unsafe(x.req.Method) {
		writes = x.inForce.WritesOf(x.req.Method, x.req.Host, x.req.Path)
	}
	body, ok := x.bodyFor(writes)
	if !ok {
		return
	}
	whole := x.bodyInMemory()
	group := x.groupName()
	explains := x.explains() // the proxy may still write when the visitor has gone, so that it gets copies
	p := &fetch.Passing{
		Way: x.inForce.origins.To(o), Visitor: x.req, Limit: x.route.Limit(o), Trusted: x.edge.config.Trusted,
		Group: group, PageRoute: x.pageRoute(), AsksOnly: asksOnly, Writes: writes, Body: body, Budget: x.share(),
		Slow: !whole || asksToUpgrade(x.r.Header) && len(x.r.Header["Upgrade"]) > 0,
		Answered: func(header http.Header, info []string, work meter.Work) {
			x.sample.Spent = work
			if explains && info != nil {
				header[protocol.PartsField] = info
			}
			if group != "" {
				keepPrivate(header)
			}
			status := httprules.CacheStatus{Forward: forward}
			header.Add("Cache-Status", status.String())
		},
	}
	p.Failed = func(err error) { x.passFailed(p, o, err) }
	x.sample.Outcome, x.forward = meter.Bypass, forward
	finish := x.compresses(p.PageRoute)
	counting := &countingWriter{ResponseWriter: x.w}
	defer func() { x.countPassed(p, counting) }()
	if !x.edge.fetch.Pass(counting, x.r, p) {
		x.forward = httprules.NotForwarded
		x.refuseFailed(fetch.ErrBusy, x.sample.Cause)
	}
	finish()
}

// bodyFor is the request's body, where it counts for what the policy says that it changes, and is not
// too long. It reports false after it has refused the request.
func (x *exchange) bodyFor(writes []*policy.Write) (body *policy.Message, ok bool) {
	if !slices.ContainsFunc(writes, func(w *policy.Write) bool { reads, _ := w.Reads(); return reads }) {
		return nil, true
	}
	var text []byte
	if u := x.upload; u != nil {
		u.within(keyTime)
		whole := u.gather(x.r.Context(), keyTime)
		u.within(0)
		if x.refuseBody() {
			return nil, false
		}
		if text = u.Bytes(); !whole || len(text) > policy.MostMessage {
			return nil, true
		}
	}
	return policy.ReadMessage(x.req.Header.Get("Content-Type"), text), true
}

// passFailed answers for an origin that did not, or whose answer is to be composed.
func (x *exchange) passFailed(p *fetch.Passing, o *policy.Origin, err error) {
	page := &p.Skeleton
	switch {
	case x.refuseBody():
	case x.r.Context().Err() != nil:
		x.sample.Outcome = meter.Error // nobody is there to be answered
	case err == fetch.ErrSkeleton:
		x.compose(skeleton{page: page.Page, digest: sha256.Sum256(page.Body), status: page.Status, browser: httprules.Unset, lines: linesOf(page.Header)})
	case page.Body != nil:
		x.cannotCompose(err)
	default:
		x.edge.config.Log.Warn("the origin failed", "origin", o.Name, "path", x.req.Path, "error", err)
		f := fetch.FailureOf(err)
		x.refuse(f.Status, f.Text, x.sample.Cause)
	}
}

// countPassed counts what one request of a visitor's led to at its origin.
func (x *exchange) countPassed(p *fetch.Passing, counting *countingWriter) {
	made := p.Made()
	x.sample.Origin = made > 0
	for ; made > 1; made-- {
		x.edge.meter.Record(x.stripe, &meter.Sample{Route: x.sample.Route, Outcome: meter.Behind, Origin: true})
	}
	if counting.status != 0 {
		x.sample.Status, x.sample.Bytes = counting.status, counting.bytes
	}
	x.sample.Waited = x.edge.config.Now().Sub(x.began)
}

// pageRoute is the route of the request's place, whatever its method: a form that comes back with
// its mistakes is a page, too. nil: there is none.
func (x *exchange) pageRoute() *policy.Route {
	if x.route != nil {
		return x.route
	}
	if around := x.inForce.Covering(x.req.Host, x.req.Path); len(around) > 0 {
		return around[0]
	}
	return nil
}

// countingWriter notes what went to the visitor.
type countingWriter struct {
	http.ResponseWriter
	status int
	bytes  int64
}

func (c *countingWriter) WriteHeader(status int) {
	if status >= 200 || status == http.StatusSwitchingProtocols {
		c.status = status
		inventNothing(c.ResponseWriter.Header())
	}
	c.ResponseWriter.WriteHeader(status)
}

func (c *countingWriter) Write(p []byte) (int, error) {
	if c.status == 0 {
		c.status = http.StatusOK
		inventNothing(c.ResponseWriter.Header())
	}
	n, err := c.ResponseWriter.Write(p)
	c.bytes += int64(n)
	return n, err
}

// Unwrap lets the standard library reach flushing and hijacking.
func (c *countingWriter) Unwrap() http.ResponseWriter { return c.ResponseWriter }
