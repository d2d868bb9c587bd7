package fetch

import (
	"bytes"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/outbound"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/origin"
)

// Request is all that a fill needs. It outlives the visitor's request that caused it, of which it
// holds copies. Prepare makes it ready.
type Request struct {
	Route     *policy.Route
	Way       *origin.Client
	Visitor   key.Request      // what was asked for
	Sent      outbound.Request // Visitor, as it reaches the origin
	URL       *url.URL         // as the visitor sent it
	Body      []byte           // of a question; nil: it has none
	Key       string
	SearchKey string // names the path whose answers share a No-Vary-Search rule
	Stamp     tags.Stamp

	Before   *store.Entry // what is stored, whether it may be used or not; nil: nothing
	Stored   *store.Entry // Before, if the answer takes its place
	Validate bool         // ask whether Stored still holds
	Variants bool         // others are stored under the key, which the origin may confirm

	Unstored    httprules.Reason // why the last answer was not stored; OK: nothing is known
	NoStore     bool             // nothing of the answer is kept
	AsVisitor   bool             // the origin gets everything that the visitor sent
	Alone       bool             // the answer says nothing of what others would get
	Conditional bool             // the visitor's own conditions are asked
	Behind      bool             // nobody waits for it
	Primes      bool             // it is wanted in the store, however seldom it is asked for

	out        *http.Request
	query      string         // that the origin is asked with
	limit      time.Duration  // for the answer's head
	varied     []string       // fields that it is asked with because its Vary named them
	candidates []*store.Entry // other variants, which the origin may confirm instead of sending another
	made       origin.Requests
}

// Prepare makes a request ready to be sent. A HEAD of what is stored asks for all of it, so that
// it can renew the entry and be shared; a HEAD of what is not stays a HEAD.
func (f *Fetcher) Prepare(o *Request) {
	var hasQuery bool
	o.query, hasQuery = o.Route.Key.Query.Canonical(o.Visitor.Query, o.Visitor.HasQuery)
	o.limit = o.Route.Limit(o.Way.Origin)
	o.Visitor.Header = o.Visitor.Header.Clone()
	o.Sent.Request = &o.Visitor
	o.varied = f.varied(o)
	if o.Variants && !o.Conditional {
		o.candidates = f.candidates(o)
	}
	method := o.Visitor.Method
	if method == http.MethodHead && o.Before != nil {
		method = http.MethodGet
	}
	o.out = &http.Request{
		Method: method, URL: o.Way.Target(o.URL, origin.Query{Text: o.query, Present: hasQuery}), Host: o.Visitor.Host,
		Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
	}
	o.address()
	o.setBody()
}

// setBody gives the request the body of a question.
func (o *Request) setBody() {
	body := o.Body
	if body == nil {
		return
	}
	o.out.ContentLength = int64(len(body))
	o.out.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body)), nil }
	o.out.Body, _ = o.out.GetBody()
}

// MadeRequest reports whether the origin was asked.
func (o *Request) MadeRequest() bool { return o.made.Made() > 0 }

// conditions are the fields in which a visitor says what they have already.
var conditions = []string{"If-Match", "If-None-Match", "If-Modified-Since", "If-Unmodified-Since"}

// HasConditions reports whether a request says what its visitor has already.
func HasConditions(h httprules.Header) bool { return slices.ContainsFunc(conditions, h.Has) }

// address makes the header that the origin is asked with.
func (o *Request) address() {
	if o.AsVisitor {
		o.out.Header = http.Header(o.Sent.Whole())
	} else {
		o.out.Header = http.Header(o.Sent.Fill(o.varied))
	}
	if o.Behind { // what the visitor says to caches is not said for this one
		delete(o.out.Header, "Cache-Control")
		delete(o.out.Header, "Pragma")
	}
	o.out.Header.Set("Surrogate-Capability", capability)
	if o.Route.Compose { // what is compressed cannot be read
		o.out.Header.Del("Accept-Encoding")
	}
	if kind := o.Route.Key.Body; o.Body != nil && (kind == key.JSON || kind == key.GraphQL) {
		// Parameters of the media type are not in the key.
		if media, _, cut := strings.Cut(o.out.Header.Get("Content-Type"), ";"); cut {
			o.out.Header.Set("Content-Type", strings.TrimSpace(media))
		}
	}
	if o.Conditional {
		for _, name := range conditions {
			if lines := o.Visitor.Header[name]; len(lines) > 0 {
				o.out.Header[name] = lines
			}
		}
	}
}

// capability tells origins that pages are composed here.
const capability = httprules.CacheName + `="ESI/1.0"`

// varied are the fields that the origin is known to vary on for this key.
func (f *Fetcher) varied(o *Request) []string {
	if !o.Route.Terms.States() {
		return nil
	}
	names, _ := f.Learned.varied.of(o.Key)
	if o.Before != nil { // it is confirmed only if it is asked for as before
		names = slices.Clone(names)
		for _, v := range o.Before.Vary {
			if !slices.Contains(names, v.Name) {
				names = append(names, v.Name)
			}
		}
	}
	return names
}

// candidates are the other variants that a strong validator can name (RFC 9111 §4.1,
// §4.3.1), and that the visitor could read.
func (f *Fetcher) candidates(o *Request) []*store.Entry {
	var named []*store.Entry
	for _, e := range f.Store.Variants([]byte(o.Key)) {
		if etag := e.Header.Get("Etag"); strings.HasPrefix(etag, `"`) && e.Judge(f.Barrier.Marks) != tags.Dropped && httprules.Accepts(&o.Sent, e.Encodings) {
			named = append(named, e)
		}
	}
	return slices.DeleteFunc(slices.Clone(named), func(e *store.Entry) bool {
		// One tag for two codings tells nobody which of them is confirmed (RFC 9110 §8.8.3.3).
		return slices.ContainsFunc(named, func(other *store.Entry) bool {
			return other.Header.Get("Etag") == e.Header.Get("Etag") && !slices.Equal(other.Encodings, e.Encodings)
		})
	})
}

// expected is what is known of the answer before it comes.
func (o *Request) expected() *tags.Subject {
	s := o.subject()
	s.Tags = o.Route.TagsOf(&o.Visitor)
	if o.Stored != nil {
		s.Tags = append(s.Tags, o.Stored.Subject.Tags...)
	}
	return &s
}

// subject is what the answer is, but for its tags.
func (o *Request) subject() tags.Subject {
	return tags.Subject{
		Route: o.Route.Name, Stamp: o.Stamp,
		// Cloned: else each would keep the whole request line that it was cut from.
		Host: strings.Clone(o.Visitor.Host), Path: strings.Clone(key.EquivalentPath(o.Visitor.Path)), Query: strings.Clone(key.Equivalent(o.query)),
	}
}

// keyUnder is the key with what a No-Vary-Search rule leaves of the query.
func (o *Request) keyUnder(search httprules.NoVarySearch) string {
	r := o.Visitor
	r.Reduced = nil
	if search.Stated {
		reduced := search.String() + "?" + search.Canonical(o.query)
		r.Reduced = &reduced
	}
	return string(o.Route.Key.Append(nil, o.Route.KeyName, &r))
}
