package edge

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/decide"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
)

// maxDepth is how deep includes may be included in one another.
const maxDepth = 5

// includes gets what a page includes: each by its own route, key and lifetime, as if the
// visitor had asked for it. It holds nothing of the exchange, which may end before it.
type includes struct {
	edge     *Edge
	inForce  *inForce
	stripe   meter.Stripe
	page     key.Request
	r        *http.Request
	depth    int
	header   http.Header // of requests for includes
	explains bool
	budget   *compose.Budget
	waited   atomic.Bool // for an origin, at least for one of them
	doubtful atomic.Bool // one of them may be out of date

	// What was at hand, as long as the composition begins: looked for by one exchange, and
	// recorded together.
	looking *exchange
	samples []meter.Sample

	mu     sync.Mutex
	report []protocol.Part
}

func (x *exchange) includes(budget *compose.Budget) *includes {
	s := &includes{edge: x.edge, inForce: x.inForce, stripe: x.stripe, page: x.req, r: x.r, depth: x.depth + 1, explains: x.explains(), budget: budget}
	s.header = maps.Clone(x.r.Header)
	if s.header == nil {
		s.header = http.Header{}
	}
	for _, name := range notForIncludes {
		delete(s.header, name)
	}
	y := x.edge.exchanges.Get().(*exchange)
	y.inForce, y.depth, y.began = s.inForce, s.depth, x.began
	y.sent.Remote, y.sent.Proto = s.r.RemoteAddr, s.r.ProtoMajor
	s.looking, s.samples = y, make([]meter.Sample, 0, 16)
	return s
}

// notForIncludes: they are about the page, or would get only part of an include, or get it in a
// form that cannot be put into a page.
var notForIncludes = []string{"If-Match", "If-None-Match", "If-Modified-Since", "If-Unmodified-Since", "If-Range", "Range", "Accept-Encoding", "Content-Type", "Content-Length", "Content-Encoding", "Expect", "Upgrade", "Connection", protocol.ExplainField, "X-Forwarded-Host", protocol.GroupField}

// target is the request for an include: of the page's own host, or of another. Which origin it
// goes to is the policy's to say, never the page's.
func (s *includes) target(raw string) (key.Request, error) {
	req := key.Request{Method: http.MethodGet, Scheme: s.page.Scheme, Host: s.page.Host, Header: httprules.Header(s.header)}
	if strings.HasPrefix(raw, "/") && !strings.HasPrefix(raw, "//") && !strings.ContainsAny(raw, "# \t\r\n") {
		req.Path, req.Query, req.HasQuery = strings.Cut(raw, "?")
		return req, nil
	}
	base := &url.URL{Scheme: s.page.Scheme, Host: s.page.Host, Path: "/"}
	if u, err := url.ParseRequestURI(s.page.Path); err == nil {
		base.Path, base.RawPath = u.Path, u.RawPath
	}
	u, err := base.Parse(raw)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
		return req, fmt.Errorf("%q is not a URL that can be included", raw)
	}
	req.Scheme, req.Host = u.Scheme, key.CanonicalHost(u.Host, u.Scheme)
	if req.Host != s.page.Host { // who a visitor is here is none of another host's business
		header := maps.Clone(s.header)
		delete(header, "Cookie")
		delete(header, "Authorization")
		req.Header = httprules.Header(header)
	}
	req.Path, req.Query, req.HasQuery = u.EscapedPath(), u.RawQuery, u.RawQuery != "" || u.ForceQuery
	if req.Path == "" {
		req.Path = "/"
	}
	return req, nil
}

// Now implements compose.Source: a fresh entry is taken as it is.
func (s *includes) Now(raw string) (body []byte, digest compose.Digest, ok bool) {
	req, err := s.target(raw)
	if err != nil {
		return nil, digest, false
	}
	y := s.looking
	if y == nil { // a branch that was taken later
		return nil, digest, false
	}
	y.req, y.route = req, nil
	y.match()
	if !y.in.Enabled || y.takesBody() {
		return nil, digest, false
	}
	y.near = true
	d := y.look()
	e := y.in.Entry
	if d.Action != decide.Serve && d.Action != decide.ServeAndRefresh || e.Skeleton != nil || e.Status >= 300 || e.Header.Has("Content-Encoding") {
		return nil, digest, false
	}
	outcome := meter.Hit
	if d.Action == decide.ServeAndRefresh {
		y.r = s.request(context.Background(), req)
		y.refresh(e)
		if d.Cause != meter.NoCause {
			outcome = meter.Stale
		}
	}
	s.take(raw, e, meter.Sample{Route: y.route.Within, Outcome: outcome, Cause: d.Cause, Status: e.Status, Bytes: int64(len(e.Body)), Saved: e.Cost(), Spared: meter.Work(e.Work)})
	return e.Body, e.Digest(), true
}

// take notes an entry that was at hand.
func (s *includes) take(raw string, e *store.Entry, sample meter.Sample) {
	y := s.looking
	y.sample = sample
	s.edge.store.Use(e, y.began)
	if sample.Outcome == meter.Stale && y.in.Doubtful() {
		s.doubtful.Store(true)
	}
	s.tell(raw, sample.Outcome, 0, e.Freshness.Age(y.began))
	s.samples = append(s.samples, sample)
	s.edge.asked.note(&y.lookup, &sample, e.Vary)
	y.tell()
}

// found records what was at hand, which took so long to find.
func (s *includes) found(took time.Duration) {
	for i := range s.samples {
		s.samples[i].Took = took / time.Duration(len(s.samples))
	}
	s.edge.meter.RecordAll(s.stripe, s.samples)
	s.looking.release()
	s.looking, s.samples = nil, nil
}

// request is what a visitor would have sent for the include.
func (s *includes) request(ctx context.Context, req key.Request) *http.Request {
	target := req.Path
	if req.HasQuery {
		target += "?" + req.Query
	}
	u, err := url.ParseRequestURI(target)
	if err != nil { // it is sent on as it stands
		u = &url.URL{Path: req.Path, RawQuery: req.Query}
	}
	return (&http.Request{
		Method: http.MethodGet, URL: u, RequestURI: target, Host: req.Host, Header: maps.Clone(http.Header(req.Header)), RemoteAddr: s.r.RemoteAddr, TLS: s.r.TLS,
		Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1, Body: http.NoBody,
	}).WithContext(ctx)
}

// Fetch implements compose.Source: it takes the way of any request.
func (s *includes) Fetch(ctx context.Context, raw string) (body []byte, err error) {
	req, err := s.target(raw)
	if err != nil {
		return nil, err
	}
	if s.depth > maxDepth {
		return nil, fmt.Errorf("includes include one another more than %d deep", maxDepth)
	}
	r := s.request(ctx, req)
	w := &includeWriter{header: http.Header{}, budget: s.budget}
	began := s.edge.config.Now()
	outcome := meter.Error
	defer func() {
		if recover() != nil {
			err = errors.New("it broke off")
		}
		s.tell(raw, outcome, s.edge.config.Now().Sub(began), 0)
	}()
	y := s.edge.exchanges.Get().(*exchange)
	defer y.end()
	y.begin(w, r)
	y.req.Scheme, y.depth, y.budget = req.Scheme, s.depth, s.budget
	y.visit()
	outcome = y.sample.Outcome
	if outcome != meter.Hit && outcome != meter.Stale || y.sample.Origin {
		s.waited.Store(true)
	}
	if outcome == meter.Stale && y.in.Doubtful() {
		s.doubtful.Store(true)
	}
	switch {
	case w.failed != nil:
		return nil, w.failed
	case w.status >= 300 || w.status == 0:
		outcome = meter.Error
		return nil, fmt.Errorf("it was answered with status %d", w.status)
	case w.header.Get("Content-Encoding") != "":
		outcome = meter.Error
		return nil, fmt.Errorf("its origin sent it in the coding %s to a request that takes none", w.header.Get("Content-Encoding"))
	}
	return w.body, nil
}

func (s *includes) tell(raw string, outcome meter.Outcome, took, age time.Duration) {
	if !s.explains {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.report = append(s.report, protocol.Part{Name: raw, Found: outcome.String(), Depth: 1, Took: took, Age: age})
}

// field says what became of each include, in the form of Gerastic-Parts, for those who may see it.
func (s *includes) field() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return protocol.FormatParts(s.report)
}

// includeWriter takes an answer that goes into a page.
type includeWriter struct {
	header http.Header
	status int
	body   []byte
	budget *compose.Budget
	failed error
}

func (w *includeWriter) Header() http.Header { return w.header }

func (w *includeWriter) WriteHeader(status int) {
	if status >= 200 && w.status == 0 {
		w.status = status
	}
}

func (w *includeWriter) Write(p []byte) (int, error) {
	w.WriteHeader(http.StatusOK)
	if w.failed = errors.Join(w.failed, w.budget.Spend(int64(len(p)))); w.failed != nil {
		return 0, w.failed
	}
	w.body = append(w.body, p...)
	return len(p), nil
}
