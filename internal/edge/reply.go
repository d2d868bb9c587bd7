package edge

import (
	"bytes"
	"fmt"
	"io"
	"math"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"slices"
	"strconv"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
	"gerastic/internal/fetch"
)

// reply is an answer whose header fields stand in the visitor's writer already. Conditions and
// ranges are judged here, for what is stored, what arrives and what was composed; here the
// status and the body go out.
type reply struct {
	status   int
	judged   httprules.Header // by which conditions and ranges are judged
	received time.Time        // when the origin gave it: what dates are compared with
	own      httprules.Header // holds fields that are for this visitor alone: a 304 has them, too

	far      bool          // the body is what x.far reads, of length bytes
	whole    []byte        // the body, if it is there
	make     func() []byte // makes whole, and the fields that describe it, once it is wanted
	arriving *arriving     // else; nil: it is there
	length   int64         // of one that arrives, or is far; -1: unknown
	parts    parts         // of the body, that may be asked for

	entry *store.Entry   // what holds the body; nil: nothing that is stored
	form  *store.Encoded // of the entry, in which it is sent; nil: as it came
	held  int64          // bytes that are held while it is sent; 0: it is not accounted for
}

// parts says how much of a body may be asked for.
type parts uint8

const (
	noParts      parts = iota
	onePart            // of several, the visitor gets the whole: it comes once
	severalParts       // or none, which is said
)

// reply writes the answer.
func (x *exchange) reply(r *reply) {
	x.keepFromOthers(x.w.Header())
	if httprules.Conditional(x.req.Header) && httprules.NotModified(x.req.Header, r.status, r.judged, r.received) {
		x.notModified(r)
		return
	}
	if r.held > 0 && !x.hold(r.entry, r.form, r.held) {
		x.refuseFailed(fetch.ErrBusy, x.sample.Cause)
		return
	}
	if r.make != nil {
		r.whole = r.make()
	}
	if r.arriving != nil && len(r.arriving.Trailers) > 0 {
		x.w.Header()["Trailer"] = r.arriving.Trailers // announced, so that the answer is sent in chunks
	}
	if x.wantsPart(r) && x.sendParts(r) {
		return
	}
	if a := r.arriving; a != nil {
		body := a.Whole()
		if body == nil || len(a.Trailers) > 0 {
			x.status(r.status)
			if x.r.Method != http.MethodHead {
				x.sendArriving(a, httprules.Span{Length: math.MaxInt64})
			}
			return
		}
		r.whole, r.arriving = *body, nil // all is there: one write, however many pieces it came in
		x.w.Header()["Content-Length"] = []string{strconv.Itoa(len(r.whole))}
	}
	x.status(r.status)
	if x.r.Method != http.MethodHead {
		x.sample.Bytes, _ = x.givePart(r, httprules.Span{Length: x.size(r)})
	}
}

// size is how long the body is; 0 or less: that is not known.
func (x *exchange) size(r *reply) int64 {
	if r.arriving != nil || r.far {
		return r.length
	}
	return int64(len(r.whole))
}

// givePart sends a part of what is there.
func (x *exchange) givePart(r *reply, part httprules.Span) (sent int64, err error) {
	if r.far {
		return x.giveFar(part)
	}
	return x.give(r.whole[part.From : part.From+part.Length])
}

// notModified answers that the visitor has it already (RFC 9110 §15.4.5).
func (x *exchange) notModified(r *reply) {
	h := x.w.Header()
	for name := range h {
		own := r.own.Has(name) && !r.judged.Has(name)
		if !own && !httprules.InNotModified(name) && name != "Cache-Status" && name != "Age" && name != protocol.PartsField {
			delete(h, name)
		}
	}
	x.status(http.StatusNotModified)
}

// wantsPart reports whether the visitor asks for a part that they may have.
func (x *exchange) wantsPart(r *reply) bool {
	return r.parts != noParts && r.status == http.StatusOK && x.r.Method == http.MethodGet && x.req.Header.Has("Range") &&
		!(r.parts == severalParts && x.tagSaysNothing(r.entry))
}

// tagSaysNothing reports whether If-Range names a tag that two codings of the answer have: a
// part of one would be put together with a part of the other.
func (x *exchange) tagSaysNothing(entry *store.Entry) bool {
	if !x.req.Header.Has("If-Range") {
		return false
	}
	etag := entry.Header.Get("Etag")
	return etag != "" && slices.ContainsFunc(x.edge.store.Variants([]byte(entry.Key)), func(other *store.Entry) bool {
		return other.Header.Get("Etag") == etag && !slices.Equal(other.Encodings, entry.Encodings)
	})
}

// sendParts answers with parts of the body (RFC 9110 §15.3.7, §15.5.17); false if the whole
// is to be sent.
func (x *exchange) sendParts(r *reply) bool {
	size := x.size(r)
	if r.arriving != nil && size <= 0 {
		return false
	}
	result, spans := httprules.Ranges(x.req.Header, r.judged, size)
	switch {
	case result == httprules.Parts && len(spans) == 1:
		x.onePart(r, spans[0], size)
	case result == httprules.Whole || r.parts == onePart:
		return false
	case result == httprules.Unsatisfiable:
		x.noSuchPart(size)
	default:
		x.multipart(r, spans)
	}
	return true
}

// onePart sends one part.
func (x *exchange) onePart(r *reply, span httprules.Span, size int64) {
	h := x.w.Header()
	partial(h)
	h["Content-Range"] = []string{span.ContentRange(size)}
	h["Content-Length"] = []string{strconv.FormatInt(span.Length, 10)}
	x.status(http.StatusPartialContent)
	if r.arriving != nil {
		x.sendArriving(r.arriving, span)
		return
	}
	x.sample.Bytes, _ = x.givePart(r, span)
}

// noSuchPart says that the body is not so long.
func (x *exchange) noSuchPart(size int64) {
	h := x.w.Header()
	partial(h)
	for _, name := range []string{"Content-Length", "Content-Type", "Content-Encoding", "Etag", "Last-Modified", "Repr-Digest", "Digest"} {
		h.Del(name)
	}
	h.Set("Content-Range", "bytes */"+strconv.FormatInt(size, 10))
	x.status(http.StatusRequestedRangeNotSatisfiable)
}

// multipart sends several parts, each with its place (RFC 9110 §14.6).
func (x *exchange) multipart(r *reply, spans []httprules.Span) {
	counting := &countingWriter{ResponseWriter: x.w}
	parts := multipart.NewWriter(counting)
	h := x.w.Header()
	partial(h)
	kind := h["Content-Type"]
	h.Set("Content-Type", "multipart/byteranges; boundary="+parts.Boundary())
	h.Del("Content-Length")
	x.status(http.StatusPartialContent)
	for _, s := range spans {
		header := textproto.MIMEHeader{"Content-Range": {s.ContentRange(x.size(r))}}
		if len(kind) > 0 {
			header["Content-Type"] = kind
		}
		w, err := parts.CreatePart(header)
		if err != nil {
			return
		}
		var body io.Reader
		if r.far {
			body = x.far.Section(s.From, s.Length)
		} else {
			body = bytes.NewReader(r.whole[s.From : s.From+s.Length])
		}
		if _, err := io.Copy(w, body); err != nil {
			return
		}
	}
	_ = parts.Close()
	x.sample.Bytes = counting.bytes
}

func (x *exchange) status(status int) {
	x.sample.Status = status
	inventNothing(x.w.Header())
	x.w.WriteHeader(status)
}

// inventNothing keeps the server from guessing a Content-Type that the origin did not give:
// something else could run as a page.
func inventNothing(h http.Header) {
	if _, given := h["Content-Type"]; !given {
		h["Content-Type"] = nil
	}
}

// partial takes off what is true of the whole body only, and says that parts are served
// (RFC 9110 §14.3, RFC 9530 §2).
func partial(h http.Header) {
	delete(h, "Content-Digest")
	delete(h, "Content-Md5")
	h["Accept-Ranges"] = []string{"bytes"}
}

// refuse answers with a short, plain body of our own.
func (x *exchange) refuse(status int, text string, cause meter.Cause) {
	h := x.w.Header()
	clear(h)
	h.Set("Content-Type", "text/plain; charset=utf-8")
	h.Set("Cache-Control", "no-store")
	switch status {
	case http.StatusServiceUnavailable:
		h.Set("Retry-After", "1")
	case http.StatusMethodNotAllowed:
		h.Set("Allow", methods)
	}
	line := httprules.CacheStatus{Forward: x.forward, Own: x.forward == httprules.NotForwarded}
	if x.explains() {
		x.detail(&line)
	}
	h["Cache-Status"] = []string{line.String()}
	x.sample.Outcome, x.sample.Cause = meter.Error, cause
	x.status(status)
	if x.r.Method != http.MethodHead {
		n, _ := fmt.Fprintf(x.w, "%d: %s\n", status, text)
		x.sample.Bytes = int64(n)
	}
}

// explains reports whether the request carries a token of somebody who may see keys.
func (x *exchange) explains() bool {
	if x.edge.config.Development {
		return true
	}
	token := x.req.Header[protocol.ExplainField]
	return len(token) == 1 && x.edge.config.MayExplain != nil && x.edge.config.MayExplain(token[0])
}

// detail adds what only those see who may.
func (x *exchange) detail(status *httprules.CacheStatus) {
	status.Key = key.Text(key.Parts(string(x.key)))
	status.Detail = x.sample.Cause.String()
	if status.Detail == "" {
		status.Detail = "fresh"
	}
}
