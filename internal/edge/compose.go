package edge

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/coding"
	"gerastic/internal/core/compose"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/fetch"
)

// skeleton is what a page is composed of, besides its includes.
type skeleton struct {
	page     *compose.Page
	digest   compose.Digest
	status   int
	browser  time.Duration                                  // Cache-Control max-age for visitors; httprules.Unset: none
	lines    func(yield func(name string, values []string)) // of its header
	doubtful bool                                           // something of the page may be out of date
}

// linesOf are those of a header.
func linesOf(h httprules.Header) func(yield func(name string, values []string)) {
	return func(yield func(name string, values []string)) {
		for name, values := range h {
			yield(name, values)
		}
	}
}

// ofSkeleton are fields that say something of the skeleton which is not true of the page.
var ofSkeleton = map[string]bool{
	"Content-Length": true, "Etag": true, "Last-Modified": true, "Accept-Ranges": true, "Age": true, "Expires": true, "Pragma": true,
	"Cache-Control": true, "Cdn-Cache-Control": true, "Surrogate-Control": true, "Content-Md5": true, "Content-Digest": true, "Repr-Digest": true, "Digest": true,
}

// compose answers with a page made of a skeleton and its includes. Its header is the
// skeleton's, as far as it holds for the page. A validator covers the includes: there is one
// when all were at hand before the head went out, else none. Ranges are not served: what is
// put together anew for each request has no parts to come back for (RFC 9110 §14.2).
func (x *exchange) compose(s skeleton) {
	ctx, cancel := context.WithCancel(x.r.Context())
	budget := x.share()
	source := x.includes(budget)
	who := x.visitor()
	began := x.edge.config.Now()
	c := s.page.Begin(ctx, who, source, s.digest, budget)
	source.found(x.edge.config.Now().Sub(began))
	defer func() {
		cancel()
		c.Wait()
	}()
	if required := c.Required(); required != nil {
		if x.r.Context().Err() != nil {
			panic(http.ErrAbortHandler)
		}
		x.cannotCompose(required)
		return
	}
	pending := !c.Settle(fetch.HeadDelay)
	if pending || source.waited.Load() {
		x.waitedForIncludes()
	}
	s.doubtful = pending || source.doubtful.Load() || x.sample.Outcome == meter.Stale && x.in.Doubtful()
	coding := x.headOfComposed(s)
	if x.explains() {
		c.Wait() // so that it can be told what became of each
		x.w.Header()[protocol.PartsField] = []string{source.field()}
	}
	if c.Ready() {
		x.composed(c, s.status, coding)
		return
	}
	x.composing(c, who, s.status, coding)
}

// waitedForIncludes notes that a visitor whose skeleton was there waits for an origin all the
// same, if they do.
func (x *exchange) waitedForIncludes() {
	if answered := x.sample.Outcome; answered != meter.Hit && answered != meter.Stale {
		return
	}
	x.sample.Outcome, x.sample.Cause, x.sample.Saved, x.sample.Spared = meter.Miss, meter.Includes, 0, ""
	line := httprules.CacheStatus{Forward: httprules.ForwardMiss}
	if x.explains() {
		x.detail(&line)
	}
	h := x.w.Header()
	lines := slices.Clone(h["Cache-Status"])
	h["Cache-Status"] = append(lines[:len(lines)-1], line.String())
}

// headOfComposed writes the head of a composed page, but for its status and validator, and
// returns the coding that it may be sent in.
func (x *exchange) headOfComposed(s skeleton) httprules.Coding {
	h := x.w.Header()
	var origin []string // its Cache-Control
	s.lines(func(name string, values []string) {
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
	if s.browser != httprules.Unset {
		h["Cache-Control"] = []string{"private, max-age=" + strconv.FormatInt(int64(s.browser/time.Second), 10)}
		if s.doubtful {
			askFirst(h)
		}
	}
	if !httprules.MayCompress(http.StatusOK, httprules.Header{"Content-Type": h["Content-Type"]}, httprules.ParseResponseDirectives(httprules.Header{"Cache-Control": origin}), 1<<20) {
		return httprules.Identity
	}
	h["Vary"] = append(slices.Clone(h["Vary"]), "Accept-Encoding")
	return httprules.QuickCoding(x.req.Header)
}

// composed answers with a page of which everything is there.
func (x *exchange) composed(c *compose.Composition, status int, chosen httprules.Coding) {
	body, err := c.Body()
	if err != nil {
		x.cannotCompose(err)
		return
	}
	h := x.w.Header()
	digest := c.Digest()
	if len(body) < 512 {
		chosen = httprules.Identity // it gains nothing
	}
	etag := httprules.CodedTag(`"`+hex.EncodeToString(digest[:16])+`"`, chosen)
	if status == http.StatusOK {
		h["Etag"] = []string{etag}
	}
	x.reply(&reply{status: status, judged: httprules.Header{"Etag": {etag}}, received: x.began, make: func() []byte {
		if chosen != httprules.Identity {
			h["Content-Encoding"] = []string{string(chosen)}
			body = x.edge.coder.Quickly(chosen, body)
		}
		h["Content-Length"] = []string{strconv.Itoa(len(body))}
		return body
	}})
}

// composing answers with a page of which something is still to come.
func (x *exchange) composing(c *compose.Composition, who *compose.Visitor, status int, chosen httprules.Coding) {
	out := &composedWriter{countingWriter: countingWriter{ResponseWriter: x.w}}
	if chosen != httprules.Identity {
		x.w.Header()["Content-Encoding"] = []string{string(chosen)}
		out.packer = x.edge.coder.NewWriter(chosen, &out.countingWriter)
		defer out.packer.Free()
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
		x.edge.config.Log.Warn("a composed page broke off", "path", x.req.Path, "error", err)
		panic(http.ErrAbortHandler)
	}
}

// composedWriter sends a page as it comes, compressed if the visitor likes that.
type composedWriter struct {
	countingWriter
	packer *coding.Writer // nil: as it is
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

// share is the budget of the page that the request is for, or the page that holds it. It ends with the
// exchange.
func (x *exchange) share() *compose.Budget {
	if x.budget != nil {
		return x.budget
	}
	if x.page == nil {
		x.page = compose.NewBudget(x.edge.store.Borrow)
	}
	return x.page
}

// cannotCompose answers for a page that lacks something.
func (x *exchange) cannotCompose(why error) {
	x.edge.config.Log.Warn("a page could not be composed", "path", x.req.Path, "error", why)
	status, text := http.StatusBadGateway, "an include that this page needs could not be had"
	switch {
	case errors.Is(why, compose.ErrNoRoom) && !httprules.Unsafe(x.req.Method): // what was carried out is not to be tried again
		status, text = http.StatusServiceUnavailable, why.Error()+"; try again"
	case errors.Is(why, compose.ErrTooLarge), errors.Is(why, compose.ErrTooMany):
		text = "the page is too large: " + why.Error()
	}
	x.refuse(status, text, x.sample.Cause)
}

// parsed is the skeleton that has just arrived; nil when it is not one.
func (x *exchange) parsed(h *fetch.Head, body []byte) *compose.Page {
	if page := h.Skeleton(); page != nil {
		return page
	}
	page, err := compose.Parse(body)
	if err != nil {
		x.edge.config.Log.Warn("a page is served with its marks, since they are not in order", "path", x.req.Path, "error", err)
	}
	return page
}

// gather reads a fill to its end, up to a size: the whole skeleton must be there before it is
// known what it asks for. It reports false after it has answered the visitor.
func (x *exchange) gather(s share, h *fetch.Head) ([]byte, bool) {
	if body := h.Whole(); body != nil {
		return *body, true
	}
	budget := x.share()
	var b []byte
	for {
		data, err := s.Reader.Next(x.r.Context(), nil)
		if err == io.EOF {
			return b, true
		}
		if err == nil {
			err = budget.Spend(int64(len(data)))
		}
		if err != nil {
			if x.r.Context().Err() != nil {
				panic(http.ErrAbortHandler)
			}
			x.cannotCompose(fmt.Errorf("its skeleton did not come whole: %w", err))
			return nil, false
		}
		b = append(b, data...)
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
