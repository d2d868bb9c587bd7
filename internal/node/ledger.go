package node

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// follower applies the ledger, in its order, each purge once: whether it was ordered
// here or on another node.
type follower struct {
	mu      sync.Mutex // held while reading and applying
	applied tags.Stamp // last sequence applied
	sweeps  map[tags.Stamp]*sweep
	orders  chan *order // to be written
	counted chan *sweep // to be noted
	noted   signal      // some node has noted what purges did there
}

// order is a purge on its way into the ledger.
type order struct {
	records.Order
	ctx      context.Context
	sequence tags.Stamp
	live     []string // nodes that must apply it
	err      error
	done     chan struct{}
}

// sweep is the counting and freeing of what a purge matched, which goes on after the
// purge is in force.
type sweep struct {
	records.Noted               // complete when done is closed
	done          chan struct{} // closed when it is in the ledger, too
}

// signal wakes everyone who waits.
type signal struct {
	mu sync.Mutex
	c  chan struct{}
}

func (s *signal) next() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.c == nil {
		s.c = make(chan struct{})
	}
	return s.c
}

func (s *signal) wake() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.c != nil {
		close(s.c)
		s.c = nil
	}
}

// ErrNoDatabase says that the database cannot be reached now.
var ErrNoDatabase = errors.New("no connection")

// Records is the database, or ErrNoDatabase.
func (n *Node) Records() (*records.Records, error) {
	if rec := n.records.Load(); rec != nil {
		return rec, nil
	}
	return nil, ErrNoDatabase
}

// patience is how long a purge waits for other nodes, at most, before it names those
// that have not applied it.
const patience = 5 * time.Second

// Purge writes a purge to the ledger and returns when every live node has applied it
// and counted what it took, or patience has run out; this node comes first.
func (n *Node) Purge(ctx context.Context, p tags.Purge, actor, reason string) (tags.Stamp, []records.Applied, error) {
	rec, err := n.Records()
	if err != nil {
		return 0, nil, err
	}
	if !p.IsText() || !tags.IsText(reason) {
		return 0, nil, errors.New("a name in the purge, or its reason, is no text, and the ledger takes nothing else")
	}
	o := &order{Order: records.Order{Purge: p, Actor: actor, Reason: reason}, ctx: ctx, done: make(chan struct{})}
	select {
	case n.ledger.orders <- o:
	case <-ctx.Done():
		return 0, nil, context.Cause(ctx)
	case <-n.life.Done():
		return 0, nil, errors.New("the node is stopping")
	}
	select {
	case <-o.done:
	case <-ctx.Done():
		return 0, nil, fmt.Errorf("the ledger did not answer in time; the purge may still come into force: %w", context.Cause(ctx))
	case <-n.life.Done():
		return 0, nil, errors.New("the node is stopping")
	}
	if o.err != nil {
		return 0, nil, o.err
	}
	// It is in the ledger now: whatever happens to the caller, it is applied.
	ctx = context.WithoutCancel(ctx)
	s := n.sweepOf(o.sequence)
	if s == nil {
		if err := n.catchUp(ctx, rec); err != nil {
			// The ledger could be written but not read: what lies before our own purge
			// nobody knows, so that everything counts as purged.
			n.ledger.mu.Lock()
			n.applyLocked(records.Purge{Purge: tags.Purge{Sequence: o.sequence, All: true}, At: time.Now()})
			n.ledger.mu.Unlock()
		}
		if s = n.sweepOf(o.sequence); s == nil {
			return o.sequence, nil, fmt.Errorf("purge %d is in force, but was not counted", o.sequence)
		}
	}
	select {
	case <-s.done:
	case <-n.life.Done():
		return o.sequence, nil, fmt.Errorf("purge %d is in force, but the node stops before it is counted", o.sequence)
	}
	return o.sequence, append([]records.Applied{s.Applied}, n.elsewhere(ctx, rec, o)...), nil
}

func (n *Node) sweepOf(sequence tags.Stamp) *sweep {
	n.ledger.mu.Lock()
	defer n.ledger.mu.Unlock()
	return n.ledger.sweeps[sequence]
}

// elsewhere waits until the other live nodes have noted what a purge did there. A node
// that has not by then is returned without a time.
func (n *Node) elsewhere(ctx context.Context, rec *records.Records, o *order) []records.Applied {
	others := slices.DeleteFunc(o.live, func(name string) bool { return name == n.settings.Name })
	if len(others) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, min(patience, n.settings.SyncLimit/2))
	defer cancel()
	for {
		next := n.ledger.noted.next()
		p, err := rec.Purge(ctx, o.sequence)
		var applied []records.Applied
		missing := false
		for _, name := range others {
			if i := slices.IndexFunc(p.Applied, func(a records.Applied) bool { return a.Node == name }); i >= 0 {
				applied = append(applied, p.Applied[i])
			} else {
				applied = append(applied, records.Applied{Node: name, Missing: true})
				missing = true
			}
		}
		if err == nil && !missing || ctx.Err() != nil {
			return applied
		}
		select {
		case <-next:
		case <-time.After(250 * time.Millisecond): // the table is the truth
		case <-ctx.Done():
		case <-n.life.Done():
			return applied
		}
	}
}

// batch is how many purges are written, read or noted at a time.
const batch = 500

// gather takes one from a queue and all that wait behind it.
func gather[T any](ctx context.Context, queue <-chan T) (all []T) {
	select {
	case v := <-queue:
		all = append(all, v)
	case <-ctx.Done():
		return nil
	}
	for len(all) < batch {
		select {
		case v := <-queue:
			all = append(all, v)
		default:
			return all
		}
	}
	return all
}

// writeOrders puts what is ordered at the same time into the ledger in one transaction.
func (n *Node) writeOrders() {
	for orders := gather(n.life, n.ledger.orders); orders != nil; orders = gather(n.life, n.ledger.orders) {
		orders = slices.DeleteFunc(orders, func(o *order) bool {
			if o.err = context.Cause(o.ctx); o.err != nil { // the caller has given up
				close(o.done)
			}
			return o.err != nil
		})
		if len(orders) == 0 {
			continue
		}
		written := make([]records.Order, len(orders))
		for i, o := range orders {
			written[i] = o.Order
		}
		var first tags.Stamp
		var live []string
		var at time.Time
		rec, err := n.Records()
		if err == nil {
			ctx, cancel := context.WithTimeout(n.life, 10*time.Second)
			first, at, live, err = rec.Append(ctx, n.settings.Name, written, n.settings.SyncLimit)
			cancel()
		}
		if err == nil {
			n.applyOwn(first, at, written)
		}
		for i, o := range orders {
			o.sequence, o.live, o.err = first+tags.Stamp(i), slices.Clone(live), err
			close(o.done)
		}
	}
}

// applyOwn applies what this node has written itself, unless something that it has not
// read yet comes before it.
func (n *Node) applyOwn(first tags.Stamp, at time.Time, written []records.Order) {
	n.ledger.mu.Lock()
	defer n.ledger.mu.Unlock()
	if n.ledger.applied != first-1 {
		return
	}
	for i, o := range written {
		o.Sequence = first + tags.Stamp(i)
		n.applyLocked(records.Purge{Purge: o.Purge, At: at})
	}
}

// noteSweeps writes to the ledger what purges did here.
func (n *Node) noteSweeps() {
	for sweeps := gather(n.life, n.ledger.counted); sweeps != nil; sweeps = gather(n.life, n.ledger.counted) {
		all := make([]records.Noted, len(sweeps))
		for i, s := range sweeps {
			all[i] = s.Noted
		}
		rec, err := n.Records()
		if err == nil {
			ctx, cancel := context.WithTimeout(n.life, 10*time.Second)
			err = rec.Note(ctx, all)
			cancel()
		}
		if err != nil {
			n.log.Warn("what purges took could not be noted in the ledger", "purges", len(all), "error", err)
		}
		for _, s := range sweeps {
			close(s.done)
		}
	}
}

// catchUp applies what the ledger has beyond what this node has applied.
func (n *Node) catchUp(ctx context.Context, rec *records.Records) error {
	n.ledger.mu.Lock()
	defer n.ledger.mu.Unlock()
	for {
		reading, cancel := context.WithTimeout(ctx, 10*time.Second)
		purges, err := rec.Since(reading, n.ledger.applied, batch)
		cancel()
		if err != nil {
			return err
		}
		if len(purges) > 0 && purges[0].Sequence != n.ledger.applied+1 {
			// The ledger does not reach back to where we were.
			n.log.Warn("this node was away for longer than the ledger is kept; everything counts as purged", "applied", n.ledger.applied, "next", purges[0].Sequence)
			n.marks.Apply(tags.Purge{Sequence: purges[0].Sequence, All: true})
		}
		for _, p := range purges {
			n.applyLocked(p)
		}
		if len(purges) < batch {
			return nil
		}
	}
}

// keptSweeps is how many results are kept for those who ordered the purges.
const keptSweeps = 4096

func (n *Node) applyLocked(p records.Purge) {
	n.marks.Apply(p.Purge)
	n.edge.Account()
	marked := time.Now()
	n.ledger.applied = max(n.ledger.applied, p.Sequence)
	if n.ledger.sweeps[p.Sequence] != nil {
		return
	}
	// The ledger's clock is the database's; where it differs, the figure is off by that.
	s := &sweep{done: make(chan struct{}), Noted: records.Noted{Sequence: p.Sequence, Applied: records.Applied{Node: n.settings.Name, Took: max(0, marked.Sub(p.At))}}}
	n.ledger.sweeps[p.Sequence] = s
	delete(n.ledger.sweeps, p.Sequence-keptSweeps)
	n.run(func() {
		s.Matched = n.store.Sweep(p.Purge)
		s.Sweep = time.Since(marked)
		select {
		case n.ledger.counted <- s:
		case <-n.life.Done():
			close(s.done)
		}
	})
}

// beat tells the other nodes that this one lives. They wait for it with their purges
// until the sync limit has passed since it last said so; so this one trusts what it has
// stored for a shorter time, counted from before it said so, and only when it has read
// the ledger after that: a purge that nobody waited for is known by then.
func (n *Node) beat() {
	told := false
	for n.life.Err() == nil {
		began := time.Now()
		ctx, cancel := context.WithTimeout(n.life, n.settings.SyncLimit/2)
		err := ErrNoDatabase
		if rec := n.records.Load(); rec != nil {
			again := n.edge.Lost(began)
			if again {
				_, err = rec.Arrive(ctx, n.presence(), n.marks.Stamp())
			} else {
				err = rec.Beat(ctx, n.presence(), n.marks.Stamp())
			}
			if errors.Is(err, records.ErrNotFound) {
				n.knows(time.Unix(0, 0)) // nobody waits for this one
				err = errors.New("another node took this one's name; give each node a name of its own, with --node")
			}
			if err == nil {
				err = n.catchUp(ctx, rec)
			}
			if err == nil && !again && n.edge.Lost(time.Now()) {
				err = errors.New("the database took too long")
			}
		}
		cancel()
		if err == nil {
			n.knows(began)
		}
		switch lost := n.edge.Lost(time.Now()); {
		case lost && !told:
			n.log.Error("the ledger is not known any more; everything is revalidated before it is served", "error", err)
			told = true
		case !lost && told:
			n.log.Info("the ledger is known again")
			told = false
		}
		n.pause(min(time.Second, n.settings.SyncLimit/10))
	}
}

// knows: the others were told at a time that this node lives, and the ledger was read
// after it.
func (n *Node) knows(told time.Time) {
	if !n.settings.ServeOn {
		n.edge.KnownUntil.Store(max(1, told.Add(n.settings.SyncLimit*4/5).UnixNano())) // 0 would be for ever
	}
}

func (n *Node) presence() records.Presence {
	return records.Presence{Name: n.settings.Name, Control: n.ControlURL(), Started: n.started}
}

// manyMarks is how many purges come together before it is worth looking at every entry
// to forget them.
const manyMarks = 1000

// tidy forgets what nothing needs any more.
func (n *Node) tidy() {
	for n.life.Err() == nil {
		n.pause(30 * time.Second)
		n.store.SweepIdle(time.Now(), 10_000)
		n.fragments.Leases.Sweep(time.Now())
		if n.marks.Len() >= manyMarks {
			n.edge.Compact()
		}
		n.edge.Account()
	}
}

// keepConnected follows the ledger while there is a database, and looks for one while
// there is none.
func (n *Node) keepConnected() {
	for n.life.Err() == nil {
		rec := n.records.Load()
		if rec == nil {
			if err := n.connect(n.life); err != nil {
				n.log.Warn("the database still cannot be reached", "error", err)
				n.pause(2 * time.Second)
			} else {
				n.log.Info("connected to the database")
			}
			continue
		}
		n.follow(rec)
		n.pause(500 * time.Millisecond)
	}
}

// follow hears of the ledger's growth, and reads it once a second besides: the table is
// the truth, a notice may be lost.
func (n *Node) follow(rec *records.Records) {
	ctx, cancel := context.WithCancel(n.life)
	defer cancel()
	wake := make(chan struct{}, 1)
	n.run(func() {
		_ = rec.Follow(ctx, n.settings.Name, func() {
			select {
			case wake <- struct{}{}:
			default:
			}
		}, n.ledger.noted.wake)
		cancel()
	})
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		ticked := false
		select {
		case <-ctx.Done():
			return
		case <-wake:
		case <-tick.C:
			ticked = true
		}
		reading, stop := context.WithTimeout(ctx, max(time.Second, n.settings.SyncLimit/2))
		err := n.catchUp(reading, rec)
		stop()
		if err == nil && ticked {
			err = n.reloadShared(ctx, rec)
		}
		if err != nil && ctx.Err() == nil {
			n.log.Warn("the ledger cannot be read", "error", err)
			return
		}
	}
}

func (n *Node) pause(d time.Duration) {
	select {
	case <-n.life.Done():
	case <-time.After(d):
	}
}
