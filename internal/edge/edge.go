// Package edge is the handler that visitors reach. One request goes one way through:
// match → key → find → decide → serve, join or lead → record.
package edge

import (
	"context"
	"hash/maphash"
	"log/slog"
	"net/http"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/origin"
)

// Purger puts a purge that an origin's answer calls for into the ledger and applies
// it. It returns when the purge is in force on this node.
type Purger func(ctx context.Context, p tags.Purge, actor, reason string) error

// Config are what an edge works with.
type Config struct {
	Store *store.Memory
	Marks *tags.Marks
	// Trust is until when the marks say all; beyond it what is stored is served only after its
	// origin has confirmed it. nil: for ever.
	Trust   *tags.Trust
	Leases  *fill.Leases // of those who fill fragments; nil: there are none
	Meter   *meter.Meter
	Purge   Purger
	Log     *slog.Logger
	Now     func() time.Time
	Trusted origin.Trusted
	// MayExplain tells whether a token in Gerastic-Explain may see keys; nil: none may.
	MayExplain func(token string) bool
	// Found takes the findings of comparisons; nil: hits are not compared.
	Found func(Finding)
	// Streams is how many requests may be under way at a time on connections that several of
	// them share (HTTP/2); 0: as many as come.
	Streams int64
}

// Edge serves visitors.
type Edge struct {
	Config
	rules      atomic.Pointer[Rules]
	fills      *fill.Group[*head]
	unshared   memo[unshared]         // keys whose last answer was not for others
	varied     memo[[]string]         // fields that the origin's Vary named for a key
	searches   memo[httprules.Search] // the No-Vary-Search rules of paths
	comparer   comparer
	doubts     doubts
	forgets    atomic.Uint64 // odd while one is under way
	compressor *compressor
	watching   watchers
	exchanges  sync.Pool
	streams    atomic.Int64 // requests under way on shared connections

	life   context.Context // ends with Shutdown
	end    context.CancelFunc
	tasks  sync.WaitGroup
	ending sync.RWMutex // held to end, and to begin a task
}

// Rules are a policy with its switches and the ways to its origins. Immutable; a node
// swaps one for another.
type Rules struct {
	Policy  *policy.Policy
	Off     map[string]bool // routes switched off at run time
	AllOff  bool
	clients map[*policy.Origin]*origin.Client
	tallies []tally // of the policy's routes
}

// Enabled tells whether a route is on: in the policy and by its switch.
func (r *Rules) Enabled(route *policy.Route) bool {
	return r.Policy.Enabled && !r.AllOff && route.Enabled && !r.Off[route.Name]
}

// Off tells whether a name that no policy has, that of fragments, is switched off, or all is.
func (e *Edge) Off(route string) bool {
	r := e.rules.Load()
	return r != nil && (!r.Policy.Enabled || r.AllOff || r.Off[route])
}

// New returns an edge without rules; it answers 503 until Apply.
func New(parts Config) *Edge {
	if parts.Trust == nil {
		parts.Trust = &tags.Trust{}
	}
	if parts.Leases == nil {
		parts.Leases = fill.NewLeases(0)
	}
	edge := &Edge{Config: parts, fills: fill.NewGroup[*head]()}
	edge.life, edge.end = context.WithCancel(context.Background())
	edge.doubts.edge = edge
	edge.compressor = edge.newCompressor()
	edge.exchanges.New = func() any {
		x := &exchange{edge: edge, stripe: edge.Meter.Stripe(), key: make([]byte, 0, 512)}
		x.sent = origin.Sent{Request: &x.req, Trusted: edge.Trusted}
		return x
	}
	return edge
}

// run does something on its own that Shutdown waits for; it reports false, and does
// nothing, when the edge has ended.
func (e *Edge) run(task func()) bool {
	e.ending.RLock()
	defer e.ending.RUnlock()
	if e.life.Err() != nil {
		return false
	}
	e.tasks.Go(task)
	return true
}

// Shutdown ends what goes on behind visitors: fills that nobody reads any more,
// refreshes, comparisons, compression, probes of origins. It is called when no visitor is
// served any more, and returns when all has ended, or with the context's error.
func (e *Edge) Shutdown(ctx context.Context) error {
	e.ending.Lock()
	e.end()
	e.ending.Unlock()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		e.tasks.Wait()
		if rules := e.rules.Load(); rules != nil {
			for _, c := range rules.clients {
				c.Close()
			}
		}
	}()
	select {
	case <-ended:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Apply puts rules in force for the requests that come from now on. Connections to
// origins that stay the same are kept.
func (e *Edge) Apply(p *policy.Policy, off map[string]bool, allOff bool) {
	next := &Rules{Policy: p, Off: off, AllOff: allOff, clients: map[*policy.Origin]*origin.Client{}, tallies: make([]tally, len(p.Routes))}
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

// URLForms names the entries of a URL, by the policy in force.
func (e *Edge) URLForms(host, path, query string, anyQuery bool) []tags.URL {
	return e.rules.Load().Policy.URLForms(host, path, query, anyQuery)
}

// Filling is the number of fills that can be joined.
func (e *Edge) Filling() int { return e.fills.Len() }

// Lost tells whether purges of other nodes may be missing here at a time.
func (e *Edge) Lost(now time.Time) bool { return e.Trust.Lost(now) }

// Forget takes out of use what a purge names, here and now, without a place in the ledger: what
// is stored, and what fills that are under way would store.
func (e *Edge) Forget(p tags.Purge) {
	e.forgets.Add(1)
	defer e.forgets.Add(1)
	e.fills.Disown() // first: what is stored meanwhile is found by the sweep, or by who stores it
	e.Leases.Disown()
	p.Sequence = ^tags.Stamp(0)
	e.Store.Sweep(p)
}

// Account counts what the edge remembers besides entries against the memory limit: marks
// and memos.
func (e *Edge) Account() {
	e.Store.SetAside(e.Marks.Bytes() + e.unshared.bytes() + e.varied.bytes() + e.searches.bytes() + e.comparer.found.bytes() + e.doubts.last.bytes())
}

// Compact forgets the marks that neither an entry nor a fill under way needs.
func (e *Edge) Compact() {
	// In this order: a fill that begins after the first line is not older than it, and one
	// that ends meanwhile was counted by the second.
	upTo := e.Marks.Stamp()
	upTo = e.Leases.Oldest(e.fills.Oldest(upTo))
	e.Marks.Compact(min(upTo, e.Store.Compactable(e.Marks)))
}

// ServeHTTP answers one visitor.
func (e *Edge) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	x := e.exchanges.Get().(*exchange)
	defer x.end()
	if r.ProtoMajor != 2 {
		x.begin(w, r)
		x.answer()
		return
	}
	under := e.streams.Add(1)
	defer e.streams.Add(-1)
	x.begin(w, r)
	if e.Streams > 0 && under > e.Streams {
		x.refuse(http.StatusServiceUnavailable, "too many requests are under way; try again", meter.Route)
		return
	}
	x.answer()
}

// unshared is what is remembered of an answer that was not for others.
type unshared struct {
	until  time.Time        // those who ask for it until then do not wait in line to learn it
	rule   httprules.Reason // why it was not stored; OK if it was, but not fresh
	status int
	at     time.Time
	tries  int // so often in a row
}

// loneTime is for how long those who ask for such a key do not wait for one another. Where
// trying again costs a request more than the visitor needs, it doubles up to mostLone.
const (
	loneTime = 10 * time.Second
	mostLone = 10 * time.Minute
)

// memo remembers something about keys, by their hash: what it says is a hint, or is
// checked by who asks. It is bounded: when it is full it forgets all, which costs a request
// or two.
type memo[V any] struct {
	mu   sync.RWMutex
	kept map[uint64]V
	size atomic.Int64
}

const memoSize = 8192

var memoSeed = maphash.MakeSeed()

func (m *memo[V]) note(key string, v V) {
	hash := maphash.String(memoSeed, key)
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.kept == nil || len(m.kept) >= memoSize {
		m.kept = map[uint64]V{}
	}
	m.kept[hash] = v
	m.size.Store(int64(len(m.kept)))
}

// bytes is about what the memo takes.
func (m *memo[V]) bytes() int64 {
	var v V
	return m.size.Load() * (48 + int64(unsafe.Sizeof(v)))
}

func (m *memo[V]) any() bool { return m.size.Load() > 0 }

func (m *memo[V]) of(key string) (v V, ok bool) {
	if !m.any() {
		return v, false
	}
	hash := maphash.String(memoSeed, key)
	m.mu.RLock()
	defer m.mu.RUnlock()
	v, ok = m.kept[hash]
	return v, ok
}

func (m *memo[V]) forget(key string) {
	if !m.any() {
		return
	}
	hash := maphash.String(memoSeed, key)
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.kept, hash)
	m.size.Store(int64(len(m.kept)))
}
