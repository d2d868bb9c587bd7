package edge

import (
	"context"
	"log/slog"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"gerastic/internal/coding"
	"gerastic/internal/core/barrier"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/outbound"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/fetch"
	"gerastic/internal/tasks"
	"gerastic/internal/watching"
)

// Config is what an edge works with.
type Config struct {
	Store   *store.Memory
	Barrier *barrier.Barrier
	Meter   *meter.Meter
	Purge   fetch.Purger // of what the answers to writes call for
	Log     *slog.Logger
	Now     func() time.Time
	Trusted outbound.Trusted // proxies whose forwarding fields are believed
	// MayExplain reports whether a token in Gerastic-Explain may see keys; nil: none may.
	Development bool // everybody sees keys and reasons
	MayExplain  func(token string) bool
	// Found takes the findings of comparisons; nil: hits are not compared.
	Found func(fetch.Finding)
	// Released hears of a route whose answers another release of the application makes; may be nil.
	Released func(fetch.Release)
	// Streams is how many requests may be under way at a time on connections that several of
	// them share (HTTP/2); 0: as many as come.
	Streams int64
}

// Edge serves visitors.
type Edge struct {
	config    Config
	store     *store.Memory
	barrier   *barrier.Barrier
	meter     *meter.Meter
	fetch     *fetch.Fetcher
	coder     *coding.Coder
	tasks     *tasks.Group
	inForce   atomic.Pointer[inForce]
	watching  *watching.Watchers[Event]
	recents   recents
	groups    groups
	asked     asked
	exchanges sync.Pool
	streams   atomic.Int64 // requests under way on shared connections
}

// inForce is what a request is served by, from its beginning to its end.
type inForce struct {
	*policy.InForce
	origins  *fetch.Origins
	tallies  []tally // of the policy's routes
	grouping bool    // some routes tell visitors apart by their groups
}

// New returns an edge without a policy; it answers 503 until Apply.
func New(c Config) *Edge {
	edge := &Edge{config: c, store: c.Store, barrier: c.Barrier, meter: c.Meter, tasks: tasks.NewGroup()}
	edge.watching = watching.New[Event](edge.tasks)
	edge.coder = coding.New(c.Store, c.Barrier.Marks, edge.tasks)
	edge.fetch = fetch.New(fetch.Config{
		Store: c.Store, Barrier: c.Barrier, Meter: c.Meter, Coder: edge.coder, Tasks: edge.tasks,
		Policy: edge.Policy, Purge: c.Purge, Found: c.Found, Released: c.Released, Log: c.Log, Now: c.Now,
	})
	edge.exchanges.New = func() any {
		x := &exchange{stripe: c.Meter.Stripe()}
		x.edge, x.key = edge, make([]byte, 0, 512)
		x.sent = outbound.Request{Request: &x.req, Hop: outbound.Hop{Trusted: c.Trusted}}
		return x
	}
	return edge
}

// Shutdown ends what goes on behind visitors: fills that nobody reads any more,
// refreshes, comparisons, compression, checks of origins. It is called when no visitor is
// served any more, and returns when all has ended, or with the context's error.
func (e *Edge) Shutdown(ctx context.Context) error {
	err := e.tasks.Shutdown(ctx)
	if now := e.inForce.Load(); now != nil {
		now.origins.Close(nil)
	}
	return err
}

// Releases are the releases of applications that answer, by route.
func (e *Edge) Releases() map[string]string { return e.fetch.Releases() }

// RememberReleases takes over those that answered before the start.
func (e *Edge) RememberReleases(all map[string]string) { e.fetch.RememberReleases(all) }

// Apply puts a policy in force for the requests that come from now on. Connections to
// origins that stay the same are kept.
func (e *Edge) Apply(p *policy.InForce) {
	next := &inForce{InForce: p, grouping: grouping(p), tallies: make([]tally, len(p.Routes))}
	var before *fetch.Origins
	if old := e.inForce.Load(); old != nil {
		before = old.origins
	}
	next.origins = fetch.Connect(p.Policy, before)
	e.inForce.Store(next)
	e.fetch.Applied(p.Policy)
	e.groups.forget()
	before.Close(next.origins)
}

// Policy returns the policy in force; nil before the first Apply.
func (e *Edge) Policy() *policy.InForce {
	if now := e.inForce.Load(); now != nil {
		return now.InForce
	}
	return nil
}

// Filling is the number of fills that can be joined.
func (e *Edge) Filling() int { return e.fetch.Flights.Len() }

// Bytes is about what the edge remembers besides entries.
func (e *Edge) Bytes() int64 { return e.fetch.Bytes() + e.groups.bytes() + e.asked.bytes() }

// ServeHTTP answers one visitor.
func (e *Edge) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	x := e.exchanges.Get().(*exchange)
	defer x.end()
	if r.ProtoMajor != 2 {
		x.begin(w, r)
		x.visit()
		return
	}
	under := e.streams.Add(1)
	defer e.streams.Add(-1)
	x.begin(w, r)
	if e.config.Streams > 0 && under > e.config.Streams {
		x.refuse(http.StatusServiceUnavailable, "too many requests are under way; try again", meter.Route)
		return
	}
	x.visit()
}
