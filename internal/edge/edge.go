// Package edge is the handler that visitors reach. One request goes one way through:
// match → key → find → decide → serve, join or lead → record.
package edge

import (
	"context"
	"log/slog"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"gerastic/internal/core/fill"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/origin"
)

// Purger puts a purge that an origin's answer calls for into the ledger and applies
// it. It returns when the purge is in force on this node.
type Purger func(ctx context.Context, p tags.Purge, actor, reason string) error

// Parts are what an edge works with.
type Parts struct {
	Store   *store.Memory
	Marks   *tags.Marks
	Meter   *meter.Meter
	Purge   Purger
	Log     *slog.Logger
	Now     func() time.Time
	Trusted origin.Trusted
}

// Edge serves visitors.
type Edge struct {
	Parts
	rules     atomic.Pointer[Rules]
	fills     *fill.Group[*head]
	lone      memo
	exchanges sync.Pool
}

// Rules are a policy with its switches and the ways to its origins. Immutable; a node
// swaps one for another.
type Rules struct {
	Policy  *policy.Policy
	Off     map[string]bool // routes switched off at run time
	AllOff  bool
	clients map[*policy.Origin]*origin.Client
}

// Enabled tells whether a route is on: in the policy and by its switch.
func (r *Rules) Enabled(plan *policy.Plan) bool {
	return r.Policy.Enabled && !r.AllOff && plan.Enabled && !r.Off[plan.Name]
}

// New returns an edge without rules; it answers 503 until Apply.
func New(parts Parts) *Edge {
	edge := &Edge{Parts: parts, fills: fill.NewGroup[*head](), lone: memo{until: map[string]time.Time{}}}
	edge.exchanges.New = func() any {
		return &exchange{edge: edge, stripe: edge.Meter.Stripe(), key: make([]byte, 0, 512)}
	}
	return edge
}

// Apply puts rules in force for the requests that come from now on. Connections to
// origins that stay the same are kept.
func (e *Edge) Apply(p *policy.Policy, off map[string]bool, allOff bool) {
	next := &Rules{Policy: p, Off: off, AllOff: allOff, clients: map[*policy.Origin]*origin.Client{}}
	old := e.rules.Load()
	kept := map[*origin.Client]bool{}
	for _, o := range p.Origins {
		if old != nil {
			for _, c := range old.clients {
				if c.Origin.Name == o.Name && c.Same(o) {
					next.clients[o] = c
					kept[c] = true
				}
			}
		}
		if next.clients[o] == nil {
			next.clients[o] = origin.NewClient(o)
		}
	}
	e.rules.Store(next)
	if old != nil {
		for _, c := range old.clients {
			if !kept[c] {
				c.Close()
			}
		}
	}
}

// Rules returns what is in force; nil before the first Apply.
func (e *Edge) Rules() *Rules { return e.rules.Load() }

// Filling is the number of fills that can be joined.
func (e *Edge) Filling() int { return e.fills.Len() }

// ServeHTTP answers one visitor.
func (e *Edge) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	x := e.exchanges.Get().(*exchange)
	defer x.end()
	x.begin(w, r)
	x.answer()
}

// memo remembers for a short while which keys had answers that are not for sharing,
// so that those who ask for them do not wait in line to learn it. Bounded.
type memo struct {
	mu    sync.Mutex
	until map[string]time.Time
}

const (
	memoSize = 8192
	memoTime = 10 * time.Second
)

func (m *memo) note(key string, now time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.until) >= memoSize {
		clear(m.until)
	}
	m.until[key] = now.Add(memoTime)
}

func (m *memo) holds(key []byte, now time.Time) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	until, ok := m.until[string(key)]
	return ok && now.Before(until)
}

func (m *memo) forget(key string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.until, key)
}
