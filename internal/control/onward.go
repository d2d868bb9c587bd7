package control

import (
	"context"
	"errors"
	"net/http"
	"net/url"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/onward"
	"gerastic/internal/records"
)

type onwardList struct {
	Body struct {
		Targets []client.OnwardTarget `json:"targets"`
	}
}

type onwardSkipped struct {
	Body struct {
		Skipped int64 `json:"skipped" doc:"Purges that it is not told"`
	}
}

func (c *Control) onwardCalls() {
	huma.Register(c.api, operation("list-onward", http.MethodGet, "/v1/onward", "How it goes with the caches and services beyond that are told of purges", records.Read),
		func(ctx context.Context, _ *struct{}) (*onwardList, error) {
			states, err := c.node.Onward().States(ctx)
			if err != nil {
				return nil, c.failed(err)
			}
			out := &onwardList{}
			out.Body.Targets = []client.OnwardTarget{}
			for _, s := range states {
				out.Body.Targets = append(out.Body.Targets, onwardOut(s))
			}
			return out, nil
		})
	huma.Register(c.api, operation("skip-onward", http.MethodPost, "/v1/onward/{name}/skip", "Give up telling a target what it was not told until now", records.Admin),
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"64"`
		}) (*onwardSkipped, error) {
			skipped, err := c.node.Onward().Skip(ctx, in.Name)
			if errors.Is(err, onward.ErrNoTarget) {
				return nil, huma.Error404NotFound(err.Error())
			}
			if err != nil {
				return nil, c.failed(err)
			}
			out := &onwardSkipped{}
			out.Body.Skipped = skipped
			return out, nil
		})
}

func onwardOut(s onward.State) client.OnwardTarget {
	out := client.OnwardTarget{Name: s.Name, URL: shown(s.Target.URL), When: s.Target.Wants.String(), State: "ok", Behind: s.Behind, Tries: s.Failures, LastError: s.Error, LastAt: s.Told}
	if s.Failing() {
		out.State = "failing"
	}
	return out
}

// shown is an address without what may be secret: its user, and its query.
func shown(u *url.URL) string {
	plain := url.URL{Scheme: u.Scheme, Host: u.Host, Path: u.Path}
	return plain.String()
}
