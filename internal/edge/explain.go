package edge

import (
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"gerastic/internal/core/decide"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/outbound"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/fetch"
)

// Explanation is a request taken to its decision, and no further.
type Explanation struct {
	Policy   *policy.InForce
	Request  key.Request
	Input    decide.Input
	Decision decide.Decision
	Key      []key.Part
	Variants []*store.Entry
	Origin   *policy.Origin
	Unstored *fetch.Unshareable // the key's last answer, if it was not stored
	Writes   []Written

	sent outbound.Request
}

// Written is what one of the policy's writes purges when the request succeeds.
type Written struct {
	Name  string
	Purge tags.Purge
}

// writes are those that a request matches, as far as they are known without an answer.
func (l *lookup) writes(r *http.Request) (all []Written) {
	if !httprules.Unsafe(l.req.Method) || l.takesBody() {
		return nil
	}
	var body *policy.Message
	if r.Body != nil {
		if text, err := io.ReadAll(io.LimitReader(r.Body, policy.MostMessage+1)); err == nil && len(text) > 0 && len(text) <= policy.MostMessage {
			body = policy.ReadMessage(r.Header.Get("Content-Type"), text)
		}
	}
	for _, w := range l.inForce.WritesOf(l.req.Method, l.req.Host, l.req.Path) {
		all = append(all, Written{w.Name, w.Purge(&l.req, body, nil)})
	}
	return all
}

// Explain takes a request the way that ServeHTTP does, up to the decision. Nothing is
// fetched, counted or changed. ok is false before there is a policy.
func (e *Edge) Explain(r *http.Request) (ex Explanation, ok bool) {
	l := &lookup{edge: e, examines: true, began: e.config.Now(), inForce: e.inForce.Load()}
	if l.inForce == nil {
		return ex, false
	}
	httprules.DropConnectionFields(httprules.Header(r.Header))
	dropGroup(r.Header)
	l.req = requestOf(r, nil)
	l.sent = outbound.Request{Request: &l.req, Hop: outbound.Hop{Trusted: e.config.Trusted, Remote: r.RemoteAddr, Proto: r.ProtoMajor}}
	var body []byte
	if l.mustAsk() {
		body, l.asked = bodyOf(r), true
		l.asks = key.QuestionOf(&l.req, body)
	}
	l.match()
	if l.takesBody() {
		if body == nil {
			body = bodyOf(r)
		}
		l.keyBody(body)
	}
	ex.Decision = l.look()
	ex.Writes = l.writes(r)
	if l.in.Route != nil {
		ex.Key, ex.Variants = key.Parts(string(l.key)), l.variants()
		if last, known := e.fetch.Learned.Unshareable(l.similar()); known && last.Reason != httprules.OK {
			ex.Unstored = &last
		}
	}
	ex.Policy, ex.Request, ex.Input, ex.sent = l.inForce.InForce, l.req, l.in, l.sent
	ex.sent.Request = &ex.Request
	ex.Origin = l.inForce.OriginFor(l.req.Host)
	return ex, true
}

// bodyOf is the body of a request that is asked about, as far as a key may hold it; that of a
// GET means nothing (RFC 9110 §9.3.1).
func bodyOf(r *http.Request) []byte {
	if r.Body == nil || r.Method != http.MethodPost && r.Method != "QUERY" {
		return nil
	}
	body, _ := io.ReadAll(io.LimitReader(r.Body, key.MaxBody+1)) // it is in memory
	return body
}

// variants are what is stored under the key, as the terms in force judge it.
func (l *lookup) variants() []*store.Entry {
	stored := l.edge.store.Variants(l.key)
	for i, e := range stored {
		for _, judged := range []*store.Entry{l.in.Entry, l.in.Failure} {
			if judged != nil && judged.Restates(e) {
				stored[i] = judged
			}
		}
	}
	return stored
}

// Dropped lists what the request has that its key leaves out.
func (ex *Explanation) Dropped() []string {
	if ex.Input.Route == nil {
		return nil
	}
	var dropped []string
	spec := &ex.Input.Route.Key
	canonical, _ := spec.Query.Canonical(ex.Request.Query, ex.Request.HasQuery)
	kept, _ := url.ParseQuery(canonical)
	asked, _ := url.ParseQuery(ex.Request.Query)
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		if !kept.Has(name) {
			dropped = append(dropped, "parameter "+name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(ex.Request.Header)) {
		if !spec.HoldsField(name) && name != "Cookie" {
			dropped = append(dropped, "header "+name)
		}
	}
	for _, name := range key.CookieNames(ex.Request.Header) {
		if name != "" && !spec.HoldsCookie(name) {
			dropped = append(dropped, "cookie "+name)
		}
	}
	return dropped
}

// Withheld lists what of the request does not reach the origin when it is asked for an
// answer that others may have. Nothing is withheld from a request that goes through.
func (ex *Explanation) Withheld() []string {
	route := ex.Input.Route
	if route == nil || ex.Decision.Action == decide.Bypass || ex.Decision.AsVisitor {
		return nil
	}
	var withheld []string
	fill := ex.sent.Fill(nil)
	for _, dropped := range ex.Dropped() {
		kind, name, _ := strings.Cut(dropped, " ")
		reaches := false
		switch kind {
		case "header":
			reaches = slices.Equal(fill[name], ex.Request.Header[name]) || name == "Accept-Encoding" && len(fill[name]) > 0
		case "cookie":
			reaches = !route.WithholdsCookie(name)
		}
		if !reaches {
			withheld = append(withheld, dropped)
		}
	}
	return withheld
}
