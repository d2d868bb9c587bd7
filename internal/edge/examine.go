package edge

import (
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"gerastic/internal/core/decide"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/origin"
)

// Examination is a request taken through match, key, find and decide, and no further.
type Examination struct {
	Rules    *Rules
	Request  key.Request
	Input    decide.Input
	Decision decide.Decision
	Key      []key.Part
	Variants []*store.Entry
	Origin   *policy.Origin
	sent     origin.Sent
	Unstored *Unstored // the key's last answer, if it was not stored
}

// Unstored is an answer that was not stored, and why.
type Unstored struct {
	Rule   httprules.Reason
	Status int
	At     time.Time
}

// Examine takes a request the way that ServeHTTP does, up to the decision. Nothing is
// fetched, counted or changed. ok is false before there is a policy.
func (e *Edge) Examine(r *http.Request) (ex Examination, ok bool) {
	x := &exchange{edge: e, examines: true, r: r, began: e.Now(), rules: e.rules.Load()}
	x.sent = origin.Sent{Request: &x.req, Trusted: e.Trusted, Remote: r.RemoteAddr, Proto: r.ProtoMajor}
	httprules.DropConnectionFields(httprules.Header(r.Header))
	if x.rules == nil {
		return ex, false
	}
	x.req = RequestOf(r, false)
	x.match()
	if x.in.Route != nil && x.route.Key.Body != key.NoBody {
		x.question()
	}
	if x.in.Route != nil {
		x.find()
		ex.Key = key.Parts(string(x.key))
		ex.Variants = e.Store.Variants(x.key)
		for i, stored := range ex.Variants { // as the terms in force judge them
			for _, judged := range []*store.Entry{x.in.Entry, x.in.Failure} {
				if judged != nil && judged.Restates(stored) {
					ex.Variants[i] = judged
				}
			}
		}
		if last, known := e.unshared.of(likeThis(string(x.key), x.route, x.req.Header)); known && last.rule != httprules.OK {
			ex.Unstored = &Unstored{Rule: last.rule, Status: last.status, At: last.at}
		}
	}
	ex.Rules, ex.Request, ex.Input = x.rules, x.req, x.in
	ex.sent = x.sent
	ex.sent.Request = &ex.Request
	ex.Decision = decide.Of(&x.in)
	ex.Origin = x.rules.Policy.OriginFor(x.req.Host)
	return ex, true
}

// Dropped lists what the request has that its key leaves out.
func (ex *Examination) Dropped() []string {
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
func (ex *Examination) Withheld() []string {
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
