package control

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"gerastic.example/client"

	"gerastic/internal/core/meter"
	"gerastic/internal/edge"
	"gerastic/internal/records"
)

// alive is how often a stream without events shows that it stands.
const alive = 15 * time.Second

type watchQuery struct {
	Route   string `query:"route" doc:"Only this route"`
	Outcome string `query:"outcome" enum:"hit,stale,revalidated,joined,miss,bypass,error"`
	Status  int    `query:"status" doc:"Only this status"`
	Path    string `query:"path" doc:"Only paths that begin so"`
	Keys    bool   `query:"keys" doc:"Show keys"`
}

// Resolve checks the filter before the stream begins.
func (q *watchQuery) Resolve(huma.Context) []error {
	if _, ok := meter.ParseOutcome(q.Outcome); q.Outcome != "" && !ok {
		return []error{&huma.ErrorDetail{Message: "the outcomes are hit, stale, revalidated, joined, miss, bypass and error", Location: "query.outcome"}}
	}
	return nil
}

func (q *watchQuery) wants(e *edge.Event) bool {
	path := e.URL
	if _, rest, ok := strings.Cut(path, "://"); ok {
		_, path, _ = strings.Cut(rest, "/")
		path = "/" + path
	}
	return (q.Route == "" || q.Route == e.Sample.Route) && (q.Outcome == "" || q.Outcome == e.Sample.Outcome.String()) &&
		(q.Status == 0 || q.Status == e.Sample.Status) && strings.HasPrefix(path, q.Path)
}

type findingsQuery struct {
	Since string `query:"since" default:"7d" doc:"A length of time before now, or an RFC 3339 time"`
	Limit int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

type findings struct {
	Body struct {
		Findings []client.Finding `json:"findings"`
	}
}

func (c *Control) watchCalls() {
	following := operation("watch", http.MethodGet, "/v1/events", "Follow requests as they are answered", records.Read)
	following.Middlewares = huma.Middlewares{c.whileFewWatch}
	sse.Register(c.api, following, map[string]any{"request": client.Event{}}, c.sendEvents)
	huma.Register(c.api, operation("list-findings", http.MethodGet, "/v1/findings", "List what comparisons of hits with the origin found", records.Read), c.listFindings)
}

// whileFewWatch refuses those who are one too many, before their stream begins.
func (c *Control) whileFewWatch(ctx huma.Context, next func(huma.Context)) {
	if c.edge.Watches() >= edge.MaxWatches {
		ctx.SetHeader("Retry-After", "5")
		_ = huma.WriteErr(c.api, ctx, http.StatusServiceUnavailable, fmt.Sprintf("%d follow the requests of this node already, and no more may; close one", edge.MaxWatches))
		return
	}
	next(ctx)
}

// sendEvents follows the requests that a query wants, until whoever asked goes or the node stops.
func (c *Control) sendEvents(ctx context.Context, q *watchQuery, send sse.Sender) {
	w := c.edge.Watch(edge.Wanted{Keys: q.Keys, Wants: q.wants})
	if w == nil {
		return
	}
	defer w.Close()
	tick := time.NewTicker(alive)
	defer tick.Stop()
	if send.Data(client.Event{}) != nil { // the stream stands
		return
	}
	for {
		var event client.Event
		select {
		case <-ctx.Done():
			return
		case <-c.done:
			return
		case <-tick.C:
		case e := <-w.Events:
			event = eventOut(&e, c.now())
			event.Missed = w.Missed.Swap(0)
		}
		if send.Data(event) != nil {
			return
		}
	}
}

func (c *Control) listFindings(ctx context.Context, in *findingsQuery) (*findings, error) {
	since, err := moment(in.Since, c.now())
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("since: " + err.Error())
	}
	rec, err := c.records()
	if err != nil {
		return nil, err
	}
	found, err := rec.Findings(ctx, since, in.Limit)
	if err != nil {
		return nil, c.failed(err)
	}
	out := &findings{}
	out.Body.Findings = []client.Finding{}
	for _, f := range found {
		out.Body.Findings = append(out.Body.Findings, client.Finding{At: f.At, Node: f.Node, Route: f.Route, URL: f.URL, Key: f.Key, Kind: f.Kind, Stored: f.Stored, Origin: f.Origin, Separator: f.Separator})
	}
	return out, nil
}

func eventOut(e *edge.Event, now time.Time) client.Event {
	s := &e.Sample
	return client.Event{At: now, Method: e.Method, URL: e.URL, Route: s.Route, Outcome: s.Outcome.String(), Cause: s.Cause.String(), Status: s.Status, Bytes: s.Bytes, TookMS: milliseconds(s.Took), Key: e.Key}
}

// Close ends streams, so that the node can stop.
func (c *Control) Close() { c.stop.Do(func() { close(c.done) }) }
