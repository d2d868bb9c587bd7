package store

import (
	"slices"
	"time"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/tags"
)

// write puts down what is known of an entry, but for what stands in its record's head: its key and
// what tells it from its variants first.
func (w *writer) write(e *Entry, epoch time.Time) {
	w.writeKey(e.Key, e.Subject.Path)
	w.number(uint64(len(e.Vary)))
	for _, v := range e.Vary {
		w.text(v.Name)
		w.text(v.Value)
		w.bits(v.Present)
	}
	w.texts(e.Encodings)

	w.text(e.Subject.Host)
	w.text(e.Subject.Path)
	w.text(e.Subject.Query)
	w.bits(e.Subject.Reaching)
	w.time(e.Received, epoch)
	w.time(e.Freshness.Born, epoch)
	common := w.header(e.Header)
	w.texts(e.Parts)
	w.texts(e.PageInfo)
	w.text(e.Work)
	w.together(func() { w.kind(e, common) })
}

// kind writes what many entries have in common: those of a route whose origin says the same.
func (w *writer) kind(e *Entry, common [][2]string) {
	w.bits(e.OriginOnly, e.ForAuthorized, e.Personal, e.Compress, e.Skeleton != nil, e.Freshness.MustAsk, e.Freshness.NeverStale, e.Freshness.Immutable)
	w.bits(e.Tagged)
	w.plain(e.Method)
	w.plain(e.Scheme)
	w.plain(e.Terms)
	w.plain(e.Search)
	w.number(uint64(e.RouteTags))
	w.number(uint64(e.Implied))
	w.number(uint64(e.Status))
	w.duration(e.Freshness.Lifetime)
	w.number(uint64(e.Freshness.Source))
	w.duration(e.Freshness.StaleWhileRevalidate)
	w.duration(e.Freshness.StaleIfError)
	w.duration(e.Browser)
	w.duration(e.Idle)
	w.duration(e.LifeLimit)
	w.plain(e.Bound.Name)
	w.number(uint64(e.Bound.AtMost))
	w.number(uint64(len(e.OriginVary)))
	for _, s := range e.OriginVary {
		w.plain(s)
	}
	w.number(uint64(len(common)))
	for _, line := range common {
		w.plain(line[0])
		w.plain(line[1])
	}
}

// header writes the lines that are an answer's own, and returns those that others have, too.
func (w *writer) header(h httprules.Header) (common [][2]string) {
	lines := 0
	names := w.names(h)
	for _, name := range names {
		lines += len(h[name])
	}
	common = make([][2]string, 0, lines)
	var room [16]string
	rest := room[:0]
	for _, name := range names {
		values := h[name]
		if w.words != nil && len(values) == 1 && !isOwn(name) && len(values[0]) < longestWord/8 && w.words.isCommon(name, values[0]) {
			common = append(common, [2]string{name, values[0]})
			continue
		}
		rest = append(rest, name)
	}
	w.number(uint64(len(rest)))
	w.number(uint64(lines - len(common)))
	for _, name := range rest {
		w.plain(name)
		w.number(uint64(len(h[name])))
		for _, v := range h[name] {
			w.text(v)
		}
	}
	return common
}

// isOwn reports whether a field is mostly another one in each answer.
func isOwn(name string) bool {
	switch name {
	case "Date", "Expires", "Etag", "Last-Modified", "Content-Length":
		return true
	}
	return false
}

// names are the fields of a header in order, so that equal headers read alike.
func (w *writer) names(h httprules.Header) []string {
	w.fields = w.fields[:0]
	for name := range h {
		w.fields = append(w.fields, name)
	}
	slices.Sort(w.fields)
	return w.fields
}

// header reads the lines that are an answer's own; the others come to it later.
func (r *reader) header() httprules.Header {
	fields, lines := r.number(), r.number()
	h, all := make(httprules.Header, fields+8), make([]string, lines)
	for range fields {
		name, n := r.text(), r.number()
		for i := range n {
			all[i] = r.text()
		}
		h[name], all = all[:n:n], all[n:]
	}
	return h
}

// variant reads what tells an entry from others under its key.
func (r *reader) variant() (vary []httprules.Varying, encodings []string) {
	if n := r.number(); n > 0 {
		vary = make([]httprules.Varying, n)
		for i := range vary {
			vary[i].Name, vary[i].Value = r.text(), r.text()
			r.bits(&vary[i].Present)
		}
	}
	return vary, r.texts()
}

// read is what was written, as an entry.
func (r *reader) read(epoch time.Time) *Entry {
	e := &Entry{}
	e.Key = r.skipKey() + r.key
	e.Vary, e.Encodings = r.variant()
	r.subject(&e.Subject)
	e.Received, e.Freshness.Born = r.time(epoch), r.time(epoch)
	e.Header = r.header()
	e.Parts, e.PageInfo = r.texts(), r.texts()
	e.Work = r.text()
	r.apart().kind(e)
	return e
}

func (r *reader) kind(e *Entry) {
	var composes bool
	r.bits(&e.OriginOnly, &e.ForAuthorized, &e.Personal, &e.Compress, &composes, &e.Freshness.MustAsk, &e.Freshness.NeverStale, &e.Freshness.Immutable)
	r.bits(&e.Tagged)
	e.Method, e.Scheme, e.Terms, e.Search = r.text(), r.text(), r.text(), r.text()
	e.RouteTags, e.Implied, e.Status = int(r.number()), int(r.number()), int(r.number())
	e.Freshness.Lifetime, e.Freshness.Source = r.duration(), httprules.Source(r.number())
	e.Freshness.StaleWhileRevalidate, e.Freshness.StaleIfError = r.duration(), r.duration()
	e.Browser, e.Idle, e.LifeLimit = r.duration(), r.duration(), r.duration()
	e.Bound = Bound{r.text(), int64(r.number())}
	e.OriginVary = r.texts()
	values := make([]string, r.number())
	for i := range values {
		name := r.text()
		values[i] = r.text()
		e.Header[name] = values[i : i+1 : i+1]
	}
	if composes {
		e.Skeleton = &compose.Page{} // parsed when its body is there
	}
}

// subject reads where an entry was asked for; its terms are not among what is written.
func (r *reader) subject(s *tags.Subject) {
	s.Host, s.Path, s.Query = r.text(), r.text(), r.text()
	r.bits(&s.Reaching)
}
