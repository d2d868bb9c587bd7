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

	"gerastic/internal/core/fragment"
	"gerastic/internal/core/meter"
	"gerastic/internal/edge"
	"gerastic/internal/records"
	"gerastic/internal/watching"
)

// alive is how often a stream without events shows that it stands.
const alive = 15 * time.Second

type watchQuery struct {
	Of      string `query:"of" enum:"requests,fragments" default:"requests" doc:"What is followed: visitors' requests, or what becomes of applications' fragments"`
	Route   string `query:"route" doc:"Only this route; of fragments, NAMESPACE/NAME"`
	Outcome string `query:"outcome" enum:"hit,stale,revalidated,joined,miss,bypass,error,found,filled,stored,waited,dropped" doc:"Of requests hit to error, of fragments found to dropped"`
	Status  int    `query:"status" doc:"Only this status, of requests"`
	Path    string `query:"path" doc:"Only paths that begin so; of fragments, keys"`
	Keys    bool   `query:"keys" doc:"Show keys of requests"`
}

// Resolve checks the filter before the stream begins.
func (q *watchQuery) Resolve(huma.Context) []error {
	_, isOutcome := meter.ParseOutcome(q.Outcome)
	switch {
	case q.Outcome == "":
		return nil
	case q.Of == "fragments" && !fragment.IsBecame(q.Outcome):
		return []error{&huma.ErrorDetail{Message: "the outcomes of fragments are found, filled, stored, waited and dropped", Location: "query.outcome"}}
	case q.Of != "fragments" && !isOutcome:
		return []error{&huma.ErrorDetail{Message: "the outcomes of requests are hit, stale, revalidated, joined, miss, bypass and error", Location: "query.outcome"}}
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

func (q *watchQuery) wantsFragment(e *fragment.Event) bool {
	return (q.Route == "" || q.Route == e.ID.Route()) && (q.Outcome == "" || q.Outcome == e.Outcome.String()) && strings.HasPrefix(e.ID.Key, q.Path)
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
	following := operation("watch", http.MethodGet, "/v1/events", "Follow requests as they are answered, or fragments as they are found and made", records.Read)
	following.Middlewares = huma.Middlewares{c.whileFewWatch}
	sse.Register(c.api, following, map[string]any{"request": client.Event{}, "fragment": client.FragmentEvent{}}, c.sendEvents)
	huma.Register(c.api, operation("list-findings", http.MethodGet, "/v1/findings", "List what comparisons of hits with the origin found", records.Read), c.listFindings)
}

// whileFewWatch refuses those who are one too many, before their stream begins.
func (c *Control) whileFewWatch(ctx huma.Context, next func(huma.Context)) {
	if max(c.edge.Watchers().Count(), c.node.FragmentWatchers().Count()) >= watching.MaxWatches {
		ctx.SetHeader("Retry-After", "5")
		_ = huma.WriteErr(c.api, ctx, http.StatusServiceUnavailable, fmt.Sprintf("%d follow the requests of this node already, and no more may; close one", watching.MaxWatches))
		return
	}
	next(ctx)
}

// sendEvents follows what a query wants, until whoever asked goes or the node stops.
func (c *Control) sendEvents(ctx context.Context, q *watchQuery, send sse.Sender) {
	if q.Of == "fragments" {
		follow(ctx, c, send, c.node.FragmentWatchers().Watch(watching.Wanted[fragment.Event]{Wants: q.wantsFragment}), func(e *fragment.Event, missed int64) any {
			out := client.FragmentEvent{Missed: missed}
			if e != nil {
				out.At, out.Namespace, out.Key, out.Outcome, out.TookMS, out.Bytes = c.now(), e.ID.Namespace, e.ID.Key, e.Outcome.String(), milliseconds(e.Took), e.Bytes
			}
			return out
		})
		return
	}
	follow(ctx, c, send, c.edge.Watchers().Watch(watching.Wanted[edge.Event]{Exact: q.Keys, Wants: q.wants}), func(e *edge.Event, missed int64) any {
		out := client.Event{Missed: missed}
		if e != nil {
			s := &e.Sample
			out = client.Event{At: c.now(), Method: e.Method, URL: e.URL, Route: s.Route, Outcome: s.Outcome.String(), Cause: s.Cause.String(), Status: s.Status, Bytes: s.Bytes, TookMS: milliseconds(s.Took), Missed: missed}
		}
		if e != nil && q.Keys {
			out.Key = e.Key
		}
		return out
	})
}

// follow sends the events of a watch in the form that out gives them; it gives nil the form of a sign
// of life. A nil watch: too many watch.
func follow[E any](ctx context.Context, c *Control, send sse.Sender, w *watching.Watch[E], out func(e *E, missed int64) any) {
	if w == nil {
		return
	}
	defer w.Close()
	tick := time.NewTicker(alive)
	defer tick.Stop()
	if send.Data(out(nil, 0)) != nil { // the stream stands
		return
	}
	for {
		var event any
		select {
		case <-ctx.Done():
			return
		case <-c.done:
			return
		case <-tick.C:
			event = out(nil, 0)
		case e := <-w.Events:
			event = out(&e, w.Missed.Swap(0))
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
		out.Body.Findings = append(out.Body.Findings, findingOut(f))
	}
	return out, nil
}

func findingOut(f records.Finding) client.Finding {
	out := client.Finding{At: f.At, Node: f.Node, Route: f.Route, URL: f.URL, Key: f.Key, Kind: f.Kind, Stored: f.Stored, Origin: f.Origin, Separator: f.Separator}
	if f.Kind == client.FragmentClashes {
		out.Namespace, out.Name, _ = strings.Cut(f.Route, "/")
		out.Samples, out.Stored, out.Origin = []string{f.Stored, f.Origin}, "", ""
	}
	return out
}

// Close ends streams, so that the node can stop.
func (c *Control) Close() { c.stop.Do(func() { close(c.done) }) }
