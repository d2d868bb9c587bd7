package meter

import (
	"sync"
	"sync/atomic"
	"time"
)

// Sample is one answered request, or one origin request that no visitor waited for
// (Outcome Behind).
type Sample struct {
	Route   string
	Outcome Outcome
	Cause   Cause
	Status  int
	Bytes   int64         // of the body, as sent
	Took    time.Duration // from the request read to the answer written
	Origin  bool          // it led to an origin request of its own
	Waited  time.Duration // how long that origin request took
	Saved   time.Duration // what the fill of the entry had cost, if no origin was needed
	Spent   Work          // what was done to make the answer
	Spared  Work          // what had been done to make what was there
}

// Key says what a cell counts.
type Key struct {
	Route   string
	Outcome Outcome
	Cause   Cause
	Status  int
}

// Cell sums the samples of one key.
type Cell struct {
	Requests       int64
	Bytes          int64
	OriginRequests int64
	OriginTime     time.Duration
	Saved          time.Duration
	Work           Amounts // nil: nobody counted any
	Latency        Histogram
}

// Add sums another cell into c.
func (c *Cell) Add(o *Cell) {
	c.Requests += o.Requests
	c.Bytes += o.Bytes
	c.OriginRequests += o.OriginRequests
	c.OriginTime += o.OriginTime
	c.Saved += o.Saved
	c.Latency.Add(&o.Latency)
	if o.Work != nil {
		c.work().Merge(o.Work)
	}
}

func (c *Cell) work() Amounts {
	if c.Work == nil {
		c.Work = Amounts{}
	}
	return c.Work
}

func (c *Cell) sample(s *Sample) {
	if s.Outcome != Behind {
		c.Requests++
		c.Latency.Observe(s.Took)
	}
	c.Bytes += s.Bytes
	c.Saved += s.Saved
	if s.Origin {
		c.OriginRequests++
		c.OriginTime += s.Waited
	}
	if s.Spent != "" {
		s.Spent.Each(func(name string, amount float64) { c.work().Add(name, Amount{Spent: amount}) })
	}
	if s.Spared != "" {
		s.Spared.Each(func(name string, amount float64) { c.work().Add(name, Amount{Saved: amount}) })
	}
}

// Cells are sums by key.
type Cells map[Key]*Cell

func (cs Cells) at(k Key) *Cell {
	c := cs[k]
	if c == nil {
		c = &Cell{}
		cs[k] = c
	}
	return c
}

// Merge adds all of other into cs.
func (cs Cells) Merge(other Cells) {
	for k, c := range other {
		cs.at(k).Add(c)
	}
}

const stripes = 16

// Stripe names one of the meter's parts. Callers that run on different cores should
// hold different ones, so that they do not wait for each other.
type Stripe uint32

// Meter counts. The zero value is ready. Safe for concurrent use.
type Meter struct {
	next  atomic.Uint32
	parts [stripes]struct {
		mu    sync.Mutex
		cells Cells
		_     [64]byte
	}

	mu     sync.Mutex
	totals Cells // since the start, as far as drained
}

// Stripe hands out the parts in turn.
func (m *Meter) Stripe() Stripe { return Stripe(m.next.Add(1) % stripes) }

// Record counts one sample.
func (m *Meter) Record(at Stripe, s *Sample) {
	p := &m.parts[at%stripes]
	p.mu.Lock()
	if p.cells == nil {
		p.cells = Cells{}
	}
	p.cells.at(Key{s.Route, s.Outcome, s.Cause, s.Status}).sample(s)
	p.mu.Unlock()
}

// RecordAll counts many samples at once.
func (m *Meter) RecordAll(at Stripe, all []Sample) {
	p := &m.parts[at%stripes]
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.cells == nil {
		p.cells = Cells{}
	}
	var last Key
	var cell *Cell
	for i := range all {
		s := &all[i]
		if k := (Key{s.Route, s.Outcome, s.Cause, s.Status}); cell == nil || k != last {
			last, cell = k, p.cells.at(k)
		}
		cell.sample(s)
	}
}

// Drain returns what was counted since the last call, and begins anew.
func (m *Meter) Drain() Cells {
	drained := Cells{}
	m.mu.Lock()
	defer m.mu.Unlock()
	for i := range m.parts {
		p := &m.parts[i]
		p.mu.Lock()
		cells := p.cells
		p.cells = nil
		p.mu.Unlock()
		drained.Merge(cells)
	}
	if m.totals == nil {
		m.totals = Cells{}
	}
	m.totals.Merge(drained)
	return drained
}

// Totals returns what was counted since the start: a copy.
func (m *Meter) Totals() Cells {
	all := Cells{}
	m.mu.Lock()
	defer m.mu.Unlock()
	all.Merge(m.totals)
	for i := range m.parts {
		p := &m.parts[i]
		p.mu.Lock()
		all.Merge(p.cells)
		p.mu.Unlock()
	}
	return all
}
