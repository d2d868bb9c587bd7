package control

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/records"
)

type tagList struct {
	Body struct {
		Tags []client.StoredTag `json:"tags"`
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
}
