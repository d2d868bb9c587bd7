package edge

import (
	"fmt"
	"maps"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"slices"
	"strconv"
	"strings"
	"time"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
)

// serve answers from an entry. For a hit, status may be zero: the entry has the line
// prepared.
func (x *exchange) serve(entry *store.Entry, outcome meter.Outcome, status httprules.CacheStatus) {
	h := x.w.Header()
	age, line, control := entry.VolatileLines(x.began)
	explains, doubtful := x.explains(), entry == x.in.Entry && x.in.Doubtful()
	if status != (httprules.CacheStatus{}) || explains || doubtful {
		if status == (httprules.CacheStatus{}) {
			status.HasTTL, status.TTL = true, int64(entry.Freshness.Remaining(x.began)/time.Second)
			if doubtful {
				status.TTL = int64(x.in.Remaining(x.began) / time.Second)
			}
		}
		x.detail(&status, explains)
		line = append(append([]string(nil), entry.Header["Cache-Status"]...), status.String())
	}
	h["Age"], h["Cache-Status"] = age, line
	if explains && entry.Told != nil {
		h[partsField] = entry.Told
	}
	if control != nil {
		h["Cache-Control"] = control
	}
	x.sample.Outcome = outcome
	if outcome == meter.Hit || outcome == meter.Stale {
		x.sample.Saved = entry.Cost()
		entry.Touch(x.began)
	}
	if entry.Skeleton != nil {
		x.compose(entry.Skeleton, entry.Digest(), entry.Status, entry.Browser, func(yield func(string, []string)) {
			for _, l := range entry.Encoded(httprules.Identity).Lines {
				yield(l.Name, l.Values)
			}
		})
		return
	}
	maps.Copy(h, http.Header(x.own))
	form := x.form(entry)
	unchanged := httprules.Conditional(x.req.Header) && httprules.NotModified(x.req.Header, entry.Status, form.Header, entry.Received)
	for i := range form.Lines {
		if !unchanged || httprules.InNotModified(form.Lines[i].Name) {
			h[form.Lines[i].Name] = form.Lines[i].Values
		}
	}
	if doubtful {
		askFirst(h)
	}
	if unchanged {
		x.status(http.StatusNotModified)
		return
	}
	x.hold(entry, int64(len(form.Body)))
	if entry.Status == http.StatusOK && x.r.Method == http.MethodGet && x.req.Header.Has("Range") {
		if !x.tagSaysNothing(entry) && x.ranges(form) {
			return
		}
	}
	x.status(entry.Status)
	if x.r.Method != http.MethodHead {
		x.sample.Bytes, _ = x.give(form.Body)
	}
}

// askFirst tells those who keep an answer that they must ask before they use it again: what
// is known here to be perhaps out of date must not live on in browsers. Nothing that its
// origin says is taken away (RFC 9111 §5.2).
func askFirst(h http.Header) {
	for _, name := range []string{"Cache-Control", "Cdn-Cache-Control"} {
		if lines, has := h[name]; has || name == "Cache-Control" {
			h[name] = []string{strings.Join(append(slices.Clone(lines), "no-cache"), ", ")}
		}
	}
}

// form chooses the coding that the visitor likes best. A range is of the identity form:
// its bytes are the same for everybody.
func (x *exchange) form(entry *store.Entry) *store.Encoded {
	if !entry.Compress || x.req.Header.Has("Range") {
		return entry.Encoded(httprules.Identity)
	}
	coding := httprules.ChooseCoding(x.req.Header)
	chosen := entry.Encoded(coding)
	if chosen.Coding != coding && entry.Coding.Load() == store.NotCoded {
		x.edge.compressor.want(entry)
	}
	if x.req.Header.Has("If-None-Match") && !httprules.NotModified(x.req.Header, entry.Status, chosen.Header, entry.Received) {
		// What he has may be the plain form, from before the others were there: it is as good.
		if plain := entry.Encoded(httprules.Identity); httprules.NotModified(x.req.Header, entry.Status, plain.Header, entry.Received) {
			return plain
		}
	}
	return chosen
}

// tagSaysNothing reports whether If-Range names a tag that two codings of the answer have: a
// part of one would be put together with a part of the other.
func (x *exchange) tagSaysNothing(entry *store.Entry) bool {
	if !x.req.Header.Has("If-Range") {
		return false
	}
	etag := entry.Header.Get("Etag")
	return etag != "" && slices.ContainsFunc(x.edge.Store.Variants([]byte(entry.Key)), func(other *store.Entry) bool {
		return other.Header.Get("Etag") == etag && !slices.Equal(other.Encodings, entry.Encodings)
	})
}

// ranges answers with parts of the body (RFC 9110 §15.3.7, §15.5.17); false if the whole
// is to be sent.
func (x *exchange) ranges(form *store.Encoded) bool {
	size := int64(len(form.Body))
	result, spans := httprules.Ranges(x.req.Header, form.Header, size)
	h := x.w.Header()
	switch {
	case result == httprules.Whole:
		return false
	case result == httprules.Unsatisfiable:
		partial(h)
		for _, name := range []string{"Content-Length", "Content-Type", "Content-Encoding", "Etag", "Last-Modified", "Repr-Digest", "Digest"} {
			h.Del(name)
		}
		h.Set("Content-Range", "bytes */"+strconv.FormatInt(size, 10))
		x.status(http.StatusRequestedRangeNotSatisfiable)
	case len(spans) == 1:
		s := spans[0]
		partial(h)
		h.Set("Content-Range", s.ContentRange(size))
		h.Set("Content-Length", strconv.FormatInt(s.Length, 10))
		x.status(http.StatusPartialContent)
		x.sample.Bytes, _ = x.give(form.Body[s.From : s.From+s.Length])
	default:
		x.multipart(form, spans, size)
	}
	return true
}

// multipart sends several parts, each with its place (RFC 9110 §14.6).
func (x *exchange) multipart(form *store.Encoded, spans []httprules.Span, size int64) {
	counting := &countingWriter{ResponseWriter: x.w}
	parts := multipart.NewWriter(counting)
	h := x.w.Header()
	partial(h)
	kind := h["Content-Type"]
	h.Set("Content-Type", "multipart/byteranges; boundary="+parts.Boundary())
	h.Del("Content-Length")
	x.status(http.StatusPartialContent)
	for _, s := range spans {
		header := textproto.MIMEHeader{"Content-Range": {s.ContentRange(size)}}
		if len(kind) > 0 {
			header["Content-Type"] = kind
		}
		w, err := parts.CreatePart(header)
		if err != nil {
			return
		}
		if _, err := w.Write(form.Body[s.From : s.From+s.Length]); err != nil {
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
// a page that is none could run as one.
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
	x.detail(&line, x.explains())
	h["Cache-Status"] = []string{line.String()}
	x.sample.Outcome, x.sample.Cause = meter.Error, cause
	x.status(status)
	if x.r.Method != http.MethodHead {
		n, _ := fmt.Fprintf(x.w, "%d: %s\n", status, text)
		x.sample.Bytes = int64(n)
	}
}

// explains tells whether the request carries a token of somebody who may see keys.
func (x *exchange) explains() bool {
	token := x.req.Header["Gerastic-Explain"]
	return len(token) == 1 && x.edge.MayExplain != nil && x.edge.MayExplain(token[0])
}

// detail adds what only those see who may.
func (x *exchange) detail(status *httprules.CacheStatus, explains bool) {
	if !explains {
		return
	}
	status.Key = key.Text(key.Parts(string(x.key)))
	status.Detail = x.sample.Cause.String()
	if status.Detail == "" {
		status.Detail = "fresh"
	}
}
