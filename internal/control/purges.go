package control

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

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
	p, err := c.purgeOf(r)
	if err != nil {
		return client.PurgeResult{Preview: r.Preview, Mode: r.Mode, Nodes: []client.PurgeNode{}}, err
	}
	return c.carryOut(ctx, p, r.Preview, r.Reason)
}

// carryOut purges, or says what would go.
func (c *Control) carryOut(ctx context.Context, p tags.Purge, preview bool, reason string) (client.PurgeResult, error) {
	out := client.PurgeResult{Preview: preview, Mode: p.Mode.String(), Nodes: []client.PurgeNode{}}
	if preview {
		out.Matched = matchedOut(c.store.Preview(p))
		return out, nil
	}
	sequence, applied, err := c.node.Purge(ctx, p, caller(ctx), reason)
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

// purgeOf translates a request into a purge.
func (c *Control) purgeOf(r client.PurgeRequest) (tags.Purge, error) {
	p := tags.Purge{Mode: tags.ParseMode(r.Mode), Tags: r.Tags, Together: r.Together, Routes: r.Routes, All: r.All}
	inForce := c.edge.Policy()
	if inForce == nil {
		return p, huma.Error409Conflict("there is no policy yet, so nothing is stored")
	}
	if err := c.orderPlaces(&p, r, inForce); err != nil {
		return p, huma.Error422UnprocessableEntity(err.Error())
	}
	if err := p.Check(); err != nil {
		return p, huma.Error422UnprocessableEntity(err.Error())
	}
	if err := inForce.CheckNames(r.Routes, c.store.RouteCounts()); err != nil {
		return p, huma.Error422UnprocessableEntity(err.Error())
	}
	return p, nil
}

// orderPlaces reads what a request names by where it was asked for.
func (c *Control) orderPlaces(p *tags.Purge, r client.PurgeRequest, inForce *policy.InForce) error {
	for _, u := range r.URLs {
		query := policy.OwnQuery
		if u.AnyQuery {
			query = policy.AnyQuery
		}
		forms, err := inForce.ParseURL(u.URL, query)
		if err != nil {
			return err
		}
		p.URLs = append(p.URLs, forms...)
	}
	for _, text := range r.Below {
		below, err := policy.ParseBelow(text)
		if err != nil {
			return err
		}
		p.Below = append(p.Below, below)
	}
	for _, text := range r.Hosts {
		host, err := policy.ParseHost(text)
		if err != nil {
			return err
		}
		p.Hosts = append(p.Hosts, host)
	}
	return nil
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
		Tags: notNil(p.Tags), Together: p.Together, Begins: p.Begins, Routes: notNil(p.Routes), URLs: []string{}, Below: []string{}, Hosts: notNil(p.Hosts), All: p.All, Nodes: []client.PurgeNode{},
		Matched: client.Matched{Routes: map[string]int64{}},
	}
	if p.One != nil {
		out.Entry = p.One.URL
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
	for _, x := range p.Below {
		text := x.Path
		if !x.AnyHost {
			text = "//" + x.Host + x.Path
		}
		out.Below = append(out.Below, text)
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
