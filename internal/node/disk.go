package node

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"time"

	core "gerastic/internal/core/store/disk"
	"gerastic/internal/core/tags"
	"gerastic/internal/disk"
	"gerastic/internal/records"
)

// tier is the store's tier on disk.
type tier struct {
	*core.Tier
	fresh bool // the node has not been in step with the ledger yet since it was opened
}

func (t *tier) isFresh() bool { return t != nil && t.fresh }

// openDisk opens the tier on disk, and goes to the place in the ledger up to which what is there
// was judged. Without it the node goes on, and says so.
func (n *Node) openDisk(marks *tags.Marks, epoch time.Time) {
	path := filepath.Join(n.settings.Data, "store")
	if n.settings.Disk == 0 {
		if err := os.RemoveAll(path); err != nil { // what is there would be out of date when it is wanted again
			n.log.Error("the tier on disk, which --disk 0 switches off, cannot be removed; remove it by hand before it is switched on again", "error", err)
		}
		return
	}
	opened, at, err := disk.Open(path, core.Options{
		Limit: n.settings.Disk, Index: n.settings.Memory / 4, Writes: n.settings.DiskWrites, Marks: marks, Epoch: epoch, Now: time.Now,
	}, n.log)
	if err != nil {
		n.log.Error("the tier on disk cannot be used; the node goes on without it", "error", err)
		n.diskless = "the store's tier on disk cannot be used: " + err.Error()
		return
	}
	n.disk = &tier{Tier: opened, fresh: at.Known}
	if at.Known {
		marks.Rewind(at.Sequence)
		n.ledger.at = records.Position{Sequence: at.Sequence, RowID: at.Row}
	}
	n.store.Over(opened, time.Now)
}

// forgetOwed takes out of use on disk what invalidations name that the ledger does not have yet.
func (n *Node) forgetOwed() error {
	if n.disk == nil || n.owed.len() == 0 {
		return nil
	}
	orders, end, err := n.owed.begin()
	if err != nil {
		return err
	}
	for _, o := range orders {
		n.barrier.Forget(o.Purge)
	}
	return end(false)
}

// believesDisk brings this node in step with the ledger as of what is on disk, and reports whether
// that can be believed as if the node had run on: no other node may have changes to tell that the
// ledger does not have.
func (n *Node) believesDisk(ctx context.Context, rec records.Records) bool {
	if !n.disk.isFresh() {
		return false
	}
	n.disk.fresh = false
	if err := n.catchUp(ctx, rec); err != nil {
		n.log.Warn("the ledger cannot be read; what is on disk is revalidated before it is served", "error", err)
		return false
	}
	return n.othersTold(ctx, rec)
}

// othersTold waits until every other node has said anew that it lives, and owes the ledger nothing;
// false if one does not say so soon.
func (n *Node) othersTold(ctx context.Context, rec records.Records) bool {
	late := time.Now().Add(min(3*time.Second, n.settings.SyncLimit/2))
	var first []records.Node
	for time.Now().Before(late) {
		all, err := rec.Nodes(ctx)
		if err != nil {
			return false
		}
		others := slices.DeleteFunc(all, func(other records.Node) bool { return other.Name == n.settings.Name })
		if first == nil {
			first = slices.Clone(others)
		}
		told := func(other records.Node) bool {
			return other.Trouble == "" && slices.ContainsFunc(first, func(before records.Node) bool { return before.Name == other.Name && other.Seen.After(before.Seen) })
		}
		if !slices.ContainsFunc(others, func(other records.Node) bool { return !told(other) }) {
			return true
		}
		n.pause(100 * time.Millisecond)
	}
	n.log.Info("another node does not say that it owes the ledger nothing; what is on disk is revalidated once")
	return false
}

// confirmEvery is how often it is noted up to where in the ledger all that is on disk was judged.
const confirmEvery = 5 * time.Second

// confirmDisk notes that again and again, until the tier is switched off.
func (n *Node) confirmDisk() {
	for n.tasks.Life().Err() == nil {
		if below, _ := n.store.LowerFigures(); below.Off != "" {
			n.log.Error("the store's tier on disk is switched off until the next start; the origin is asked instead", "why", below.Off)
			return
		}
		at, under := n.ledger.judged()
		for _, s := range under {
			select {
			case <-s.swept:
			case <-n.tasks.Life().Done():
				return
			}
		}
		n.confirm(at)
		n.pause(confirmEvery)
	}
}

// confirm notes it. A place that the ledger had before it was set back is none.
func (n *Node) confirm(at records.Position) {
	n.ledger.mu.Lock()
	defer n.ledger.mu.Unlock()
	if at.Sequence > n.ledger.at.Sequence || n.known() == nil {
		return
	}
	if err := n.disk.Confirm(core.Judged{Sequence: at.Sequence, Row: at.RowID}); err != nil {
		n.log.Warn("it could not be noted up to where in the ledger the disk was judged", "error", err)
	}
}

// flushTime is how long what only memory holds may take to get to disk when the node stops.
const flushTime = 5 * time.Second

// requestsTime leaves some of the time that a stop may take for what goes to disk then.
func (n *Node) requestsTime(ctx context.Context) (context.Context, context.CancelFunc) {
	if deadline, ok := ctx.Deadline(); ok && n.disk != nil {
		return context.WithDeadline(ctx, deadline.Add(-min(flushTime, time.Until(deadline)/2)))
	}
	return context.WithCancel(ctx)
}

// closeDisk writes what only memory holds, as long as ctx allows.
func (n *Node) closeDisk(ctx context.Context) {
	if n.disk == nil {
		return
	}
	n.store.Flush(ctx)
	if at, under := n.ledger.judged(); len(under) == 0 && !n.disk.isFresh() {
		if err := n.disk.Confirm(core.Judged{Sequence: at.Sequence, Row: at.RowID}); err != nil {
			n.log.Warn("it could not be noted up to where in the ledger the disk was judged", "error", err)
		}
	}
	n.disk.Close()
}
