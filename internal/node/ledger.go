package node

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// follower applies the ledger, in its order, each purge once: whether it was ordered
// here or on another node.
type follower struct {
	mu      sync.Mutex       // held while reading and applying
	at      records.Position // of the last purge applied
	started int              // how often this node began anew, see startOver
	sweeps  map[tags.Stamp]*sweep
	unswept map[tags.Stamp]*sweep // of them, or older, those that are under way
	orders  chan *pendingPurge    // to be written
	writing atomic.Int64          // unix ns since when some are being written; 0: none are
	counted chan *sweep           // to be noted
	noted   signal                // some node has noted what purges did there
	silent  silence
}

// restarts is how often this node began anew.
func (f *follower) restarts() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.started
}

// sweep is the counting and freeing of what a purge matched, which goes on after the
// purge is in force.
type sweep struct {
	records.Ack               // complete when swept is closed
	swept       chan struct{} // closed when all is counted
	done        chan struct{} // closed when it is in the ledger, too
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
func (n *Node) Records() (records.Records, error) {
	if rec := n.known(); rec != nil {
		return rec, nil
	}
	return nil, ErrNoDatabase
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

// noteSweeps writes to the ledger what purges did here.
func (n *Node) noteSweeps() {
	for sweeps := gather(n.tasks.Life(), n.ledger.counted); sweeps != nil; sweeps = gather(n.tasks.Life(), n.ledger.counted) {
		all := make([]records.Ack, len(sweeps))
		for i, s := range sweeps {
			all[i] = s.Ack
		}
		rec, err := n.Records()
		if err == nil {
			ctx, cancel := context.WithTimeout(n.tasks.Life(), 10*time.Second)
			err = rec.Acknowledge(ctx, all)
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
func (n *Node) catchUp(ctx context.Context, rec records.Records) error {
	n.ledger.mu.Lock()
	defer n.ledger.mu.Unlock()
	for {
		reading, cancel := context.WithTimeout(ctx, 10*time.Second)
		purges, err := rec.Since(reading, n.ledger.at, batch)
		cancel()
		if errors.Is(err, records.ErrOtherHistory) {
			return n.startOver(ctx, rec)
		}
		if err != nil {
			return err
		}
		for _, p := range purges {
			n.applyLocked(p)
		}
		if len(purges) < batch {
			return nil
		}
	}
}

// startOver goes to the ledger's newest place, because the one that this node was at is not
// there any more: purges that it knows may be gone, and others may have come in their place.
// Everything counts as purged. Under ledger.mu.
func (n *Node) startOver(ctx context.Context, rec records.Records) error {
	at, err := rec.Newest(ctx)
	if err != nil {
		return err
	}
	n.log.Error("the ledger was set back, or this node was away for longer than it is kept; everything counts as purged", "applied", n.ledger.at.Sequence, "newest", at.Sequence)
	n.ledger.at, n.ledger.sweeps = at, map[tags.Stamp]*sweep{}
	n.barrier.Rewind(at.Sequence)
	n.barrier.Forget(tags.Purge{All: true})
	n.ledger.started++
	return nil
}

// keptSweeps is how many results are kept for those who ordered the purges.
const keptSweeps = 4096

func (n *Node) applyLocked(p records.Entry) {
	n.barrier.Apply(p.Purge.Purge)
	n.account()
	n.onward.Wake()
	marked := time.Now()
	n.ledger.at = records.Position{Sequence: p.Sequence, RowID: p.Mark}
	// The ledger's clock is the database's; where it differs, the figure is off by that.
	s := &sweep{swept: make(chan struct{}), done: make(chan struct{}), Ack: records.Ack{Position: n.ledger.at, Applied: records.Applied{Node: n.settings.Name, Took: max(0, marked.Sub(p.At))}}}
	n.ledger.sweeps[p.Sequence], n.ledger.unswept[p.Sequence] = s, s
	delete(n.ledger.sweeps, p.Sequence-keptSweeps)
	take := func() {
		s.Matched = n.store.Sweep(p.Purge.Purge)
		s.Sweep = time.Since(marked)
		close(s.swept)
		n.warm.Purged()
		n.fragments.Purged()
		n.ledger.sweptOf(s)
		select {
		case n.ledger.counted <- s:
		case <-n.tasks.Life().Done():
			close(s.done)
		}
	}
	if !n.tasks.Go(take) {
		n.ledger.mu.Unlock()
		take() // the node ends; whoever ordered it still wants to know
		n.ledger.mu.Lock()
	}
}

// sweptOf notes that a sweep has ended.
func (f *follower) sweptOf(s *sweep) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.unswept[s.Sequence] == s {
		delete(f.unswept, s.Sequence)
	}
}

// judged is a place in the ledger up to which everything that is stored was judged, once the sweeps
// are done that are returned with it.
func (f *follower) judged() (at records.Position, under []*sweep) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.at, slices.Collect(maps.Values(f.unswept))
}

func (n *Node) presence() records.Presence {
	return records.Presence{Name: n.settings.Name, Control: n.ControlURL(), Started: n.started, Trouble: n.troubles()}
}

// account counts what is remembered besides entries against the memory limit.
func (n *Node) account() { n.store.SetAside(n.barrier.Bytes() + n.edge.Bytes()) }

// manyMarks is how many purges come together before it is worth looking at every entry
// to forget them.
const manyMarks = 1000

// tidy forgets what nothing needs any more.
func (n *Node) tidy() {
	for n.tasks.Life().Err() == nil {
		n.pause(8 * time.Second)
		n.store.SweepIdle(time.Now())
		n.fragments.Leases.Sweep(time.Now())
		if n.barrier.Len() >= manyMarks {
			n.barrier.Compact()
		}
		n.account()
	}
}

// keepConnected follows the ledger while there is a database, and looks for one while
// there is none.
func (n *Node) keepConnected() {
	for n.tasks.Life().Err() == nil {
		rec := n.known()
		if rec == nil {
			if err := n.connect(n.tasks.Life()); err != nil {
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
func (n *Node) follow(rec records.Records) {
	ctx, cancel := context.WithCancel(n.tasks.Life())
	defer cancel()
	wake := make(chan struct{}, 1)
	n.tasks.Go(func() {
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
	case <-n.tasks.Life().Done():
	case <-time.After(d):
	}
}
