package control

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/records"
)

type routeList struct {
	Body struct {
		Routes []client.Route `json:"routes"`
	}
}

func (c *Control) routeCalls() {
	huma.Register(c.api, operation("list-routes", http.MethodGet, "/v1/routes", "List the policy's routes with their figures", records.Read),
		func(ctx context.Context, in *struct {
			Since string `query:"since" default:"1h" doc:"Figures since: a length of time before now, or an RFC 3339 time"`
		}) (*routeList, error) {
			now := c.now()
			since, err := moment(in.Since, now)
			if err != nil {
				return nil, huma.Error422UnprocessableEntity("since: " + err.Error())
			}
			out := &routeList{}
			out.Body.Routes = []client.Route{}
			inForce := c.edge.Policy()
			if inForce == nil {
				return out, nil
			}
			report, err := c.ratio(ctx, ratioQuery{since: since, until: now, now: now, by: "route"})
			if err != nil {
				return nil, err
			}
			figures := map[string]client.RatioRow{}
			for _, row := range report.Rows {
				figures[row.Route] = row
			}
			stored := c.store.RouteCounts()
			for _, route := range inForce.Routes {
				f, ok := figures[route.Name]
				if !ok {
					f = rowOf(&meter.Ratio{})
					f.Route = route.Name
				}
				out.Body.Routes = append(out.Body.Routes, routeOut(route, inForce, stored[route.Name], f))
			}
			return out, nil
		})

	huma.Register(c.api, operation("switch-route", http.MethodPatch, "/v1/routes/{name}", "Turn a route on or off; * is all of them. Nothing stored is lost", records.Admin),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body struct {
				Enabled bool `json:"enabled"`
			}
		}) (*struct{}, error) {
			if err := c.checkSwitch(in.Name, in.Body.Enabled); err != nil {
				return nil, err
			}
			if err := c.node.Switch(ctx, in.Name, !in.Body.Enabled, caller(ctx)); err != nil {
				return nil, c.failed(err)
			}
			return nil, nil
		})
}

// checkSwitch refuses a switch that would do nothing.
func (c *Control) checkSwitch(name string, on bool) error {
	inForce := c.edge.Policy()
	if inForce == nil || name == records.Everything {
		return nil
	}
	for _, route := range inForce.Routes {
		if route.Name != name {
			continue
		}
		if on && (!route.Enabled || !inForce.Enabled) {
			return huma.Error409Conflict(fmt.Sprintf("the policy itself says enabled: false, so that the switch alone does not turn %s on; change the policy", name))
		}
		return nil
	}
	if meter.Within(name) { // fragments of one name
		if _, stored := c.store.RouteCounts()[name]; stored || on {
			return nil
		}
		return huma.Error404NotFound(fmt.Sprintf("nothing of the name %q is stored here; gerastic fragments list shows the names", name))
	}
	return huma.Error404NotFound(fmt.Sprintf("no route is named %q; gerastic routes lists them", name))
}

func routeOut(route *policy.Route, inForce *policy.InForce, entries int, figures client.RatioRow) client.Route {
	out := client.Route{Name: route.Name, Path: route.Path.String(), Methods: route.Methods, Enabled: inForce.On(route), Entries: entries, Figures: figures}
	for _, h := range route.Hosts {
		out.Hosts = append(out.Hosts, string(h))
	}
	switch {
	case !route.Enabled || !inForce.Enabled:
		out.Switch = "policy-off"
	case inForce.AllOff:
		out.Switch = "all-off"
	case inForce.Off[route.Name]:
		out.Switch = "off"
	default:
		out.Switch = "on"
	}
	return out
}
