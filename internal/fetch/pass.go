package fetch

import (
	"io"
	"log"
	"net/http"
	"net/http/httputil"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/outbound"
	"gerastic/internal/core/policy"
	"gerastic/internal/origin"
)

// Passing is a visitor's request that is handed through to its origin, and the answer that is
// handed back: bodies, trailers, interim answers and upgrades as they come. What it holds are
// copies, since it may still write when the visitor has gone.
type Passing struct {
	Way       *origin.Client
	Visitor   key.Request
	Limit     time.Duration    // for the answer's head
	Trusted   outbound.Trusted // proxies
	PageRoute *policy.Route    // of the request's place, whatever its method; nil: none
	AsksOnly  bool             // the route says of a request of an unsafe method that it is a question
	Writes    []*policy.Write  // what the policy says that it changes
	Body      *policy.Message  // of the request; nil: it is too long, or not there
	Slow      bool             // it goes at the visitor's pace from the beginning
	Group     string           // of the visitor; "": none is known
	Budget    *compose.Budget  // of the page, if the answer is composed

	// Answered may add to the header of the answer; info is what it said of its fragments, work what
	// it took to make.
	Answered func(header http.Header, info []string, work meter.Work)
	// Failed answers for an origin that did not, if there is still somebody to be answered.
	// ErrSkeleton: the answer is to be composed, see Skeleton.
	Failed func(err error)

	// Skeleton is the answer of an origin that is to be composed, as far as it was read.
	Skeleton Skeleton

	fetcher *Fetcher
	change  *write // nil: nothing is changed
	answer  passed
	made    origin.Requests
}

// Made is how many requests to the origin it was.
func (p *Passing) Made() int64 { return p.made.Made() }

// Pass hands a request through, and returns when it has ended. It reports false, and does
// nothing, where the request goes at the visitor's pace and there is no place for it.
func (f *Fetcher) Pass(w http.ResponseWriter, r *http.Request, p *Passing) bool {
	p.fetcher = f
	p.answer = passed{fetcher: f, client: p.Way, unsafe: httprules.Unsafe(p.Visitor.Method)}
	defer p.answer.free()
	if p.Slow && !p.answer.takePlace() {
		return false
	}
	r = r.WithContext(origin.Counting(r.Context(), &p.made))
	if p.change = f.writeOf(p); p.change != nil {
		var cancel func()
		r, cancel = p.change.lasting(r)
		defer cancel()
		defer p.change.end()
	}
	proxy := &httputil.ReverseProxy{
		Transport: origin.Within{Client: p.Way, Limit: p.Limit},
		Rewrite:   p.rewrite, ModifyResponse: p.answered,
		ErrorHandler: func(_ http.ResponseWriter, _ *http.Request, err error) {
			if p.change != nil {
				p.change.end()
			}
			p.Failed(err)
		},
		FlushInterval: -1,
		ErrorLog:      log.New(io.Discard, "", 0), // broken connections are not news
	}
	proxy.ServeHTTP(w, r)
	return true
}

// rewrite makes the request that the origin gets.
func (p *Passing) rewrite(r *httputil.ProxyRequest) {
	r.Out.URL = p.Way.Target(r.In.URL, origin.Query{Text: r.In.URL.RawQuery, Present: r.In.URL.ForceQuery})
	r.Out.Host = p.Visitor.Host
	r.Out.Header.Del(protocol.ExplainField)
	for _, name := range []string{"Cache-Control", "Pragma"} {
		if lines := httprules.ForwardedControl(r.Out.Header[name]); len(lines) > 0 {
			r.Out.Header[name] = lines
		} else {
			r.Out.Header.Del(name)
		}
	}
	if p.PageRoute != nil && p.PageRoute.Compose {
		r.Out.Header.Del("Accept-Encoding") // what is compressed cannot be read
	}
	if p.change != nil && p.change.readsAnswer() {
		r.Out.Header.Set("Accept-Encoding", "identity")
	}
	delete(r.Out.Header, protocol.GroupField)
	if p.Group != "" {
		r.Out.Header[protocol.GroupField] = []string{p.Group}
	}
	r.Out.Header.Set("Surrogate-Capability", capability)
	outbound.Forward(httprules.Header(r.Out.Header), outbound.Hop{Remote: r.In.RemoteAddr, Proto: r.In.ProtoMajor, Trusted: p.Trusted}, &p.Visitor)
}

// answered carries out what an answer says, before the visitor gets it.
func (p *Passing) answered(resp *http.Response) error {
	if p.change != nil {
		p.change.answer(resp)
	} else if p.AsksOnly {
		p.fetcher.invalidateGroups(p.Visitor.Method, p.Visitor.Host, p.Visitor.Path, resp)
	}
	p.fetcher.sawRelease(p.PageRoute, httprules.Header(resp.Header))
	info := parsePageInfo(httprules.Header(resp.Header))
	p.Answered(resp.Header, info.lines, info.work)
	if p.Visitor.Method != http.MethodHead && isSkeleton(p.PageRoute, httprules.Header(resp.Header)) {
		if whole, err := p.Skeleton.read(resp, p.Budget); whole || err != nil {
			return err
		}
	}
	return p.answer.take(resp)
}
