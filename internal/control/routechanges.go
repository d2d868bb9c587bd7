package control

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/core/policy"
	"gerastic/internal/records"
)

type routeChange struct{ Body client.RouteChange }

func (c *Control) routeChangeCalls() {
	huma.Register(c.api, operation("add-route", http.MethodPost, "/v1/routes", "Add a route to the policy in force; its comments stay", records.Admin),
		func(ctx context.Context, in *struct{ Body client.NewRoute }) (*routeChange, error) {
			b := in.Body
			wanted := policy.NewRoute{Name: b.Name, Paths: b.Paths, Like: b.Like, Fresh: b.Fresh, Query: b.Query, Headers: b.Headers, Cookies: b.Cookies, Tags: b.Tags}
			lines, err := wanted.Lines()
			if err != nil {
				return nil, huma.Error422UnprocessableEntity(err.Error())
			}
			return c.changeRoute(ctx, b.Name, "route "+b.Name+" added", b.Preview, func(source string) (string, error) { return policy.AddRoute(source, lines, b.Before) })
		})
	huma.Register(c.api, operation("set-route", http.MethodPut, "/v1/routes/{name}/settings", "Change settings of a route of the policy in force; its comments stay", records.Admin),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body struct {
				Settings []string `json:"settings" minItems:"1" maxItems:"100" doc:"lifetime.fresh=5m; lifetime.fresh= takes it out"`
				Preview  bool     `json:"preview,omitempty" doc:"Change nothing, and tell what would come of it"`
			}
		}) (*routeChange, error) {
			var settings []policy.Setting
			name := in.Name
			for _, text := range in.Body.Settings {
				s, err := policy.ParseSetting(text)
				if err != nil {
					return nil, huma.Error422UnprocessableEntity(err.Error())
				}
				settings = append(settings, s)
				if slices.Equal(s.Place, []string{"name"}) {
					name = strings.Trim(s.Value, `"'`)
				}
			}
			return c.changeRoute(ctx, name, "route "+in.Name+": "+strings.Join(in.Body.Settings, " "), in.Body.Preview, func(source string) (string, error) { return policy.SetRoute(source, in.Name, settings) })
		})
	huma.Register(c.api, operation("remove-route", http.MethodDelete, "/v1/routes/{name}", "Take a route out of the policy in force", records.Admin),
		func(ctx context.Context, in *struct {
			Name    string `path:"name"`
			Preview bool   `query:"preview" doc:"Change nothing, and tell what would come of it"`
		}) (*routeChange, error) {
			return c.changeRoute(ctx, "", "route "+in.Name+" removed", in.Preview, func(source string) (string, error) { return policy.RemoveRoute(source, in.Name) })
		})
}

// changeRoute edits the policy in force, or tells what would come of it. name is the route's then; "" if
// it is gone.
func (c *Control) changeRoute(ctx context.Context, name, note string, preview bool, edit func(string) (string, error)) (*routeChange, error) {
	before := c.edge.Policy()
	if before == nil {
		return nil, huma.Error409Conflict("there is no policy yet; apply one with: gerastic policy apply FILE")
	}
	var text string
	var now *policy.Policy
	refused := errors.New("")
	checked := func(source string) (string, error) {
		var err error
		if text, err = edit(source); err != nil {
			refused = err
			return "", refused
		}
		now, err = c.node.ReadPolicy(text)
		return text, err
	}
	out := client.RouteChange{Matched: []client.RouteMatched{}, Warnings: []string{}}
	var err error
	if preview {
		_, err = checked(c.node.Revision().Source)
	} else {
		var rev records.Revision
		rev, err = c.node.EditPolicy(ctx, checked, caller(ctx), note)
		out.Revision = rev.Number
	}
	var problems policy.Problems
	switch {
	case errors.As(err, &problems):
		return nil, policyProblem(problems)
	case err != nil && errors.Is(err, refused):
		return nil, huma.Error422UnprocessableEntity(err.Error())
	case err != nil:
		return nil, c.failed(err)
	}
	for _, w := range now.Warnings {
		out.Warnings = append(out.Warnings, w.Message)
	}
	if out.Source, err = policy.RouteSource(text, name); err != nil {
		return nil, err
	}
	touched, stored := before.Touched(now), c.store.RouteCounts()
	for _, route := range touched {
		out.Touched += int64(stored[route])
	}
	c.tryRoute(&out, before, now, name)
	return &routeChange{out}, nil
}

// tryRoute tells which of the requests that came lately a route matches.
func (c *Control) tryRoute(out *client.RouteChange, before *policy.InForce, now *policy.Policy, name string) {
	recent := c.edge.Recents()
	out.Seen = len(recent)
	times := map[client.RouteMatched]int{}
	for _, r := range recent {
		route := now.Match(r.Method, r.Host, r.Path)
		if name == "" || route == nil || route.Name != name {
			continue
		}
		one := client.RouteMatched{Method: r.Method, URL: r.Scheme + "://" + r.Host + r.Path}
		if r.Query != "" {
			one.URL += "?" + r.Query
		}
		if old := before.Match(r.Method, r.Host, r.Path); old != nil {
			one.Before = old.Name
		}
		times[one]++
	}
	for one, n := range times {
		one.Times = n
		out.Matched = append(out.Matched, one)
	}
	slices.SortFunc(out.Matched, func(a, b client.RouteMatched) int {
		return cmp.Or(cmp.Compare(b.Times, a.Times), strings.Compare(a.URL, b.URL), strings.Compare(a.Method, b.Method))
	})
}
