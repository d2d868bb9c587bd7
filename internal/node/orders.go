package node

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// pendingPurge is a purge on its way into the ledger.
type pendingPurge struct {
	records.Order
	ctx      context.Context
	position records.Position
	live     []records.Alive // nodes that must apply it
	restarts int             // of this node's ledger, when it was ordered
	err      error
	done     chan struct{}
}

// patience is how long a purge waits for other nodes, at most, before it names those
// that have not applied it.
const patience = 5 * time.Second

// Purge writes a purge to the ledger and returns when every live node has applied it
// and counted what it took, or patience has run out, or ctx has ended; this node comes first.
func (n *Node) Purge(ctx context.Context, p tags.Purge, actor, reason string) (tags.Stamp, []records.Applied, error) {
	rec, err := n.Records()
	if err != nil {
		return 0, nil, err
	}
	o, own, err := n.order(ctx, rec, p, actor, reason)
	if o == nil {
		return 0, nil, err
	}
	if err != nil {
		return o.position.Sequence, nil, err
	}
	return o.position.Sequence, append([]records.Applied{own}, n.elsewhere(ctx, rec, o)...), nil
}

// errTakenBack says that the ledger was set back to before a purge, which this node had not
// read by then: it is nowhere in force.
var errTakenBack = errors.New("the ledger was set back to before the purge")

// order brings a purge into the ledger and into force on this node; once more if the ledger loses
// it before this node has read it. With an error and a pending purge it is in the ledger, and
// nobody knows whether it is in force here.
func (n *Node) order(ctx context.Context, rec records.Records, p tags.Purge, actor, reason string) (*pendingPurge, records.Applied, error) {
	for {
		o, err := n.write(ctx, p, actor, reason)
		if err != nil {
			return nil, records.Applied{}, err
		}
		own, err := n.ownPart(ctx, rec, o)
		if !errors.Is(err, errTakenBack) {
			return o, own, err
		}
	}
}

// write brings a purge into the ledger.
func (n *Node) write(ctx context.Context, p tags.Purge, actor, reason string) (*pendingPurge, error) {
	if !p.IsText() || !protocol.IsText(reason) {
		return nil, fmt.Errorf("a name in the purge, or its reason, is not text, and the ledger takes nothing else")
	}
	o := &pendingPurge{Order: records.Order{Purge: p, Actor: actor, Reason: reason}, ctx: ctx, restarts: n.ledger.restarts(), done: make(chan struct{})}
	select {
	case n.ledger.orders <- o:
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	case <-n.tasks.Life().Done():
		return nil, records.ErrStopping
	}
	select {
	case <-o.done:
		return o, o.err
	case <-ctx.Done():
		return nil, fmt.Errorf("%w: %w", records.ErrUnsure, context.Cause(ctx))
	case <-n.tasks.Life().Done():
		return nil, fmt.Errorf("%w: %w", records.ErrUnsure, records.ErrStopping)
	}
}

// ownPart makes sure that an order which is in the ledger is in force here, whatever happens to
// the caller, and says what it took, as far as that is counted before ctx ends. errTakenBack: the
// ledger does not have it any more.
func (n *Node) ownPart(ctx context.Context, rec records.Records, o *pendingPurge) (records.Applied, error) {
	own := records.Applied{Node: n.settings.Name}
	s := n.sweepOf(o.position)
	if s == nil {
		if err := n.catchUp(ctx, rec); err != nil {
			return own, fmt.Errorf("the ledger has the purge, but cannot be read, so that it is not known whether it is in force here: %w", err)
		}
		if s = n.sweepOf(o.position); s == nil && n.ledger.restarts() == o.restarts {
			return own, errTakenBack
		} else if s == nil {
			return own, nil // everything was purged on the way
		}
	}
	select {
	case <-s.done:
	case <-ctx.Done():
	case <-n.tasks.Life().Done():
	}
	select {
	case <-s.swept:
		return s.Applied, nil
	default:
		return own, nil
	}
}

// sweepOf is what a purge did here; nil if it is not in force. One that had the number in another
// history of the ledger is none.
func (n *Node) sweepOf(at records.Position) *sweep {
	n.ledger.mu.Lock()
	defer n.ledger.mu.Unlock()
	if s := n.ledger.sweeps[at.Sequence]; s != nil && s.Position == at {
		return s
	}
	return nil
}

// silence remembers the nodes that did not note a purge in time, so that visitors' requests do
// not wait for a node that is dead until all have forgotten it.
type silence struct {
	mu    sync.Mutex
	since map[string]time.Time // what it was seen at when it did not answer
}

// record says what became of waiting for a node.
func (s *silence) record(node records.Alive, answered bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if answered {
		delete(s.since, node.Name)
		return
	}
	if s.since == nil || len(s.since) > 1000 {
		s.since = map[string]time.Time{}
	}
	s.since[node.Name] = node.Seen
}

// of reports whether a node has said nothing since it did not answer.
func (s *silence) of(node records.Alive) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	since, known := s.since[node.Name]
	return known && !node.Seen.After(since)
}

// elsewhere waits until the other live nodes have noted what a purge did there. A node
// that has not by then is returned without a time.
func (n *Node) elsewhere(ctx context.Context, rec records.Records, o *pendingPurge) []records.Applied {
	others := slices.DeleteFunc(o.live, func(a records.Alive) bool { return a.Name == n.settings.Name })
	if len(others) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, min(patience, n.settings.SyncLimit/2))
	defer cancel()
	for {
		next := n.ledger.noted.next()
		p, err := rec.At(ctx, o.position)
		var applied []records.Applied
		missing := false
		for _, node := range others {
			i := slices.IndexFunc(p.Applied, func(a records.Applied) bool { return a.Node == node.Name })
			if i >= 0 {
				applied = append(applied, p.Applied[i])
			} else {
				applied = append(applied, records.Applied{Node: node.Name, Missing: true})
				missing = true
			}
			if i >= 0 || ctx.Err() != nil {
				n.ledger.silent.record(node, i >= 0)
			}
		}
		if err == nil && !missing || ctx.Err() != nil {
			return applied
		}
		select {
		case <-next:
		case <-time.After(250 * time.Millisecond): // the table is the truth
		case <-ctx.Done():
		case <-n.tasks.Life().Done():
			return applied
		}
	}
}

// writeOrders puts what is ordered at the same time into the ledger in one transaction.
func (n *Node) writeOrders() {
	for orders := gather(n.tasks.Life(), n.ledger.orders); orders != nil; orders = gather(n.tasks.Life(), n.ledger.orders) {
		orders = slices.DeleteFunc(orders, func(o *pendingPurge) bool {
			if o.err = context.Cause(o.ctx); o.err != nil { // the caller has given up
				close(o.done)
			}
			return o.err != nil
		})
		if len(orders) == 0 {
			continue
		}
		n.ledger.writing.Store(time.Now().UnixNano())
		n.writeTogether(orders)
		n.ledger.writing.Store(0)
	}
}

// writeTogether writes orders in one transaction, or, if the database refuses one of them,
// one by one: what one asks for must not make those of others fail.
func (n *Node) writeTogether(orders []*pendingPurge) {
	written := make([]records.Order, len(orders))
	for i, o := range orders {
		written[i] = o.Order
	}
	w, err := n.append(n.tasks.Life(), written)
	if len(orders) > 1 && records.Unwritable(err) {
		for _, o := range orders {
			n.writeTogether([]*pendingPurge{o})
		}
		return
	}
	for i, o := range orders {
		if o.err = err; err == nil {
			o.position, o.live = records.Position{Sequence: w.First + tags.Stamp(i), RowID: w.RowIDs[i]}, slices.Clone(w.Live)
		}
		close(o.done)
	}
}

// append writes orders to the ledger, and applies them.
func (n *Node) append(ctx context.Context, orders []records.Order) (w records.Written, err error) {
	rec, err := n.Records()
	if err != nil {
		return w, err
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if w, err = rec.Append(ctx, n.settings.Name, orders, n.settings.SyncLimit); err == nil {
		n.applyOwn(w, orders)
	}
	return w, err
}

// applyOwn applies what this node has written itself, unless something that it has not
// read yet comes before it.
func (n *Node) applyOwn(w records.Written, orders []records.Order) {
	n.ledger.mu.Lock()
	defer n.ledger.mu.Unlock()
	if n.ledger.at != w.Before {
		return
	}
	for i, o := range orders {
		e := records.Entry{Purge: records.Purge{Purge: o.Purge, At: w.At}, Mark: w.RowIDs[i]}
		e.Sequence = w.First + tags.Stamp(i)
		n.applyLocked(e)
	}
}

// soon is how long a visitor waits, at most, until what their request changed is known to
// every node.
const soon = time.Second

// Invalidate carries out what an origin's answer calls for: like Purge, but nobody waits for it
// for longer than a moment. When the ledger does not take it within that, it is kept on disk
// and written to the ledger as soon as that can be, before this node believes again what it
// reads there; it is not in force here then, and the error says so.
func (n *Node) Invalidate(ctx context.Context, p tags.Purge, actor, reason string) error {
	ctx, cancel := context.WithTimeout(ctx, soon)
	defer cancel()
	err := n.ledgerAnswers()
	if err == nil {
		err = n.invalidate(ctx, p, actor, reason)
	}
	if err == nil {
		return nil
	}
	if kept := n.owed.owe(records.Order{Purge: p, Actor: actor, Reason: reason}); kept != nil {
		n.log.Error("an invalidation can neither be written to the ledger nor be kept on disk: other nodes will not hear of it", "error", err, "disk", kept)
	}
	return err
}

func (n *Node) invalidate(ctx context.Context, p tags.Purge, actor, reason string) error {
	rec, err := n.Records()
	if err != nil {
		return err
	}
	o, _, err := n.order(ctx, rec, p, actor, reason)
	if err != nil {
		return err
	}
	o.live = slices.DeleteFunc(o.live, n.ledger.silent.of)
	n.elsewhere(ctx, rec, o)
	return nil
}

// ledgerAnswers says why it is of no use to wait for the ledger; nil if there is no reason.
func (n *Node) ledgerAnswers() error {
	now := time.Now()
	if _, err := n.Records(); err != nil {
		return err
	}
	if n.barrier.Lost(now) {
		return fmt.Errorf("the ledger is not known")
	}
	if since := n.ledger.writing.Load(); since != 0 && now.Sub(time.Unix(0, since)) > soon {
		return fmt.Errorf("the ledger has not answered for %v", now.Sub(time.Unix(0, since)).Round(time.Millisecond))
	}
	return nil
}
