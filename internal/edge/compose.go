package edge

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dunglas/httpsfv"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/decide"
	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
)

// maxDepth is how deep pieces may be included in one another.
const maxDepth = 5

// ofSkeleton are fields that say something of the skeleton which is not true of the page.
var ofSkeleton = map[string]bool{
	"Content-Length": true, "Etag": true, "Last-Modified": true, "Accept-Ranges": true, "Age": true, "Expires": true, "Pragma": true,
	"Cache-Control": true, "Cdn-Cache-Control": true, "Surrogate-Control": true, "Content-Md5": true, "Content-Digest": true, "Repr-Digest": true, "Digest": true,
}

// compose answers with a page made of a skeleton and its pieces. Its header is the
// skeleton's, as far as it holds for the page. A validator covers the pieces: there is one
// when all were at hand before the head went out, else none. Ranges are not served: what is
// put together anew for each request has no parts to come back for (RFC 9110 §14.2).
func (x *exchange) compose(page *compose.Page, digest compose.Digest, status int, browser time.Duration, each func(yield func(name string, values []string))) {
	ctx, cancel := context.WithCancel(x.r.Context())
	budget := x.share()
	source := x.pieces(budget)
	who := x.visitor()
	began := x.edge.Now()
	c := page.Begin(ctx, who, source, digest, budget)
	source.found(x.edge.Now().Sub(began))
	defer func() {
		cancel()
		c.Wait()
	}()
	required := c.Required()
	if required != nil {
		if x.r.Context().Err() != nil {
			panic(http.ErrAbortHandler)
		}
		x.cannotCompose(required)
		return
	}
	h := x.w.Header()
	pending := !c.Settle(headDelay)
	if answered := x.sample.Outcome; (pending || source.waited.Load()) && (answered == meter.Hit || answered == meter.Stale) {
		// The skeleton was there, but the visitor waits for an origin all the same.
		x.sample.Outcome, x.sample.Cause, x.sample.Saved = meter.Miss, meter.Pieces, 0
		line := httprules.CacheStatus{Forward: httprules.ForwardMiss}
		x.detail(&line, x.explains())
		lines := slices.Clone(h["Cache-Status"])
		h["Cache-Status"] = append(lines[:len(lines)-1], line.String())
	}
	doubtful := pending || source.doubtful.Load() || x.sample.Outcome == meter.Stale && x.in.Doubtful()
	var origin []string // its Cache-Control
	each(func(name string, values []string) {
		if name == "Cache-Control" {
			origin = values
		}
		if !ofSkeleton[name] {
			h[name] = values
		}
	})
	for name := range ofSkeleton {
		delete(h, name)
	}
	// It may hold what is for this visitor alone.
	h["Cache-Control"] = []string{"private, no-cache"}
	if browser != httprules.Unset {
		h["Cache-Control"] = []string{"private, max-age=" + strconv.FormatInt(int64(browser/time.Second), 10)}
		if doubtful {
			askFirst(h)
		}
	}
	if x.explains() {
		c.Wait() // so that it can be told what became of each
		h[partsField] = []string{source.told()}
	}
	coding := httprules.Identity
	if httprules.MayCompress(http.StatusOK, httprules.Header{"Content-Type": h["Content-Type"]}, httprules.ParseResponseDirectives(httprules.Header{"Cache-Control": origin}), 1<<20) {
		h["Vary"] = append(slices.Clone(h["Vary"]), "Accept-Encoding")
		coding = httprules.QuickCoding(x.req.Header)
	}
	if c.Ready() {
		x.composed(c, status, coding)
		return
	}
	out := &composedWriter{countingWriter: countingWriter{ResponseWriter: x.w}}
	if coding != httprules.Identity {
		h["Content-Encoding"] = []string{string(coding)}
		out.through(coding)
		defer out.free(coding)
	}
	x.status(status)
	if x.r.Method == http.MethodHead {
		return
	}
	var gone error
	err := c.Write(who, func(b []byte) error {
		gone = out.write(b)
		return gone
	}, out.flush)
	if err == nil {
		gone = out.end()
	}
	x.sample.Bytes = out.bytes
	if err != nil && gone == nil {
		// Half is nothing: the visitor must see a broken connection, not a short page.
		x.sample.Outcome = meter.Error
		x.edge.Log.Warn("a composed page broke off", "path", x.req.Path, "error", err)
		panic(http.ErrAbortHandler)
	}
}

// share is the budget of the page that the request is for, or is a piece of. It ends with the
// exchange.
func (x *exchange) share() *compose.Budget {
	if x.budget != nil {
		return x.budget
	}
	if x.page == nil {
		x.page = compose.NewBudget(x.edge.Store.Borrow)
	}
	return x.page
}

// cannotCompose answers for a page that lacks something.
func (x *exchange) cannotCompose(why error) {
	x.edge.Log.Warn("a page could not be composed", "path", x.req.Path, "error", why)
	status, text := http.StatusBadGateway, "a piece that this page needs could not be had"
	switch {
	case errors.Is(why, compose.ErrNoRoom) && !httprules.Unsafe(x.req.Method): // what was carried out is not to be tried again
		status, text = http.StatusServiceUnavailable, why.Error()+"; try again"
	case errors.Is(why, compose.ErrTooLarge), errors.Is(why, compose.ErrTooMany):
		text = "the page is too large: " + why.Error()
	}
	x.refuse(status, text, x.sample.Cause)
}

// composed answers with a page of which everything is there.
func (x *exchange) composed(c *compose.Composition, status int, coding httprules.Coding) {
	body, err := c.Body()
	if err != nil {
		x.cannotCompose(err)
		return
	}
	h := x.w.Header()
	digest := c.Digest()
	if len(body) < 512 {
		coding = httprules.Identity // it gains nothing
	}
	etag := httprules.CodedTag(`"`+hex.EncodeToString(digest[:16])+`"`, coding)
	if status == http.StatusOK {
		h["Etag"] = []string{etag}
	}
	if httprules.NotModified(x.req.Header, status, httprules.Header{"Etag": {etag}}, x.began) {
		for name := range h {
			if !httprules.InNotModified(name) && name != "Cache-Status" && name != partsField {
				delete(h, name)
			}
		}
		x.status(http.StatusNotModified)
		return
	}
	if coding != httprules.Identity {
		h["Content-Encoding"] = []string{string(coding)}
		var packed bytes.Buffer
		w := quick[coding].Get().(flushing)
		w.Reset(&packed)
		_, _ = w.Write(body) // a buffer takes everything
		_ = w.Close()
		quick[coding].Put(w)
		body = packed.Bytes()
	}
	h["Content-Length"] = []string{strconv.Itoa(len(body))}
	x.status(status)
	if x.r.Method != http.MethodHead {
		x.sample.Bytes, _ = x.give(body)
	}
}

// composedWriter sends a page as it comes, compressed if the visitor likes that.
type composedWriter struct {
	countingWriter
	packer flushing // nil: as it is
}

func (w *composedWriter) through(coding httprules.Coding) {
	w.packer = quick[coding].Get().(flushing)
	w.packer.Reset(&w.countingWriter)
}

func (w *composedWriter) free(coding httprules.Coding) {
	w.packer.Reset(nil) // it must not hold on to the visitor
	quick[coding].Put(w.packer)
}

func (w *composedWriter) write(b []byte) (err error) {
	if w.packer != nil {
		_, err = w.packer.Write(b)
	} else {
		_, err = w.countingWriter.Write(b)
	}
	return err
}

func (w *composedWriter) flush() {
	if w.packer != nil {
		_ = w.packer.Flush()
	}
	_ = http.NewResponseController(w.ResponseWriter).Flush()
}

func (w *composedWriter) end() error {
	if w.packer != nil {
		return w.packer.Close()
	}
	return nil
}

// composeFill composes an answer that arrives; false when it is no skeleton after all, and
// nothing has been sent. The whole skeleton must be there before it is known what it asks for.
func (x *exchange) composeFill(body []byte, h *head, header httprules.Header) bool {
	page := h.skeleton.Load()
	if page == nil {
		var err error
		if page, err = compose.Parse(body); err != nil {
			x.edge.Log.Warn("a page is served with its marks, since they are not in order", "path", x.req.Path, "error", err)
		}
	}
	if page == nil {
		return false
	}
	x.compose(page, sha256.Sum256(body), h.status, h.browser, func(yield func(string, []string)) {
		for name, values := range header {
			yield(name, values)
		}
	})
	return true
}

// whole reads a fill to its end, up to a size. After an error the visitor has been answered.
func (x *exchange) whole(reader *fill.Reader[*head], h *head) ([]byte, error) {
	if body := h.whole.Load(); body != nil {
		return *body, nil
	}
	budget := x.share()
	var b bytes.Buffer
	for {
		data, err := reader.Next(x.r.Context(), nil)
		if err == io.EOF {
			return b.Bytes(), nil
		}
		if err == nil {
			err = budget.Spend(int64(len(data)))
		}
		if err != nil {
			if x.r.Context().Err() != nil {
				panic(http.ErrAbortHandler)
			}
			x.cannotCompose(fmt.Errorf("its skeleton did not come whole: %w", err))
			return nil, err
		}
		b.Write(data)
	}
}

// visitor is what variables say of who asks.
func (x *exchange) visitor() *compose.Visitor {
	header := x.req.Header
	return &compose.Visitor{
		Host: x.req.Host, Query: x.req.Query, Referer: header.Get("Referer"), UserAgent: header.Get("User-Agent"), AcceptLanguage: header.Joined("Accept-Language"),
		Cookie: func(name string) (string, bool) { return key.CookieValue(header, name) },
	}
}

// pieces gets what a page includes: each by its own route, key and lifetime, as if the
// visitor had asked for it. It holds nothing of the exchange, which may end before it.
type pieces struct {
	edge     *Edge
	rules    *Rules
	stripe   meter.Stripe
	page     key.Request
	r        *http.Request
	depth    int
	header   http.Header // of requests for pieces
	explains bool
	budget   *compose.Budget
	waited   atomic.Bool // for an origin, at least for one of them
	doubtful atomic.Bool // one of them may be out of date

	// What was at hand, as long as the composition begins: looked for by one exchange, and
	// recorded together.
	looking *exchange
	samples []meter.Sample

	mu     sync.Mutex
	report []pieceReport
}

type pieceReport struct {
	url     string
	outcome string
	took    time.Duration
	age     time.Duration
}

func (x *exchange) pieces(budget *compose.Budget) *pieces {
	s := &pieces{edge: x.edge, rules: x.rules, stripe: x.stripe, page: x.req, r: x.r, depth: x.depth + 1, explains: x.explains(), budget: budget}
	s.header = maps.Clone(x.r.Header)
	if s.header == nil {
		s.header = http.Header{}
	}
	for _, name := range notForPieces {
		delete(s.header, name)
	}
	y := x.edge.exchanges.Get().(*exchange)
	y.rules, y.depth, y.began = s.rules, s.depth, x.began
	y.sent.Remote, y.sent.Proto = s.r.RemoteAddr, s.r.ProtoMajor
	s.looking, s.samples = y, make([]meter.Sample, 0, 16)
	return s
}

// notForPieces: they are about the page, or would get only part of a piece, or get it in a
// form that cannot be put into a page.
var notForPieces = []string{"If-Match", "If-None-Match", "If-Modified-Since", "If-Unmodified-Since", "If-Range", "Range", "Accept-Encoding", "Content-Type", "Content-Length", "Content-Encoding", "Expect", "Upgrade", "Connection", "Gerastic-Explain", "X-Forwarded-Host"}

// target is the request for a piece: of the page's own host, or of another. Which origin it
// goes to is the policy's to say, never the page's.
func (s *pieces) target(raw string) (key.Request, error) {
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
		return req, fmt.Errorf("%q is no URL that can be included", raw)
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
func (s *pieces) Now(raw string) (body []byte, digest compose.Digest, ok bool) {
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
	if y.in.Enabled && y.route.Key.Body == key.NoBody {
		y.find()
		e := y.in.Entry
		d := decide.Of(&y.in)
		refresh := d.Action == decide.ServeAndRefresh
		if (d.Action == decide.Serve || refresh) && e.Skeleton == nil && e.Status < 300 && !e.Header.Has("Content-Encoding") {
			outcome := meter.Hit
			if refresh {
				y.r = s.request(context.Background(), req)
				y.refresh(e)
				if d.Cause != meter.NoCause {
					outcome = meter.Stale
				}
			}
			y.sample = meter.Sample{Route: y.route.Within, Outcome: outcome, Cause: d.Cause, Status: e.Status, Bytes: int64(len(e.Body)), Saved: e.Cost()}
			e.Touch(y.began)
			if outcome == meter.Stale && y.in.Doubtful() {
				s.doubtful.Store(true)
			}
			s.note(raw, outcome, 0, e.Freshness.Age(y.began))
			s.samples = append(s.samples, y.sample)
			y.tell()
			return e.Body, e.Digest(), true
		}
	}
	return nil, digest, false
}

// found records what was at hand, which took so long to find.
func (s *pieces) found(took time.Duration) {
	for i := range s.samples {
		s.samples[i].Took = took / time.Duration(len(s.samples))
	}
	s.edge.Meter.RecordAll(s.stripe, s.samples)
	s.looking.release()
	s.looking, s.samples = nil, nil
}

// request is what a visitor would have sent for the piece.
func (s *pieces) request(ctx context.Context, req key.Request) *http.Request {
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
func (s *pieces) Fetch(ctx context.Context, raw string) (body []byte, err error) {
	req, err := s.target(raw)
	if err != nil {
		return nil, err
	}
	if s.depth > maxDepth {
		return nil, fmt.Errorf("pieces include one another more than %d deep", maxDepth)
	}
	r := s.request(ctx, req)
	w := &pieceWriter{header: http.Header{}, budget: s.budget}
	began := s.edge.Now()
	outcome := meter.Error
	defer func() {
		if recover() != nil {
			err = errors.New("it broke off")
		}
		s.note(raw, outcome, s.edge.Now().Sub(began), 0)
	}()
	y := s.edge.exchanges.Get().(*exchange)
	defer y.end()
	y.begin(w, r)
	y.req.Scheme, y.depth, y.budget = req.Scheme, s.depth, s.budget
	y.answer()
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

func (s *pieces) note(raw string, outcome meter.Outcome, took, age time.Duration) {
	if !s.explains {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.report = append(s.report, pieceReport{raw, outcome.String(), took, age})
}

// told writes what became of each piece, for those who may see it.
func (s *pieces) told() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var list httpsfv.List
	for _, p := range s.report {
		item := httpsfv.NewItem(p.url)
		item.Params.Add("found", httpsfv.Token(p.outcome))
		item.Params.Add("depth", int64(1))
		item.Params.Add("took", float64(p.took.Microseconds())/1000)
		item.Params.Add("age", int64(p.age/time.Second))
		list = append(list, item)
	}
	field, _ := httpsfv.Marshal(list)
	return field
}

// pieceWriter takes an answer that goes into a page.
type pieceWriter struct {
	header http.Header
	status int
	body   []byte
	budget *compose.Budget
	failed error
}

func (w *pieceWriter) Header() http.Header { return w.header }

func (w *pieceWriter) WriteHeader(status int) {
	if status >= 200 && w.status == 0 {
		w.status = status
	}
}

func (w *pieceWriter) Write(p []byte) (int, error) {
	w.WriteHeader(http.StatusOK)
	if w.failed = errors.Join(w.failed, w.budget.Spend(int64(len(p)))); w.failed != nil {
		return 0, w.failed
	}
	w.body = append(w.body, p...)
	return len(p), nil
}
