package node

import (
	"context"
	"errors"
	"fmt"
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
}

// sweep is the counting and freeing of what a purge matched, which goes on after the
// purge is in force.
type sweep struct {
	done    chan struct{}
	applied records.Applied // complete when done is closed
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

// Purge writes a purge to the ledger and returns when this node has applied it and
// counted what it took.
func (n *Node) Purge(ctx context.Context, p tags.Purge, actor, reason string) (tags.Stamp, records.Applied, error) {
	applied := records.Applied{Node: n.settings.Name}
	rec, err := n.Records()
	if err != nil {
		return 0, applied, err
	}
	ordered := time.Now()
	sequence, err := rec.Append(ctx, p, actor, reason)
	if err != nil {
		return 0, applied, err
	}
	// It is in the ledger now: whatever happens to the caller, it is applied.
	ctx = context.WithoutCancel(ctx)
	if err := n.catchUp(ctx, rec); err != nil {
		// The ledger could be written but not read: our own purge we know without reading.
		p.Sequence = sequence
		n.apply(ctx, rec, records.Purge{Purge: p, At: ordered})
	}
	n.ledger.mu.Lock()
	s := n.ledger.sweeps[sequence]
	n.ledger.mu.Unlock()
	if s == nil {
		return sequence, applied, fmt.Errorf("purge %d is in force, but was not counted", sequence)
	}
	<-s.done
	return sequence, s.applied, nil
}

// catchUp applies what the ledger has beyond what this node has applied.
func (n *Node) catchUp(ctx context.Context, rec *records.Records) error {
	const batch = 500
	n.ledger.mu.Lock()
	defer n.ledger.mu.Unlock()
	for {
		purges, err := rec.Since(ctx, n.ledger.applied, batch)
		if err != nil {
			return err
		}
		for _, p := range purges {
			n.applyLocked(ctx, rec, p)
		}
		if len(purges) < batch {
			return nil
		}
	}
}

func (n *Node) apply(ctx context.Context, rec *records.Records, p records.Purge) {
	n.ledger.mu.Lock()
	defer n.ledger.mu.Unlock()
	n.applyLocked(ctx, rec, p)
}

// keptSweeps is how many results are kept for those who ordered the purges.
const keptSweeps = 1024

func (n *Node) applyLocked(ctx context.Context, rec *records.Records, p records.Purge) {
	n.marks.Apply(p.Purge)
	marked := time.Now()
	n.ledger.applied = max(n.ledger.applied, p.Sequence)
	if n.ledger.sweeps == nil {
		n.ledger.sweeps = map[tags.Stamp]*sweep{}
	}
	if n.ledger.sweeps[p.Sequence] != nil {
		return
	}
	// The ledger's clock is the database's; where it differs, the figure is off by that.
	s := &sweep{done: make(chan struct{}), applied: records.Applied{Node: n.settings.Name, Took: max(0, marked.Sub(p.At))}}
	n.ledger.sweeps[p.Sequence] = s
	delete(n.ledger.sweeps, p.Sequence-keptSweeps)
	n.run(func() {
		s.applied.Matched = n.store.Sweep(p.Purge)
		s.applied.Sweep = time.Since(marked)
		err := rec.Note(context.WithoutCancel(ctx), p.Sequence, s.applied)
		if err != nil {
			n.log.Warn("what a purge took could not be noted in the ledger", "sequence", p.Sequence, "error", err)
		}
		close(s.done)
	})
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
		_ = rec.Follow(ctx, func() {
			select {
			case wake <- struct{}{}:
			default:
			}
		})
		cancel()
	})
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-wake:
		case <-tick.C:
		}
		err := n.catchUp(ctx, rec)
		if err == nil {
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
