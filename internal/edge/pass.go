package edge

import (
	"context"
	"errors"
	"io"
	"log"
	"net/http"
	"net/http/httputil"
	"net/url"
	"time"

	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/rules"
	"gerastic/internal/core/tags"
	"gerastic/internal/origin"
)

// pass hands the request through to its origin and the answer back: bodies, trailers,
// interim answers and upgrades as they come.
func (x *exchange) pass(forward rules.Forward) {
	o := x.rules.Policy.OriginFor(x.req.Host)
	if o == nil {
		x.refuse(http.StatusMisdirectedRequest, errNoOrigin.Error(), x.sample.Cause)
		return
	}
	client := x.rules.clients[o]
	answer := passed{edge: x.edge, client: client}
	defer answer.free()
	if whole := x.memory(); !whole || asksToUpgrade(x.r.Header) && len(x.r.Header["Upgrade"]) > 0 {
		if !answer.slow() {
			x.forward = rules.NotForwarded
			x.refuse(http.StatusServiceUnavailable, origin.ErrBusy.Error()+"; try again", x.sample.Cause)
			return
		}
	}
	x.sample.Outcome, x.sample.Origin, x.forward = meter.Bypass, true, forward
	// The proxy may still write when the visitor has gone, so that it gets copies.
	req, edge, explains := x.req, x.edge, x.explains()
	question := x.in.Plan != nil && x.in.Enabled && x.plan.Key.Body != key.NoBody
	composed, method := x.composesHere(), x.req.Method
	budget := x.share()
	var page skeleton
	counting := &countingWriter{ResponseWriter: x.w}
	proxy := &httputil.ReverseProxy{
		Transport: origin.Within{Client: client, Limit: x.plan.Limit(o)},
		Rewrite: func(p *httputil.ProxyRequest) {
			p.Out.URL = client.Target(p.In.URL, p.In.URL.RawQuery, p.In.URL.ForceQuery)
			p.Out.Host = req.Host
			p.Out.Header.Del("Gerastic-Explain")
			for _, name := range []string{"Cache-Control", "Pragma"} {
				if lines := rules.ForwardedControl(p.Out.Header[name]); len(lines) > 0 {
					p.Out.Header[name] = lines
				} else {
					p.Out.Header.Del(name)
				}
			}
			if composed {
				p.Out.Header.Del("Accept-Encoding") // what is compressed cannot be read
			}
			p.Out.Header.Set("Surrogate-Capability", capability)
			origin.Forward(p.Out.Header, p.In.RemoteAddr, p.In.ProtoMajor, &req, edge.Trusted)
		},
		ModifyResponse: func(resp *http.Response) error {
			if rules.Unsafe(req.Method) && !question { // what only asks changes nothing, whatever its method
				edge.invalidate(resp, req.Host, req.Path, req.Query, req.Method)
			}
			told := listen(rules.Header(resp.Header))
			if explains && told.lines != nil {
				resp.Header[partsField] = told.lines
			}
			status := rules.CacheStatus{Forward: forward}
			resp.Header.Add("Cache-Status", status.String())
			if method != http.MethodHead && composes(composed, rules.Header(resp.Header)) {
				if whole, err := page.read(resp, budget); whole || err != nil {
					return err
				}
			}
			return answer.take(resp, rules.Unsafe(req.Method))
		},
		ErrorHandler: func(_ http.ResponseWriter, r *http.Request, err error) {
			if errors.Is(err, context.Canceled) && r.Context().Err() != nil {
				x.sample.Outcome, x.sample.Status = meter.Error, 499
				return
			}
			switch {
			case x.refuseBody():
				return
			case err == errSkeleton:
				page.compose(x)
				return
			case page.body != nil:
				x.cannotCompose(err)
				return
			}
			edge.Log.Warn("the origin failed", "origin", o.Name, "path", req.Path, "error", err)
			f := origin.FailureOf(err)
			x.refuse(f.Status, f.Text, x.sample.Cause)
		},
		FlushInterval: -1,
		ErrorLog:      log.New(io.Discard, "", 0), // broken connections are not news
	}
	defer func() {
		if counting.status != 0 {
			x.sample.Status, x.sample.Bytes = counting.status, counting.bytes
		}
		x.sample.Waited = edge.Now().Sub(x.began)
	}()
	proxy.ServeHTTP(counting, x.r)
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

// invalidate carries out what the success of an unsafe method means for what is
// stored: the target and, on the same host, Location and Content-Location
// (RFC 9111 §4.4), and the groups that the answer names (RFC 9875 §3). It ends before
// the visitor sees the answer, so that he reads his own write.
func (e *Edge) invalidate(resp *http.Response, host, path, query, method string) {
	if resp.StatusCode < 200 || resp.StatusCode > 399 {
		return
	}
	p := tags.Purge{Mode: tags.Drop, Host: host}
	p.URLs = e.URLForms(host, path, query, false)
	base := &url.URL{Scheme: "http", Host: host, Path: path}
	for _, name := range []string{"Location", "Content-Location"} {
		if u, err := base.Parse(resp.Header.Get(name)); err == nil && resp.Header.Get(name) != "" && key.CanonicalHost(u.Host, u.Scheme) == host {
			p.URLs = append(p.URLs, e.URLForms(host, u.EscapedPath(), u.RawQuery, false)...)
		}
	}
	p.Tags, _ = rules.Groups(resp.Header["Cache-Group-Invalidation"])
	if len(p.URLs) == 0 && len(p.Tags) == 0 {
		return // no route could have stored anything that this concerns
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(resp.Request.Context()), 5*time.Second)
	defer cancel()
	if err := e.Purge(ctx, p, "origin", method+" "+key.EquivalentPath(path)); err != nil {
		// Never worse than no cache: without the ledger, this node at least forgets.
		e.Log.Error("an invalidation is not in the ledger yet; until it is, it holds on this node only", "error", err)
		e.Forget(p)
	}
}
