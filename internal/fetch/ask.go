package fetch

import (
	"context"
	"errors"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/origin"
)

// maxAsked bounds how often an answer is asked for again because it depends on more than
// the origin was told.
const maxAsked = 4

// ask sends the request until the answer is one to it: a 304 only for what is stored here,
// or to the visitor's own conditions, and nothing that depends on a field which the visitor
// sent and the origin has not seen.
func (f *Fetcher) ask(ctx context.Context, o *Request) (*http.Response, error) {
	ctx = origin.Counting(ctx, &o.made)
	defer func() { f.countMore(o.Route, o.made.Made()-1) }()
	for asked := 1; ; asked++ {
		resp, err := o.Way.Do(o.out.WithContext(ctx), o.limit)
		if err != nil {
			return nil, err
		}
		header := httprules.Header(resp.Header)
		notModified := resp.StatusCode == http.StatusNotModified
		missing := o.unseen(header)
		switch {
		case missing != nil && asked < maxAsked:
			o.varied = append(slices.Clone(o.varied), missing...)
		case missing != nil: // its Vary names other fields each time: it gets all, and the answer is for this visitor
			o.AsVisitor, o.NoStore = true, true
		case !notModified || o.Conditional || o.matchConfirmed(header):
			return resp, nil
		case !httprules.Conditional(httprules.Header(o.out.Header)):
			resp.Body.Close()
			return nil, errors.New("the origin answers 304 to a request without conditions")
		default:
			o.Validate, o.candidates = false, nil // it confirms something that we do not have: ask for all of it
		}
		if resp.ContentLength <= maxDrained && resp.ContentLength >= 0 {
			_, _ = io.Copy(io.Discard, resp.Body)
		}
		resp.Body.Close()
		if err := o.again(); err != nil {
			return nil, err
		}
	}
}

// maxDrained is how long an answer that is not used may be, in bytes, to be read all the same,
// so that its connection can be used again.
const maxDrained = 256 << 10

// again prepares the request to be sent once more.
func (o *Request) again() (err error) {
	o.address()
	o.setValidators()
	if o.out.GetBody != nil {
		o.out.Body, err = o.out.GetBody()
	}
	return err
}

// withholds reports whether the visitor sent something that the origin did not see and that
// may make an answer which is for one visitor another. Where its origin says so of every
// such answer, only a cookie tells one visitor from the next; it is not asked twice for the
// sake of a language, since asking may cost something, a message of a queue for instance.
func (o *Request) withholds(reason httprules.Reason) bool {
	switch {
	case !o.Route.Terms.States() || o.AsVisitor:
		return false
	case reason.Declared():
		return o.withholdsCookie()
	}
	for name, lines := range o.Sent.Whole() {
		if saw := o.out.Header[name]; !slices.Equal(saw, lines) && httprules.Normalised(name, saw) != httprules.Normalised(name, lines) {
			return true
		}
	}
	return false
}

// withholdsCookie reports whether the visitor sent a cookie that the origin does not see.
func (o *Request) withholdsCookie() bool {
	return !o.AsVisitor && slices.ContainsFunc(key.CookieNames(o.Visitor.Header), o.Route.WithholdsCookie)
}

// unseen are the fields that a response's Vary names and that the visitor sent otherwise
// than the origin saw them; nil if there are none. Never Cookie: which cookies the origin
// sees, the key and the route say.
func (o *Request) unseen(header httprules.Header) []string {
	if !o.Route.Terms.States() || o.AsVisitor || httprules.VariesOnAll(header) {
		return nil
	}
	var unseen []string
	for _, v := range o.vary(header) {
		if v.Name == "Cookie" || slices.Contains(o.varied, v.Name) {
			continue
		}
		if saw := o.out.Header[v.Name]; len(saw) > 0 != v.Present || httprules.Normalised(v.Name, saw) != v.Value {
			unseen = append(unseen, v.Name)
		}
	}
	return unseen
}

// setValidators asks whether what is stored still holds (RFC 9111 §4.3.1).
func (o *Request) setValidators() {
	if o.Validate {
		maps.Copy(o.out.Header, httprules.Validators(o.Stored.Header))
		return
	}
	var tags []string
	for _, c := range o.candidates {
		if etag := c.Header.Get("Etag"); !slices.Contains(tags, etag) {
			tags = append(tags, etag)
		}
	}
	if len(tags) > 0 {
		o.out.Header["If-None-Match"] = []string{strings.Join(tags, ", ")}
	}
}

// matchConfirmed finds the entry that a 304 confirms, and makes it Stored (RFC 9111 §4.3.4).
func (o *Request) matchConfirmed(header httprules.Header) bool {
	if o.Validate {
		return httprules.Validates(header, o.Stored.Header)
	}
	for _, c := range o.candidates {
		if etag := header.Get("Etag"); etag != "" && etag == c.Header.Get("Etag") {
			o.Stored = c
			return true
		}
	}
	return false
}
