package edge

import (
	"maps"
	"net/http"
	"net/url"
	"slices"

	"gerastic/internal/core/decide"
	"gerastic/internal/core/key"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
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
}

// Examine takes a request the way that ServeHTTP does, up to the decision. Nothing is
// fetched, counted or changed. ok is false before there is a policy.
func (e *Edge) Examine(r *http.Request) (ex Examination, ok bool) {
	x := &exchange{edge: e, r: r, began: e.Now(), rules: e.rules.Load()}
	if x.rules == nil {
		return ex, false
	}
	x.req = RequestOf(r, false)
	x.match()
	if x.in.Plan != nil && x.plan.Key.Body != key.NoBody {
		x.question()
	}
	if x.in.Plan != nil {
		x.find()
		ex.Key = key.Parts(string(x.key))
		ex.Variants = e.Store.Variants(x.key)
	}
	ex.Rules, ex.Request, ex.Input = x.rules, x.req, x.in
	ex.Decision = decide.Of(&x.in)
	ex.Origin = x.rules.Policy.OriginFor(x.req.Host)
	return ex, true
}

// Dropped lists what the request has that its key leaves out.
func (ex *Examination) Dropped() []string {
	if ex.Input.Plan == nil {
		return nil
	}
	var dropped []string
	spec := &ex.Input.Plan.Key
	canonical, _ := spec.Query.Canonical(ex.Request.Query, ex.Request.HasQuery)
	kept, _ := url.ParseQuery(canonical)
	asked, _ := url.ParseQuery(ex.Request.Query)
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		if !kept.Has(name) {
			dropped = append(dropped, "parameter "+name+" (it does not reach the origin)")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(ex.Request.Header)) {
		if !slices.Contains(spec.Headers, name) && name != "Cookie" && name != spec.Identity.Name {
			dropped = append(dropped, "header "+name)
		}
	}
	for _, line := range ex.Request.Header["Cookie"] {
		cookies, _ := http.ParseCookie(line)
		for _, c := range cookies {
			if !slices.Contains(spec.Cookies, c.Name) && c.Name != spec.Identity.Name {
				dropped = append(dropped, "cookie "+c.Name)
			}
		}
	}
	return dropped
}
