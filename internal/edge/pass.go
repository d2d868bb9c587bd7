package edge

import (
	"io"
	"log"
	"net/http"
	"net/http/httputil"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/origin"
)

// pass hands the request through to its origin and the answer back: bodies, trailers,
// interim answers and upgrades as they come.
func (x *exchange) pass(forward httprules.Forward) {
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
			x.forward = httprules.NotForwarded
			x.refuse(http.StatusServiceUnavailable, origin.ErrBusy.Error()+"; try again", x.sample.Cause)
			return
		}
	}
	x.sample.Outcome, x.forward = meter.Bypass, forward
	var requests origin.Requests
	visitor := x.r.WithContext(origin.Counting(x.r.Context(), &requests))
	change := x.write()
	if change != nil {
		var cancel func()
		visitor, cancel = change.lasting(visitor)
		defer cancel()
	}
	// The proxy may still write when the visitor has gone, so that it gets copies.
	req, edge, explains := x.req, x.edge, x.explains()
	asksOnly := x.asksOnly()
	composed, method := x.composesHere(), x.req.Method
	budget := x.share()
	var page skeleton
	counting := &countingWriter{ResponseWriter: x.w}
	proxy := &httputil.ReverseProxy{
		Transport: origin.Within{Client: client, Limit: x.route.Limit(o)},
		Rewrite: func(p *httputil.ProxyRequest) {
			p.Out.URL = client.Target(p.In.URL, p.In.URL.RawQuery, p.In.URL.ForceQuery)
			p.Out.Host = req.Host
			p.Out.Header.Del("Gerastic-Explain")
			for _, name := range []string{"Cache-Control", "Pragma"} {
				if lines := httprules.ForwardedControl(p.Out.Header[name]); len(lines) > 0 {
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
			if change != nil {
				change.answer(resp)
			} else if asksOnly {
				edge.invalidateGroups(req.Method, req.Host, req.Path, resp.StatusCode, httprules.Header(resp.Header))
			}
			told := listen(httprules.Header(resp.Header))
			if explains && told.lines != nil {
				resp.Header[partsField] = told.lines
			}
			status := httprules.CacheStatus{Forward: forward}
			resp.Header.Add("Cache-Status", status.String())
			if method != http.MethodHead && composes(composed, httprules.Header(resp.Header)) {
				if whole, err := page.read(resp, budget); whole || err != nil {
					return err
				}
			}
			return answer.take(resp, httprules.Unsafe(req.Method))
		},
		ErrorHandler: func(_ http.ResponseWriter, _ *http.Request, err error) {
			if change != nil {
				change.end()
			}
			switch {
			case x.refuseBody():
				return
			case x.r.Context().Err() != nil:
				x.sample.Outcome = meter.Error // nobody is there to be answered
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
		if change != nil {
			change.end()
		}
		x.countRequests(requests.Made())
		if counting.status != 0 {
			x.sample.Status, x.sample.Bytes = counting.status, counting.bytes
		}
		x.sample.Waited = edge.Now().Sub(x.began)
	}()
	proxy.ServeHTTP(counting, visitor)
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
