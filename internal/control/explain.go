package control

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/core/decide"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/policy"
	"gerastic/internal/edge"
	"gerastic/internal/records"
)

func (c *Control) explainCalls() {
	huma.Register(c.api, operation("explain", http.MethodPost, "/v1/explain", "Tell what would be done with a request, and why", records.Read),
		func(_ context.Context, in *struct{ Body client.ExplainRequest }) (*struct{ Body client.Explanation }, error) {
			r, err := requestOf(in.Body)
			if err != nil {
				return nil, err
			}
			ex, ok := c.edge.Explain(r)
			if !ok {
				return nil, huma.Error409Conflict("there is no policy yet; apply one with: gerastic policy apply FILE")
			}
			return &struct{ Body client.Explanation }{c.explanation(&ex)}, nil
		})
}

// requestOf makes the request that is asked about.
func requestOf(e client.ExplainRequest) (*http.Request, error) {
	if strings.HasPrefix(e.URL, "/") {
		e.URL = "http://localhost" + e.URL
	}
	u, err := url.Parse(e.URL)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, huma.Error422UnprocessableEntity("url: write http://HOST/PATH as a visitor would, or /PATH for the host localhost")
	}
	if e.Method == "" {
		e.Method = http.MethodGet
	}
	if !httprules.IsToken(e.Method) {
		return nil, huma.Error422UnprocessableEntity("method: that is not a method's name")
	}
	r := &http.Request{Method: strings.ToUpper(e.Method), URL: u, Host: u.Host, RequestURI: u.RequestURI(), Header: http.Header{}, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1}
	if e.Body != "" {
		r.Body = io.NopCloser(strings.NewReader(e.Body))
	}
	for name, values := range e.Headers {
		if !httprules.IsToken(name) {
			return nil, huma.Error422UnprocessableEntity("headers: " + name + " is not a field name")
		}
		r.Header[httprules.CanonicalName(name)] = values
	}
	if host := r.Header.Get("Host"); host != "" {
		r.Host = host
		r.Header.Del("Host")
	}
	return r, nil
}

func (c *Control) explanation(ex *edge.Explanation) client.Explanation {
	d := ex.Decision
	out := client.Explanation{
		Verdict: d.Action.String(), Cause: d.Cause.String(), Why: decide.Why(&ex.Input, d),
		Routes: routesLookedAt(ex), Key: []client.KeyPart{}, Dropped: notNil(ex.Dropped()), Withheld: notNil(ex.Withheld()), Storing: []string{}, Entries: []client.ExplainedEntry{}, Sequence: uint64(c.barrier.Stamp()),
	}
	if ex.Origin != nil {
		out.Origin = ex.Origin.Name + " " + ex.Origin.URLs[0].String()
	} else if d.Action != decide.Serve {
		out.Why = append(out.Why, "But no origin of the policy answers this host, so a request that needs one gets 421; add the host to an origin's hosts.")
	}
	if ex.Input.Route != nil {
		out.Route = ex.Input.Route.Name
		out.Storing = decide.Storing(ex.Input.Route)
	}
	if u := ex.Unstored; u != nil {
		out.Unstored = &client.UnstoredAnswer{At: u.At, Status: u.Status, Rule: u.Reason.Name(), Why: u.Reason.Text()}
		if section := u.Reason.Section(); section != "" {
			out.Unstored.Why += " (" + section + ")"
		}
	}
	for _, w := range ex.Writes {
		out.Writes = append(out.Writes, client.ExplainedWrite{Name: w.Name, Mode: w.Purge.Mode.String(), Tags: notNil(w.Purge.Tags), Begins: notNil(w.Purge.Begins)})
	}
	for _, p := range ex.Key {
		out.Key = append(out.Key, client.KeyPart{Source: p.Source.String(), Name: p.Name, Value: p.Value, Present: p.Present})
	}
	for _, e := range ex.Variants {
		entry := client.ExplainedEntry{
			URL: e.URL(), Status: e.Status, Bytes: int(e.Length()), Received: e.Received,
			AgeSeconds: e.Freshness.Age(ex.Input.Now).Seconds(), Lifetime: e.Freshness.Lifetime.Seconds(), Source: e.Freshness.Source.String(),
			Tags: notNil(e.Subject.Tags), CostMS: milliseconds(e.Cost()), Answers: e == ex.Input.Entry,
		}
		for _, v := range e.Vary {
			if entry.Vary == nil {
				entry.Vary = map[string]string{}
			}
			entry.Vary[v.Name] = v.Shown()
		}
		out.Entries = append(out.Entries, entry)
	}
	return out
}

// routesLookedAt are the routes in their order, up to the first that matches.
func routesLookedAt(ex *edge.Explanation) []client.ExplainedRoute {
	looked := []client.ExplainedRoute{}
	for _, route := range ex.Policy.Routes {
		m := route.Mismatch(ex.Request.Method, ex.Request.Host, ex.Request.Path)
		result := m.String()
		if m == policy.Matches && !ex.Policy.On(route) {
			result = "it matches, but it is switched off"
		}
		looked = append(looked, client.ExplainedRoute{Name: route.Name, Result: result})
		if m == policy.Matches {
			break
		}
	}
	return looked
}
