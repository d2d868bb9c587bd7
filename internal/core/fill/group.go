package fill

import (
	"sync"

	"gerastic/internal/core/tags"
)

// Group holds the flights: those that requests can join, one a key, and all the others
// that have not ended.
type Group[H any] struct {
	stamp   func() tags.Stamp
	mu      sync.Mutex
	flights map[string]*Flight[H]
	aloft   map[*Flight[H]]struct{}
}

// NewGroup returns an empty group whose flights begin at the ledger sequence that stamp returns.
func NewGroup[H any](stamp func() tags.Stamp) *Group[H] {
	return &Group[H]{stamp: stamp, flights: map[string]*Flight[H]{}, aloft: map[*Flight[H]]struct{}{}}
}

// Part is a part in a flight.
type Part[H any] struct {
	Reader *Reader[H]
	Flight *Flight[H]
	Lead   bool       // the flight is new: whoever has the part must write to it, and end it
	Since  tags.Stamp // ledger sequence in force when the part was taken
}

// Join takes part in the flight for a key, or begins one. A flight that began at an earlier
// sequence may bring what is older than a purge that the request must respect (the purge
// barrier): it is joined only if spares says of what is known of its answer that no purge
// concerns it, else a new one takes its place. What the answer itself names is for the caller
// to judge when it comes. With spares nil, no such flight is joined.
//
// The sequence is read in the same step as the flight is registered: Disown finds every flight
// that began before it, so that none keeps a place of a ledger that was set back.
func (g *Group[H]) Join(key string, spares func(*tags.Subject) bool) Part[H] {
	g.mu.Lock()
	defer g.mu.Unlock()
	p := Part[H]{Since: g.stamp()}
	if p.Flight = g.flights[key]; !p.Flight.joinable(p.Since, spares) {
		p.Flight, p.Lead = g.take(key, p.Since), true
		g.flights[key] = p.Flight
	}
	p.Reader = p.Flight.reader()
	return p
}

// joinable: see Join.
func (f *Flight[H]) joinable(stamp tags.Stamp, spares func(*tags.Subject) bool) bool {
	if f == nil || f.Stamp >= stamp {
		return f != nil
	}
	known := f.known.Load()
	return known != nil && spares != nil && spares(known)
}

// Expects says what is known of the answer before it comes: where it was asked for, and the
// tags that it will carry in any case.
func (f *Flight[H]) Expects(s *tags.Subject) { f.known.Store(s) }

// Alone begins a flight that nobody can join, for an answer that is not for others.
func (g *Group[H]) Alone() Part[H] {
	g.mu.Lock()
	defer g.mu.Unlock()
	p := Part[H]{Since: g.stamp(), Lead: true}
	p.Flight = g.take("", p.Since)
	p.Reader = p.Flight.reader()
	return p
}

// take begins a flight. Under mu.
func (g *Group[H]) take(key string, stamp tags.Stamp) *Flight[H] {
	f := newFlight(g, key, stamp)
	g.aloft[f] = struct{}{}
	return f
}

// Oldest is the lowest stamp of the flights that have not ended; at most is returned if
// none is lower.
func (g *Group[H]) Oldest(most tags.Stamp) tags.Stamp {
	g.mu.Lock()
	defer g.mu.Unlock()
	for f := range g.aloft {
		most = min(most, f.Stamp)
	}
	return most
}

// Flying reports whether a fill for the key is under way that Join would join.
func (g *Group[H]) Flying(key string, spares func(*tags.Subject) bool) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.flights[key].joinable(g.stamp(), spares)
}

// Len is the number of flights that can be joined.
func (g *Group[H]) Len() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return len(g.flights)
}

func (f *Flight[H]) reader() *Reader[H] {
	f.mu.Lock()
	defer f.mu.Unlock()
	r := &Reader[H]{f: f}
	f.readers = append(f.readers, r)
	return r
}

// leave takes a flight out of reach of those who come later.
func (g *Group[H]) leave(f *Flight[H]) {
	g.mu.Lock()
	if g.flights[f.key] == f {
		delete(g.flights, f.key)
	}
	g.mu.Unlock()
}

// end forgets a flight.
func (g *Group[H]) end(f *Flight[H]) {
	g.leave(f)
	g.mu.Lock()
	delete(g.aloft, f)
	g.mu.Unlock()
}

// Disown takes every flight out of reach and keeps what it brings from being stored, those
// that nobody can join included: for a change that the ledger could not take. What a leader
// has stored at the same moment it must take out again.
func (g *Group[H]) Disown() {
	g.mu.Lock()
	defer g.mu.Unlock()
	for f := range g.aloft {
		f.disowned.Store(true)
	}
	clear(g.flights)
}

// Disowned tells the leader not to store.
func (f *Flight[H]) Disowned() bool { return f.disowned.Load() }

// Aloft is the number of flights that have not ended.
func (g *Group[H]) Aloft() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return len(g.aloft)
}

// Readers counts those who read flights that can be joined.
func (g *Group[H]) Readers() (n int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, f := range g.flights {
		f.mu.Lock()
		n += len(f.readers)
		f.mu.Unlock()
	}
	return n
}
