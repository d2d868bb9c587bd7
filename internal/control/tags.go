package control

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/core/store"
	"gerastic/internal/records"
)

type tagList struct {
	Body struct {
		Tags []client.StoredTag `json:"tags"`
	}
}

type entryList struct {
	Body struct {
		Entries []client.Entry `json:"entries"`
	}
}

func (c *Control) tagCalls() {
	huma.Register(c.api, operation("list-tags", http.MethodGet, "/v1/tags", "List tags, those with most entries first", records.Read),
		func(ctx context.Context, in *struct {
			Prefix string `query:"prefix" maxLength:"1024" doc:"Only tags that begin so"`
			Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"1000"`
		}) (*tagList, error) {
			out := &tagList{}
			out.Body.Tags = []client.StoredTag{}
			var names []string
			for _, t := range c.store.Tags(in.Prefix, in.Limit) {
				out.Body.Tags = append(out.Body.Tags, client.StoredTag{Tag: t.Tag, Entries: t.Entries, Bytes: t.Bytes, Routes: t.Routes})
				names = append(names, t.Tag)
			}
			rec, err := c.node.Records()
			if err != nil {
				return out, nil // what is stored is known without the database
			}
			last, err := rec.LastPurges(ctx, names)
			if err != nil {
				return nil, c.failed(err)
			}
			for i := range out.Body.Tags {
				if p, ok := last[out.Body.Tags[i].Tag]; ok {
					out.Body.Tags[i].Purged = &client.TagPurge{Sequence: uint64(p.Sequence), At: p.At, Actor: p.Actor}
				}
			}
			return out, nil
		})

	huma.Register(c.api, operation("list-entries", http.MethodGet, "/v1/entries", "List some of the entries, with their tags", records.Read),
		func(_ context.Context, in *struct {
			Tag   string `query:"tag" maxLength:"1024" doc:"Only entries that carry it"`
			Route string `query:"route" maxLength:"200" doc:"Without a tag: only entries of this route; NAMESPACE/NAME for fragments"`
			Limit int    `query:"limit" default:"50" minimum:"1" maximum:"1000"`
		}) (*entryList, error) {
			out := &entryList{}
			out.Body.Entries = []client.Entry{}
			for _, e := range c.store.Some(in.Tag, in.Route, "", in.Limit) {
				out.Body.Entries = append(out.Body.Entries, c.entryOut(e))
			}
			return out, nil
		})
}

func (c *Control) entryOut(e *store.Entry) client.Entry {
	now := c.now()
	out := client.Entry{
		URL: e.URL(), Route: e.Subject.Route, Status: e.Status, Bytes: e.Size(), Stamp: uint64(e.Subject.Stamp), State: "live",
		AgeS: e.Freshness.Age(now).Seconds(), LeftS: e.Freshness.Remaining(now).Seconds(), Tags: []client.EntryTag{},
	}
	if e.IsSoftened() {
		out.State = "softened"
	}
	for i, v := range e.Vary {
		if i > 0 {
			out.Vary += "; "
		}
		out.Vary += v.Name + ": " + v.Shown()
	}
	for i, tag := range e.Subject.Tags {
		from := "origin"
		if e.Fragment() {
			from = "application"
		}
		if i < e.RouteTags {
			from = "route"
		}
		out.Tags = append(out.Tags, client.EntryTag{Tag: tag, From: from})
	}
	return out
}
