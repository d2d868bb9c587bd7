package edge

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
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/origin"
)

// maxAsked bounds how often an answer is asked for again because it depends on more than
// the origin was told.
const maxAsked = 4

// ask sends the request until the answer is one to it: a 304 only for what is stored here,
// or to the visitor's own conditions, and nothing that depends on a field which the visitor
// sent and the origin has not seen.
func (e *Edge) ask(ctx context.Context, o *order) (*http.Response, error) {
	ctx = origin.Counting(ctx, &o.requests)
	defer func() { e.countMore(o.route, o.requests.Made()-1) }()
	for asked := 1; ; asked++ {
		resp, err := o.client.Do(o.req.WithContext(ctx), o.limit)
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
			o.asVisitor, o.noStore = true, true
		case !notModified || o.asked || o.confirmed(header):
			return resp, nil
		case !httprules.Conditional(httprules.Header(o.req.Header)):
			resp.Body.Close()
			return nil, errors.New("the origin answers 304 to a request without conditions")
		default:
			o.validate, o.candidates = false, nil // it confirms something that we do not have: ask for all of it
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

// countMore counts origin requests besides the one that a visitor's request stands for.
func (e *Edge) countMore(route *policy.Route, more int64) {
	for ; more > 0; more-- {
		e.Meter.Record(e.Meter.Stripe(), &meter.Sample{Route: route.Name, Outcome: meter.Behind, Origin: true})
	}
}

// countRequests counts what one request of a visitor's led to at its origin.
func (x *exchange) countRequests(made int64) {
	x.sample.Origin = made > 0
	for ; made > 1; made-- {
		x.edge.Meter.Record(x.stripe, &meter.Sample{Route: x.sample.Route, Outcome: meter.Behind, Origin: true})
	}
}

// maxDrained is how long an answer that is not used may be, in bytes, to be read all the same,
// so that its connection can be used again.
const maxDrained = 256 << 10

// again prepares the request to be sent once more.
func (o *order) again() (err error) {
	kept := http.Header{}
	if o.asked {
		for _, name := range conditions {
			if lines, ok := o.req.Header[name]; ok {
				kept[name] = lines
			}
		}
	}
	o.address()
	maps.Copy(o.req.Header, kept)
	o.conditions()
	if o.req.GetBody != nil {
		o.req.Body, err = o.req.GetBody()
	}
	return err
}

// withholds reports whether the visitor sent something that the origin did not see and that
// may make an answer which is for one visitor another. Where its origin says so of every
// such answer, only a cookie tells one visitor from the next; it is not asked twice for the
// sake of a language, since asking may cost something, a message of a queue for instance.
func (o *order) withholds(rule httprules.Reason) bool {
	switch {
	case !o.route.Terms.States() || o.asVisitor:
		return false
	case rule.Declared():
		return o.withholdsCookie()
	}
	for name, lines := range o.sent.Whole() {
		if saw := o.req.Header[name]; !slices.Equal(saw, lines) && httprules.Normalised(name, saw) != httprules.Normalised(name, lines) {
			return true
		}
	}
	return false
}

// withholdsCookie reports whether the visitor sent a cookie that the origin does not see.
func (o *order) withholdsCookie() bool {
	return !o.asVisitor && slices.ContainsFunc(key.CookieNames(o.request.Header), o.route.WithholdsCookie)
}

// unseen are the fields that a response's Vary names and that the visitor sent otherwise
// than the origin saw them; nil if there are none. Never Cookie: which cookies the origin
// sees, the key and the route say.
func (o *order) unseen(header httprules.Header) []string {
	if !o.route.Terms.States() || o.asVisitor || httprules.VariesOnAll(header) {
		return nil
	}
	var unseen []string
	for _, v := range o.vary(header) {
		if v.Name == "Cookie" || slices.Contains(o.varied, v.Name) {
			continue
		}
		if saw := o.req.Header[v.Name]; len(saw) > 0 != v.Present || httprules.Normalised(v.Name, saw) != v.Value {
			unseen = append(unseen, v.Name)
		}
	}
	return unseen
}

// conditions asks whether what is stored still holds (RFC 9111 §4.3.1).
func (o *order) conditions() {
	if o.validate {
		for name, values := range httprules.Validators(o.found.Header) {
			o.req.Header[name] = values
		}
		return
	}
	var tags []string
	for _, c := range o.candidates {
		if etag := c.Header.Get("Etag"); !slices.Contains(tags, etag) {
			tags = append(tags, etag)
		}
	}
	if len(tags) > 0 {
		o.req.Header["If-None-Match"] = []string{strings.Join(tags, ", ")}
	}
}

// confirmed finds the entry that a 304 confirms (RFC 9111 §4.3.4).
func (o *order) confirmed(header httprules.Header) bool {
	if o.validate {
		return httprules.Validates(header, o.found.Header)
	}
	for _, c := range o.candidates {
		if etag := header.Get("Etag"); etag != "" && etag == c.Header.Get("Etag") {
			o.found = c
			return true
		}
	}
	return false
}
