package warm

import (
	"cmp"
	"context"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"gerastic/internal/core/policy"
	"gerastic/internal/edge"
	"gerastic/internal/prime"
	"gerastic/internal/tasks"
)

const (
	// tick is how often it is looked whether something ends.
	tick = 250 * time.Millisecond
	// looked is after how long something is looked at again, whatever was known of it.
	looked = time.Minute
	// mostAhead is how long before its end something is renewed, at most.
	mostAhead = 30 * time.Second
	// lastPause is between tries of what fails: they double from a second on.
	lastPause = 5 * time.Minute
)

// Site is what is kept warm.
type Site interface {
	prime.Site
	// Asked is what visitors asked for on routes that are kept warm.
	Asked() []edge.Asked
	// ForgetAsked forgets something that is not kept warm any more.
	ForgetAsked(id string)
	// Peek looks at what is stored for a request, and changes nothing.
	Peek(r *http.Request) edge.Peeked
	// Policy is the one in force; nil before there is one.
	Policy() *policy.InForce
}

// Parts are what a Keeper works with.
type Parts struct {
	Site Site
	// Base is where a URL from the slash belongs to.
	Base func() string
	// Previous is what was asked for most before the node's last start.
	Previous func() []prime.Target
	Tasks    *tasks.Group
	Log      *slog.Logger
}

// Keeper keeps a site warm.
type Keeper struct {
	Parts

	mu     sync.Mutex // guards what follows
	items  map[string]*item
	under  map[string]int // refills under way, by origin
	purged bool           // since the last round
	wake   chan struct{}
}

// item is something that is kept warm.
type item struct {
	id     string
	target prime.Target
	route  string
	asked  time.Time // when visitors did last; zero of what the policy names
	named  bool      // by the policy
	noted  bool      // by the site, which bounds how many there are
	due    time.Time // when it is looked at next
	failed int       // refills, in a row
	busy   bool      // one is under way
}

// New returns a keeper that does nothing until Run.
func New(p Parts) *Keeper {
	return &Keeper{Parts: p, items: map[string]*item{}, under: map[string]int{}, wake: make(chan struct{}, 1)}
}

// Purged says that something stored may have been purged.
func (k *Keeper) Purged() {
	k.mu.Lock()
	k.purged = true
	k.mu.Unlock()
	k.hurry()
}

func (k *Keeper) hurry() {
	select {
	case k.wake <- struct{}{}:
	default:
	}
}

// Run keeps the site warm until ctx ends.
func (k *Keeper) Run(ctx context.Context) {
	began := true
	for ctx.Err() == nil {
		started := time.Now()
		if routes := warmRoutes(k.Site.Policy()); len(routes) > 0 {
			if began {
				k.remember(routes)
				began = false
			}
			k.round(ctx, routes, started)
		} else {
			k.forgetAll()
		}
		// However many purges come, most of the time is for others.
		rest := 4 * time.Since(started)
		k.pause(ctx, rest, nil)
		k.pause(ctx, max(0, tick-rest), k.wake)
	}
}

func (k *Keeper) pause(ctx context.Context, d time.Duration, wake <-chan struct{}) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	case <-wake:
	}
}

// warmRoutes are the routes of a policy that are kept warm.
func warmRoutes(p *policy.InForce) map[string]*policy.Route {
	routes := map[string]*policy.Route{}
	if p != nil {
		for _, r := range p.Routes {
			if r.Warm != nil && p.On(r) {
				routes[r.Name] = r
			}
		}
	}
	return routes
}

// forgetAll forgets what was kept warm, here and at the site: no route is any more.
func (k *Keeper) forgetAll() {
	for _, a := range k.Site.Asked() {
		k.Site.ForgetAsked(a.ID)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	clear(k.items)
}

// remember takes over what was asked for most before the start, as if it had been asked for now.
func (k *Keeper) remember(routes map[string]*policy.Route) {
	now := time.Now()
	for _, t := range k.Previous() {
		r, err := prime.Request(context.Background(), k.Base(), t)
		if err != nil {
			continue
		}
		if p := k.Site.Peek(r); routes[p.Route] != nil && routes[p.Route].Warm.AskedWithin > 0 {
			k.keep("previous "+t.URL+" "+headerText(t.Header), item{target: t, route: p.Route, asked: now})
		}
	}
}

func headerText(h http.Header) string {
	var b strings.Builder
	_ = h.Write(&b) // in the order of names; a builder takes all
	return b.String()
}

// keep notes something, or that it was asked for again.
func (k *Keeper) keep(id string, one item) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if known := k.items[id]; known != nil {
		known.asked, known.named, known.route = one.asked, one.named, one.route
		return
	}
	one.id = id
	k.items[id] = &one
}

// forgetBut forgets what the site had noted and has not any more: it bounds how many there are.
func (k *Keeper) forgetBut(remembered map[string]bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	maps.DeleteFunc(k.items, func(id string, one *item) bool { return one.noted && !one.busy && !remembered[id] })
}

// round looks at what is due, and fills what is not warm.
func (k *Keeper) round(ctx context.Context, routes map[string]*policy.Route, now time.Time) {
	remembered := map[string]bool{}
	for _, a := range k.Site.Asked() {
		remembered[a.ID] = true
		k.keep(a.ID, item{target: prime.Target{URL: a.URL, Header: a.Header}, route: a.Route, asked: a.At, noted: true})
	}
	k.forgetBut(remembered)
	for _, r := range routes {
		for _, u := range r.Warm.URLs {
			if strings.HasPrefix(u, "//") {
				scheme, _, _ := strings.Cut(k.Base(), "://")
				u = scheme + ":" + u
			}
			k.keep("named "+u, item{target: prime.Target{URL: u}, route: r.Name, named: true})
		}
	}
	for _, one := range k.due(routes, now) {
		if ctx.Err() != nil || !k.look(ctx, one, now) {
			return
		}
	}
}

// due are the items that are to be looked at, those that were asked for last first. What is not kept warm
// any more is forgotten.
func (k *Keeper) due(routes map[string]*policy.Route, now time.Time) (all []*item) {
	k.mu.Lock()
	defer k.mu.Unlock()
	whole := k.purged
	k.purged = false
	for id, one := range k.items {
		r := routes[one.route]
		switch {
		case one.busy:
			if whole {
				one.due = time.Time{} // what is on its way may be from before the purge
			}
		case r == nil || one.named && !slices.ContainsFunc(r.Warm.URLs, func(u string) bool { return strings.HasSuffix(id, u) }),
			!one.named && now.Sub(one.asked) > r.Warm.AskedWithin:
			delete(k.items, id)
			k.Site.ForgetAsked(id)
		case whole:
			one.due = time.Time{}
			all = append(all, one)
		case !now.Before(one.due):
			all = append(all, one)
		}
	}
	slices.SortFunc(all, func(a, b *item) int { return cmp.Or(b.asked.Compare(a.asked), strings.Compare(a.id, b.id)) })
	return all
}

// look fills an item that is not warm. It reports false if as much is under way to its origin as may be.
func (k *Keeper) look(ctx context.Context, one *item, now time.Time) bool {
	r, err := prime.Request(ctx, k.Base(), one.target)
	if err != nil {
		k.later(one, now.Add(looked))
		return true
	}
	p := k.Site.Peek(r)
	ahead := min(mostAhead, p.Left/2, max(p.Life/10, 2*p.Cost+2*tick))
	ahead = max(ahead, min(p.Life/2, 2*p.Cost+2*tick))
	switch {
	case p.Route == "" || p.Evicted: // there is no room for it, so that it would push out others
		k.later(one, now.Add(looked))
	case p.Fresh && p.Left > ahead:
		k.later(one, now.Add(min(looked, p.Left-ahead)))
	case !k.begins(one, p.Origin, now):
		return false
	case !k.Tasks.Go(func() { k.ends(one, p.Origin, k.Site.Prime(k.Tasks.Life(), r, edge.Priming{})) }):
		k.ends(one, p.Origin, edge.Primed{Outcome: edge.PrimeFresh}) // the node ends
	}
	return true
}

func (k *Keeper) later(one *item, at time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	one.due = at
}

// begins takes one of the places that there are for refills from an origin: a quarter of its connections.
// false: there is none now.
func (k *Keeper) begins(one *item, origin string, now time.Time) bool {
	limit := 1
	if p := k.Site.Policy(); p != nil {
		for _, o := range p.Origins {
			if o.Name == origin {
				limit = max(1, len(o.URLs)*o.MaxConnections/4)
			}
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.under[origin] >= limit {
		return false
	}
	k.under[origin]++
	one.busy, one.due = true, now.Add(time.Second)
	return true
}

// ends gives the place back.
func (k *Keeper) ends(one *item, origin string, result edge.Primed) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.under[origin]--; k.under[origin] == 0 {
		delete(k.under, origin)
	}
	one.busy = false
	switch result.Outcome {
	case edge.PrimeFailed:
		pause := min(lastPause, time.Second<<min(one.failed, 20))
		if one.failed++; one.failed == 3 {
			k.Log.Warn("what should be kept warm cannot be filled; it is tried again", "url", one.target.URL, "status", result.Status, "why", result.Why)
		}
		one.due = time.Now().Add(pause)
	case edge.PrimeSkipped: // its answer is not for the store
		one.due, one.failed = time.Now().Add(looked), 0
	default:
		one.failed = 0
	}
	k.hurry()
}
