package control

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gerastic.example/client"

	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// entryQuery is what a list of entries is asked for with.
type entryQuery struct {
	Tag   string `query:"tag" maxLength:"1024" doc:"Only entries that carry it"`
	Route string `query:"route" maxLength:"200" doc:"Only entries of this route; NAMESPACE/NAME for fragments"`
	URL   string `query:"url" maxLength:"8192" doc:"Only what was asked for there: https://HOST/PATH?QUERY, or /PATH for every host"`
	Below string `query:"below" maxLength:"8192" doc:"Only below this path: https://HOST/PATH/, or /PATH/ for every host"`
	Key   string `query:"key" maxLength:"1100" doc:"Only fragments whose key begins so, with or without NAMESPACE/: row(7"`
	Host  string `query:"host" maxLength:"300" doc:"Only of this host"`
	Tier  string `query:"tier" enum:"memory,disk,shared" doc:"Only of this tier; an entry in both is in memory"`
	State string `query:"state" enum:"live,softened" doc:"softened: a purge marked it stale"`
	Sort  string `query:"sort" enum:"bytes,age,used,cost,worth" default:"bytes" doc:"The most bytes first, the oldest, the most used, the dearest to fill, or what saves most origin time for its bytes"`
	Limit int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
	After string `query:"after" maxLength:"64" doc:"The after of the part before"`
}

type entryList struct{ Body client.EntryList }

type entryDetail struct{ Body client.EntryDetail }

func (c *Control) entryCalls() {
	huma.Register(c.api, operation("list-entries", http.MethodGet, "/v1/entries", "List stored entries", records.Read),
		func(_ context.Context, in *entryQuery) (*entryList, error) {
			wish, err := c.wish(in)
			if err != nil {
				return nil, huma.Error422UnprocessableEntity(err.Error())
			}
			list, total := c.store.List(wish, c.now())
			out := &entryList{client.EntryList{Entries: []client.Entry{}, Total: total}}
			for _, l := range list {
				out.Body.Entries = append(out.Body.Entries, c.entryOut(l))
			}
			if len(list) == in.Limit {
				out.Body.Next = list[len(list)-1].At.String()
			}
			return out, nil
		})
	huma.Register(c.api, operation("get-entry", http.MethodGet, "/v1/entries/{id}", "One entry, with its header", records.Read),
		func(_ context.Context, in *struct {
			ID string `path:"id" maxLength:"64"`
		}) (*entryDetail, error) {
			l, ok := c.store.Named(in.ID, c.now())
			if !ok {
				return nil, huma.Error404NotFound(notStored)
			}
			return &entryDetail{client.EntryDetail{Entry: c.entryOut(l), Headers: l.Header, Purges: c.purgesOf(l)}}, nil
		})
	huma.Register(c.api, operation("drop-entry", http.MethodDelete, "/v1/entries/{id}", "Drop one entry, on every node: a purge of that one, in the ledger", records.Purging),
		func(ctx context.Context, in *struct {
			ID      string `path:"id" maxLength:"64"`
			Reason  string `query:"reason" maxLength:"500"`
			Preview bool   `query:"preview" doc:"Say what would go, and drop nothing"`
		}) (*struct{ Body client.PurgeResult }, error) {
			l, ok := c.store.Named(in.ID, c.now())
			if !ok {
				return nil, huma.Error404NotFound(notStored)
			}
			one := &tags.One{Path: l.Subject.Path, Name: l.Name(), URL: l.URL()}
			result, err := c.carryOut(ctx, tags.Purge{One: one}, in.Preview, in.Reason)
			return &struct{ Body client.PurgeResult }{result}, err
		})
}

// mostTagPurges is of how many of an entry's tags it is said what a purge would take.
const mostTagPurges = 50

// purgesOf says what purges of an entry's tags would take.
func (c *Control) purgesOf(l store.Listed) map[string]client.Taken {
	all := map[string]client.Taken{}
	for _, tag := range l.Subject.Tags[:min(len(l.Subject.Tags), mostTagPurges)] {
		m := c.store.Preview(tags.Purge{Tags: []string{tag}})
		all[tag] = client.Taken{Entries: m.Entries, Bytes: m.Bytes}
	}
	return all
}

const notStored = "no entry of this ID is stored; it has left, or another answer has taken its place: list the entries again"

// wish reads what entries are asked for.
func (c *Control) wish(in *entryQuery) (w store.Wish, err error) {
	w = store.Wish{Tag: in.Tag, Route: in.Route, Fragment: in.Key, Tier: store.Tier(in.Tier), Limit: in.Limit}
	w.State = map[string]store.State{"live": store.Live, "softened": store.Softened}[in.State]
	w.By = map[string]store.Order{"bytes": store.ByBytes, "age": store.ByAge, "used": store.ByUse, "cost": store.ByCost, "worth": store.ByWorth}[in.Sort]
	if in.Host != "" {
		if w.Host, err = policy.ParseHost(in.Host); err != nil {
			return w, err
		}
	}
	if in.Below != "" {
		if w.Below, err = policy.ParseBelow(in.Below); err != nil {
			return w, err
		}
	}
	if in.After != "" {
		if w.After, err = store.ParseCursor(in.After); err != nil {
			return w, err
		}
	}
	if in.URL != "" {
		w.URLs, err = c.forms(in.URL)
	}
	return w, err
}

// forms are how the entries of a URL are named.
func (c *Control) forms(text string) ([]tags.URL, error) {
	inForce := c.edge.Policy()
	if inForce == nil {
		inForce = &policy.InForce{Policy: &policy.Policy{}}
	}
	return inForce.ParseURL(text, policy.OwnQuery)
}

// entryBody answers with the body of an entry, as it is stored.
func (c *Control) entryBody(w http.ResponseWriter, r *http.Request) {
	l, ok := c.store.Named(chi.URLParam(r, "id"), c.now())
	if !ok {
		problem(w, http.StatusNotFound, notStored)
		return
	}
	inert(w.Header(), l.Header.Get("Content-Type"))
	_, _ = w.Write(l.Entry.Body)
}

func (c *Control) entryOut(l store.Listed) client.Entry {
	now := c.now()
	out := client.Entry{
		ID: l.ID, URL: l.URL(), Method: l.Method, Route: l.Subject.Route, Host: l.Subject.Host, Status: l.Status, Tier: string(l.Tier),
		Bytes: l.Bytes, BodyBytes: l.Body, Coded: map[string]int{}, Stamp: uint64(l.Subject.Stamp), State: stateOf(l.Entry),
		AgeS: l.Freshness.Age(now).Seconds(), LeftS: l.Freshness.Remaining(now).Seconds(), IdleS: l.Idle.Seconds(),
		Uses: l.Uses, CostMS: milliseconds(l.Cost()), Worth: l.Worth, Tags: tagsOut(l.Entry),
	}
	for coding, bytes := range l.Coded {
		out.Coded[string(coding)] = bytes
	}
	for i, v := range l.Vary {
		if i > 0 {
			out.Vary += "; "
		}
		out.Vary += v.Name + ": " + v.Shown()
	}
	return out
}

func stateOf(e *store.Entry) string {
	if e.IsSoftened() {
		return "softened"
	}
	return "live"
}

// tagsOut are an entry's tags, and who named each.
func tagsOut(e *store.Entry) []client.EntryTag {
	out := []client.EntryTag{}
	for i, tag := range e.Subject.Tags {
		from := "origin"
		switch {
		case i < e.RouteTags:
			from = "route"
		case e.Fragment():
			from = "application"
		}
		out = append(out, client.EntryTag{Tag: tag, From: from})
	}
	return out
}
