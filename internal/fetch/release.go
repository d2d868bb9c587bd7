package fetch

import (
	"sync"
	"time"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/tags"
)

// releases are which release of the application made the answers of a route. One that was not seen
// before counts from then on, and what older ones left is marked stale. While two run side by side, the
// older is not brought back.
type releases struct {
	mu sync.RWMutex
	of map[string]*release // by route
}

// release is that of a route, and those that it replaced lately.
type release struct {
	now    string
	before map[string]time.Time // until when each is not brought back
}

const (
	// sideBySide is for how long an older release may go on answering.
	sideBySide = 10 * time.Minute
	// mostReleases is how many are remembered of a route, and longestRelease how long a name may be.
	mostReleases   = 100
	longestRelease = 200
)

// sawRelease notes which release made an answer.
func (f *Fetcher) sawRelease(route *policy.Route, header httprules.Header) {
	if route == nil || route.Release == "" {
		return
	}
	name := header.Get(route.Release)
	if name == "" || len(name) > longestRelease {
		return
	}
	before, other := f.releases.replaces(route.Name, name, f.Now())
	if other && f.Released != nil {
		f.Released(Release{Route: route.Name, Name: name, Before: before})
	}
	if !other || before == "" { // nothing is known of an older one
		return
	}
	f.Log.Info("another release of the application answers; what older ones made is marked stale", "route", route.Name, "release", name)
	f.order(tags.Purge{Mode: tags.Soften, Routes: []string{route.Name}}, "release:"+name, "route", "/"+route.Name)
}

// Release is a release of the application that answers on a route, and the one before; "": the first that
// is seen.
type Release struct{ Route, Name, Before string }

// Releases are those that answer, by route.
func (f *Fetcher) Releases() map[string]string {
	f.releases.mu.RLock()
	defer f.releases.mu.RUnlock()
	all := map[string]string{}
	for route, r := range f.releases.of {
		all[route] = r.now
	}
	return all
}

// RememberReleases takes over those that answered before the start.
func (f *Fetcher) RememberReleases(all map[string]string) {
	for route, name := range all {
		f.releases.replaces(route, name, f.Now())
	}
}

// replaces reports whether a release takes the place of another one now, and of which.
func (rs *releases) replaces(route, name string, now time.Time) (before string, other bool) {
	rs.mu.RLock()
	known := rs.of[route]
	same := known != nil && known.now == name
	rs.mu.RUnlock()
	if same {
		return "", false
	}
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if known = rs.of[route]; known == nil {
		if rs.of == nil {
			rs.of = map[string]*release{}
		}
		rs.of[route] = &release{now: name, before: map[string]time.Time{}}
		return "", true
	}
	if until, older := known.before[name]; known.now == name || older && now.Before(until) {
		return "", false
	}
	if len(known.before) >= mostReleases {
		clear(known.before)
	}
	delete(known.before, name)
	before = known.now
	known.before[before] = now.Add(sideBySide)
	known.now = name
	return before, true
}

// Applied tells of a policy that has come into force.
func (f *Fetcher) Applied(p *policy.Policy) { f.releases.keep(p) }

// keep forgets the routes that a policy does not have any more.
func (rs *releases) keep(p *policy.Policy) {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	for name := range rs.of {
		if !p.Has(name) {
			delete(rs.of, name)
		}
	}
}
