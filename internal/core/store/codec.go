package store

import (
	"time"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/tags"
)

// write puts down what is known of an entry, but for what stands in its record's head: its key and
// what tells it from its variants first.
func (w *writer) write(e *Entry, epoch time.Time) {
	w.key = e.Key
	w.number(uint64(len(e.Key)))
	w.bytes = append(w.bytes, e.Key...)
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
	w.bits(e.Subject.Reaching, e.OriginOnly, e.ForAuthorized, e.Personal, e.Compress, e.Skeleton != nil, e.Freshness.MustAsk, e.Freshness.NeverStale, e.Freshness.Immutable)

	w.text(e.Method)
	w.text(e.Scheme)
	w.text(e.Terms)
	w.text(e.Search)
	w.number(uint64(e.RouteTags))
	w.number(uint64(e.Implied))
	w.number(uint64(e.Status))
	w.time(e.Received, epoch)
	w.time(e.Freshness.Born, epoch)
	w.duration(e.Freshness.Lifetime)
	w.number(uint64(e.Freshness.Source))
	w.duration(e.Freshness.StaleWhileRevalidate)
	w.duration(e.Freshness.StaleIfError)
	w.duration(e.Browser)
	w.duration(e.LifeLimit)
	w.header(e.Header)
	w.texts(e.OriginVary)
	w.texts(e.Parts)
	w.texts(e.PageInfo)
}

func (w *writer) header(h httprules.Header) {
	lines := 0
	for _, values := range h {
		lines += len(values)
	}
	w.number(uint64(len(h)))
	w.number(uint64(lines))
	for name, values := range h {
		w.text(name)
		w.number(uint64(len(values)))
		for _, v := range values {
			w.text(v)
		}
	}
}

func (r *reader) header() httprules.Header {
	fields, lines := r.number(), r.number()
	h, all := make(httprules.Header, fields), make([]string, lines)
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
	r.key = r.take(r.number())
	if n := r.number(); n > 0 {
		vary = make([]httprules.Varying, n)
		for i := range vary {
			vary[i].Name, vary[i].Value = r.text(), r.text()
			r.bits(&vary[i].Present)
		}
	}
	return vary, r.texts()
}

// subject reads where an entry was asked for; its terms are not among what is written.
func (r *reader) subject(s *tags.Subject, rest ...*bool) {
	s.Host, s.Path, s.Query = r.text(), r.text(), r.text()
	r.bits(append([]*bool{&s.Reaching}, rest...)...)
}

// read is what was written, as an entry.
func (r *reader) read(epoch time.Time) *Entry {
	e := &Entry{}
	var composes bool
	e.Vary, e.Encodings = r.variant()
	e.Key = r.key
	r.subject(&e.Subject, &e.OriginOnly, &e.ForAuthorized, &e.Personal, &e.Compress, &composes, &e.Freshness.MustAsk, &e.Freshness.NeverStale, &e.Freshness.Immutable)
	e.Method, e.Scheme, e.Terms, e.Search = r.text(), r.text(), r.text(), r.text()
	e.RouteTags, e.Implied, e.Status = int(r.number()), int(r.number()), int(r.number())
	e.Received, e.Freshness.Born = r.time(epoch), r.time(epoch)
	e.Freshness.Lifetime, e.Freshness.Source = r.duration(), httprules.Source(r.number())
	e.Freshness.StaleWhileRevalidate, e.Freshness.StaleIfError = r.duration(), r.duration()
	e.Browser, e.LifeLimit = r.duration(), r.duration()
	e.Header = r.header()
	e.OriginVary, e.Parts, e.PageInfo = r.texts(), r.texts(), r.texts()
	if composes {
		e.Skeleton = &compose.Page{} // parsed when its body is there
	}
	return e
}
