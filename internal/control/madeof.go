package control

import (
	"context"
	"net/http"
	"net/url"
	"sort"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// madeOfCalls are about the parts of pages, and what they are part of.
func (c *Control) madeOfCalls() {
	huma.Register(c.api, operation("list-fragment-names", http.MethodGet, "/v1/fragments", "List the names of fragments and includes with their figures", records.Read),
		func(ctx context.Context, in *struct {
			Since string `query:"since" default:"1h" doc:"Figures since: a length of time before now, or an RFC 3339 time"`
		}) (*struct {
			Body struct {
				Names []client.FragmentName `json:"names"`
			}
		}, error) {
			now := c.now()
			since, err := moment(in.Since, now)
			if err != nil {
				return nil, huma.Error422UnprocessableEntity("since: " + err.Error())
			}
			report, err := c.ratio(ctx, ratioQuery{since: since, until: now, now: now, by: "route", parts: true})
			if err != nil {
				return nil, err
			}
			out := &struct {
				Body struct {
					Names []client.FragmentName `json:"names"`
				}
			}{}
			out.Body.Names = c.names(report.Rows)
			return out, nil
		})

	huma.Register(c.api, operation("made-of", http.MethodGet, "/v1/made-of", "Tell what a page or a fragment was made of", records.Read),
		func(_ context.Context, in *struct {
			Name string `query:"name" required:"true" minLength:"1" maxLength:"4096" doc:"The URL of a page, /PATH for any host, or NAMESPACE/KEY of a fragment"`
		}) (*struct{ Body client.PartsTree }, error) {
			made, err := c.madeOf(in.Name)
			return &struct{ Body client.PartsTree }{made}, err
		})
}

// names joins what was counted with what is stored.
func (c *Control) names(rows []client.RatioRow) []client.FragmentName {
	stored := c.store.RouteCounts()
	names := []client.FragmentName{}
	seen := map[string]bool{}
	add := func(name string, row client.RatioRow) {
		seen[name] = true
		route := strings.TrimPrefix(name, meter.IncludeRoute(""))
		f := client.FragmentName{
			Name: name, Entries: stored[route], Bytes: c.store.RouteBytes(route), Requests: row.Requests, Outcomes: row.Outcomes, FoundRatio: row.HitRatio,
			Fills: row.OriginRequests, TimeSavedMS: row.OriginTimeSavedMS, HitLatencyMS: row.HitLatencyMS,
		}
		if f.Fills > 0 {
			mean := row.OriginTimeMS / float64(f.Fills)
			f.FillMS = &mean
		}
		names = append(names, f)
	}
	for _, row := range rows {
		add(row.Route, row)
	}
	for route := range stored {
		if meter.Within(route) && !seen[route] {
			add(route, rowOf(&meter.Ratio{}))
		}
	}
	sort.Slice(names, func(i, j int) bool {
		if names[i].Requests != names[j].Requests {
			return names[i].Requests > names[j].Requests
		}
		return names[i].Name < names[j].Name
	})
	return names
}

// madeOf finds a page or a fragment.
func (c *Control) madeOf(name string) (client.PartsTree, error) {
	t := &tree{c: c, left: maxTree}
	if !strings.HasPrefix(name, "/") && !strings.Contains(name, "://") {
		e := t.fragment(name)
		if e == nil {
			return client.PartsTree{}, huma.Error404NotFound("no fragment " + name + " is stored here; gerastic fragments list shows the names, and with --name their keys")
		}
		return t.node("fragment", name, e, 0), nil
	}
	u, err := url.Parse(name)
	if err != nil || u.EscapedPath() == "" {
		return client.PartsTree{}, huma.Error422UnprocessableEntity(name + " is neither a URL nor NAMESPACE/KEY")
	}
	e := t.page(u)
	if e == nil {
		return client.PartsTree{}, huma.Error404NotFound("nothing is stored for " + name + "; visit it, and ask again")
	}
	return t.node("page", e.URL(), e, 0), nil
}

// Bounds of what is told of a page.
const (
	maxTree      = 2000 // nodes
	maxTreeDepth = 8
)

type tree struct {
	c    *Control
	left int
}

func (t *tree) fragment(name string) *store.Entry {
	return t.c.store.Newest(name, (*store.Entry).Fragment)
}

// page finds the newest entry of a URL; without a host, of any.
func (t *tree) page(u *url.URL) *store.Entry {
	host := key.CanonicalHost(u.Host, u.Scheme)
	return t.c.store.Newest(key.EquivalentPath(u.EscapedPath()), func(e *store.Entry) bool {
		if e.Fragment() || host != "" && e.Subject.Host != host {
			return false
		}
		for _, form := range t.c.edge.Policy().URLForms(policy.URL{Host: e.Subject.Host, Path: e.Subject.Path, Query: u.RawQuery, AnyQuery: u.RawQuery == ""}) {
			if form.Covers(&e.Subject) {
				return true
			}
		}
		return false
	})
}

// node tells of an entry, nil for one that is not there, and of its parts.
func (t *tree) node(kind, name string, e *store.Entry, depth int) client.PartsTree {
	made := client.PartsTree{Kind: kind, Name: name, State: "missing", Tags: []client.EntryTag{}, Parts: []client.PartsTree{}}
	t.left--
	if e == nil {
		return made
	}
	now := t.c.now()
	made.Route, made.State, made.Bytes, made.Tags, made.CostMS = e.Subject.Route, stateOf(e), e.Size(), tagsOut(e), milliseconds(e.Cost())
	made.AgeS, made.LeftS = e.Freshness.Age(now).Seconds(), e.Freshness.Remaining(now).Seconds()
	if e.Judge(t.c.barrier.Marks) == tags.Dropped {
		made.State = "purged"
	}
	if depth >= maxTreeDepth {
		return made
	}
	for _, part := range e.Parts {
		if t.left > 0 {
			made.Parts = append(made.Parts, t.node("fragment", part, t.fragment(part), depth+1))
		}
	}
	if e.Skeleton == nil {
		return made
	}
	for _, include := range e.Skeleton.Includes() {
		if t.left <= 0 {
			break
		}
		base := &url.URL{Scheme: e.Scheme, Host: e.Subject.Host, Path: e.Subject.Path}
		var found *store.Entry
		if u, err := base.Parse(include.Source); err == nil && !strings.Contains(include.Source, "$(") {
			found = t.page(u)
		}
		made.Parts = append(made.Parts, t.node("include", include.Source, found, depth+1))
	}
	return made
}
