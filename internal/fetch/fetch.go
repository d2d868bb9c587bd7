package fetch

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"gerastic/internal/coding"
	"gerastic/internal/core/barrier"
	"gerastic/internal/core/fill"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/tasks"
)

// Purger puts a purge that an origin's answer calls for into the ledger and applies
// it. It returns when the purge is in force on this node.
type Purger func(ctx context.Context, p tags.Purge, actor, reason string) error

// Config is what a Fetcher works with.
type Config struct {
	Store   *store.Memory
	Barrier *barrier.Barrier
	Meter   *meter.Meter
	Coder   *coding.Coder
	Tasks   *tasks.Group // what goes on behind visitors ends with it
	Policy  func() *policy.InForce
	Purge   Purger
	Found   func(Finding) // takes the findings of comparisons; nil: hits are not compared
	// Released hears of a route whose answers another release of the application makes; may be nil.
	Released func(Release)
	Log      *slog.Logger
	Now      func() time.Time
}

// Fetcher asks origins for what is missing. It is safe for concurrent use.
type Fetcher struct {
	Config
	// Flights are the fills under way, for those who want to join one.
	Flights *fill.Group[*Head]
	// Learned is what answers have told of their keys.
	Learned  Learned
	sights   *store.Sightings
	comparer comparer
	doubts   doubts
	releases releases
	unread   memo[time.Time] // writes whose bodies were too long, and when that was told
}

// sightsShare is which part of the memory the counting of keys may take that are not stored yet.
const sightsShare = 64

// New returns a fetcher whose fills its barrier guards.
func New(c Config) *Fetcher {
	f := &Fetcher{Config: c, Flights: fill.NewGroup[*Head](c.Barrier.Stamp), sights: store.NewSightings(c.Store.Limit() / sightsShare)}
	f.doubts.fetcher = f
	c.Barrier.Guard(f.Flights)
	return f
}

// Bytes is about what the fetcher remembers besides entries.
func (f *Fetcher) Bytes() int64 {
	return f.Learned.bytes() + f.comparer.quiet.bytes() + f.doubts.last.bytes() + f.unread.bytes() + f.sights.Bytes()
}

// errEnding says that the node is shut down.
var errEnding = errors.New("this node is stopping")

// countMore counts origin requests besides the one that a visitor's request stands for.
func (f *Fetcher) countMore(route *policy.Route, more int64) {
	for ; more > 0; more-- {
		f.Meter.Record(f.Meter.Stripe(), &meter.Sample{Route: route.Name, Outcome: meter.Behind, Origin: true})
	}
}

// CountUnused counts the origin request of a fill whose answer the visitor who led it does not
// use.
func (f *Fetcher) CountUnused(route *policy.Route) { f.countMore(route, 1) }
