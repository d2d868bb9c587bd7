package control

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"

	"gerastic/client"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

type purgeList struct {
	Body struct {
		Purges []client.Purge `json:"purges"`
	}
}

func (c *Control) purgeCalls() {
	huma.Register(c.api, operation("purge", http.MethodPost, "/v1/purges", "Purge, or preview a purge", records.Purging),
		func(ctx context.Context, in *struct{ Body client.PurgeRequest }) (*struct{ Body client.PurgeResult }, error) {
			result, err := c.purge(ctx, in.Body)
			return &struct{ Body client.PurgeResult }{result}, err
		})
	acceptURLStrings(c.api.OpenAPI().Components.Schemas)

	huma.Register(c.api, operation("list-purges", http.MethodGet, "/v1/purges", "List the ledger, newest first", records.Read),
		func(ctx context.Context, in *struct {
			Before uint64 `query:"before" doc:"Only purges before this sequence"`
			Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
		}) (*purgeList, error) {
			rec, err := c.records()
			if err != nil {
				return nil, err
			}
			purges, err := rec.Purges(ctx, tags.Stamp(in.Before), in.Limit)
			if err != nil {
				return nil, c.failed(err)
			}
			out := &purgeList{}
			out.Body.Purges = []client.Purge{}
			for _, p := range purges {
				out.Body.Purges = append(out.Body.Purges, purgeOut(p))
			}
			return out, nil
		})

	huma.Register(c.api, operation("get-purge", http.MethodGet, "/v1/purges/{sequence}", "Show one purge of the ledger", records.Read),
		func(ctx context.Context, in *struct {
			Sequence uint64 `path:"sequence"`
		}) (*struct{ Body client.Purge }, error) {
			rec, err := c.records()
			if err != nil {
				return nil, err
			}
			p, err := rec.Purge(ctx, tags.Stamp(in.Sequence))
			if errors.Is(err, records.ErrNotFound) {
				return nil, huma.Error404NotFound(fmt.Sprintf("the ledger has no purge %d; gerastic purge history lists them", in.Sequence))
			}
			if err != nil {
				return nil, c.failed(err)
			}
			return &struct{ Body client.Purge }{purgeOut(p)}, nil
		})
}

// acceptURLStrings lets a URL be given as a plain string.
func acceptURLStrings(schemas huma.Registry) {
	object := schemas.Map()["PurgeURL"]
	withQuery := *object
	*object = huma.Schema{OneOf: []*huma.Schema{{Type: huma.TypeString, Description: "https://HOST/PATH?QUERY, or /PATH?QUERY for every host"}, &withQuery}}
	object.PrecomputeMessages()
	object.OneOf[0].PrecomputeMessages()
}

func (c *Control) purge(ctx context.Context, r client.PurgeRequest) (client.PurgeResult, error) {
	out := client.PurgeResult{Preview: r.Preview, Mode: r.Mode, Nodes: []client.PurgeNode{}}
	p, err := c.order(r)
	if err != nil {
		return out, err
	}
	if r.Preview {
		out.Matched = matchedOut(c.store.Preview(p))
		return out, nil
	}
	sequence, applied, err := c.node.Purge(ctx, p, caller(ctx), r.Reason)
	if err != nil {
		return out, huma.Error503ServiceUnavailable(notPurged(sequence, err))
	}
	done := purgeOut(records.Purge{Purge: tags.Purge{Sequence: sequence}, Applied: applied})
	out.Sequence, out.Matched, out.Nodes = done.Sequence, done.Matched, done.Nodes
	return out, nil
}

// notPurged tells the caller what is known of a purge that went wrong.
func notPurged(sequence tags.Stamp, err error) string {
	switch {
	case sequence != 0:
		return fmt.Sprintf("purge %d is in the ledger and comes into force on each node as it reads it; this node could not wait for that: %v", sequence, err)
	case errors.Is(err, records.ErrUnsure), errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled):
		return "it is not known whether the purge is in the ledger, and so whether it comes into force; order it again, which does no harm: " + err.Error()
	}
	return "the purge could not be written to the ledger, so nothing was purged; try again when the database is back: " + err.Error()
}

// order checks a request and turns it into a purge.
func (c *Control) order(r client.PurgeRequest) (tags.Purge, error) {
	p := tags.Purge{Tags: r.Tags, Together: r.Together, Routes: r.Routes, All: r.All}
	if r.Mode == "stale" {
		p.Mode = tags.Soften
	}
	if !r.All && len(r.Tags)+len(r.URLs)+len(r.Routes)+len(r.Prefixes)+len(r.Hosts) == 0 {
		return p, huma.Error422UnprocessableEntity("the purge names nothing; give tags, urls, routes, prefixes or hosts, or all: true")
	}
	if r.Together && len(r.Tags) == 0 {
		return p, huma.Error422UnprocessableEntity("together is about tags, and there are none; name the tags that an entry must all carry")
	}
	for _, tag := range r.Tags {
		if tag == "" || len(tag) > httprules.MaxGroupLength {
			return p, huma.Error422UnprocessableEntity(fmt.Sprintf("a tag has 1 to %d bytes; one here has %d", httprules.MaxGroupLength, len(tag)))
		}
		if !utf8.ValidString(tag) || strings.ContainsRune(tag, 0) {
			return p, huma.Error422UnprocessableEntity(fmt.Sprintf("the tag %q is no text: it must be UTF-8 without NUL", tag))
		}
	}
	inForce := c.edge.Policy()
	if inForce == nil {
		return p, huma.Error409Conflict("there is no policy yet, so nothing is stored")
	}
	names := make([]string, 0, len(inForce.Routes))
	for _, route := range inForce.Routes {
		names = append(names, route.Name)
	}
	stored := c.store.RouteCounts()
	for _, route := range r.Routes {
		if _, has := stored[route]; !has && meter.Within(route) {
			return p, huma.Error422UnprocessableEntity(fmt.Sprintf("nothing of the name %q is stored here; gerastic fragments list shows the names", route))
		} else if !has && !slices.Contains(names, route) {
			return p, huma.Error422UnprocessableEntity(fmt.Sprintf("no route is named %q; the routes are %s", route, strings.Join(names, ", ")))
		}
	}
	for _, u := range r.URLs {
		forms, err := c.urlForms(u)
		if err != nil {
			return p, huma.Error422UnprocessableEntity(err.Error())
		}
		p.URLs = append(p.URLs, forms...)
	}
	for _, text := range r.Prefixes {
		x, err := prefixOf(text)
		if err != nil {
			return p, huma.Error422UnprocessableEntity(err.Error())
		}
		p.Prefixes = append(p.Prefixes, x)
	}
	for _, host := range r.Hosts {
		if host == "" || strings.ContainsAny(host, "/?# *") {
			return p, huma.Error422UnprocessableEntity(fmt.Sprintf("%q is no host; write www.ostrel.example, with its port if it is not the scheme's own", host))
		}
		p.Hosts = append(p.Hosts, key.CanonicalHost(host, ""))
	}
	return p, nil
}

// prefixOf reads https://HOST/PATH, or /PATH for every host.
func prefixOf(text string) (tags.Prefix, error) {
	u, err := url.Parse(text)
	if err != nil || u.RawQuery != "" || !strings.HasPrefix(u.EscapedPath(), "/") || (u.Host == "") != (u.Scheme == "") {
		return tags.Prefix{}, fmt.Errorf("%q is no beginning of a path; write /ports/ for every host, or https://HOST/ports/", text)
	}
	return tags.Prefix{Host: key.CanonicalHost(u.Host, u.Scheme), AnyHost: u.Host == "", Path: key.EquivalentPath(u.EscapedPath())}, nil
}

// urlForms names the entries of a URL, by the keys of the routes that cover it.
func (c *Control) urlForms(u client.PurgeURL) ([]tags.URL, error) {
	parsed, err := url.Parse(u.URL)
	if err != nil || !strings.HasPrefix(parsed.EscapedPath(), "/") && parsed.Host == "" || parsed.Host != "" && parsed.Scheme == "" {
		return nil, fmt.Errorf("%q is no URL; write https://HOST/PATH?QUERY, or /PATH?QUERY for every host", u.URL)
	}
	host := key.CanonicalHost(parsed.Host, parsed.Scheme)
	path := parsed.EscapedPath()
	if path == "" {
		path = "/"
	}
	forms := c.edge.Policy().URLForms(policy.URL{Host: host, Path: path, Query: parsed.RawQuery, AnyQuery: u.AnyQuery})
	if len(forms) == 0 {
		// No route has it now, but what an earlier policy stored may still be there.
		forms = []tags.URL{{Host: host, AnyHost: host == "", Path: key.EquivalentPath(path), Query: key.Equivalent(parsed.RawQuery), AnyQuery: u.AnyQuery}}
	}
	return forms, nil
}

func matchedOut(m store.Matched) client.Matched {
	out := client.Matched{Entries: m.Entries, Bytes: m.Bytes, Routes: m.Routes, Sample: m.Sample}
	if out.Routes == nil {
		out.Routes = map[string]int64{}
	}
	return out
}

func nodeOut(a records.Applied) client.PurgeNode {
	return client.PurgeNode{Node: a.Node, Applied: !a.Missing, TookMS: milliseconds(a.Took), SweepMS: milliseconds(a.Sweep)}
}

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

func purgeOut(p records.Purge) client.Purge {
	out := client.Purge{
		Sequence: uint64(p.Sequence), At: p.At, Actor: p.Actor, Reason: p.Reason, Mode: p.Mode.String(),
		Tags: notNil(p.Tags), Together: p.Together, Routes: notNil(p.Routes), URLs: []string{}, Prefixes: []string{}, Hosts: notNil(p.Hosts), All: p.All, Nodes: []client.PurgeNode{},
		Matched: client.Matched{Routes: map[string]int64{}},
	}
	for _, u := range p.URLs {
		text := u.Path
		if !u.AnyHost {
			text = "//" + u.Host + u.Path
		}
		if u.AnyQuery {
			text += "?*"
		} else if u.Query != "" {
			text += "?" + u.Query
		}
		out.URLs = append(out.URLs, text)
	}
	for _, x := range p.Prefixes {
		text := x.Path
		if !x.AnyHost {
			text = "//" + x.Host + x.Path
		}
		out.Prefixes = append(out.Prefixes, text)
	}
	for _, a := range p.Applied {
		out.Nodes = append(out.Nodes, nodeOut(a))
		out.Matched.Entries += a.Matched.Entries
		out.Matched.Bytes += a.Matched.Bytes
		for route, n := range a.Matched.Routes {
			out.Matched.Routes[route] += n
		}
	}
	return out
}

func notNil[T any](s []T) []T {
	if s == nil {
		return []T{}
	}
	return s
}
