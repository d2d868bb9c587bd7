package node

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gerastic.example/client"

	"gerastic/internal/records"
	"gerastic/internal/resident"
)

// Ready says why the node should get no visitors, or nil.
func (n *Node) Ready() error {
	if n.edge.Policy() == nil {
		return errors.New("not ready: there is no policy; apply one with: gerastic policy apply FILE")
	}
	return nil
}

// Status describes the node.
func (n *Node) Status() client.Node {
	f := n.store.Figures()
	below, _ := n.store.LowerFigures()
	kind := "database"
	if n.settings.Alone() {
		kind = "memory"
	}
	return client.Node{
		Records: kind, Development: n.settings.Development,
		Node: n.settings.Name, Started: n.started, Edge: n.EdgeURL(), Sequence: uint64(n.barrier.Stamp()), Revision: n.Revision().Number,
		Entries: f.Entries, MemoryUsed: f.Used, MemoryLimit: f.Limit, Removed: f.Removed, Refused: f.Refused,
		DiskEntries: below.Entries, DiskUsed: below.Taken, DiskLimit: below.Limit, DiskErrors: below.Errors,
		FillsRunning: n.edge.Filling(), Marks: n.barrier.Len(), Degraded: n.troubles(),
	}
}

// Memory says what the resident memory of the process consists of.
func (n *Node) Memory() []resident.Class {
	f := n.store.Figures()
	edge, control := n.Listeners()
	return n.resident.Classes(resident.Account{Entries: f.Kept, Ready: f.Ready, Index: f.Structure, Fills: f.Reserved, Leaving: f.Pinned + f.Descending, Aside: f.Aside, Connections: int64(edge.Open + control.Open)})
}

// troubles says in words what the node has to do without; "" if nothing.
func (n *Node) troubles() string {
	var all []string
	if n.known() == nil {
		all = append(all, "the database cannot be reached: no purges by call, no reports, no changes of policy")
	}
	switch lost := n.barrier.Lost(time.Now()); {
	case lost && n.settings.ServeOn:
		all = append(all, "the ledger cannot be read: what is stored is served on, although purges of other nodes may be missing here")
	case lost:
		all = append(all, "the ledger cannot be read: everything is revalidated before it is served")
	}
	if owed := n.owed.len(); owed > 0 {
		all = append(all, fmt.Sprintf("the ledger could not take what visitors' requests changed: it is kept on disk (%d), and other nodes do not know of it yet", owed))
	}
	if unread := n.unread.Load(); unread != nil {
		all = append(all, *unread)
	}
	if n.diskless != "" {
		all = append(all, n.diskless)
	}
	if below, _ := n.store.LowerFigures(); below.Off != "" {
		all = append(all, "the store's tier on disk is switched off until the next start, and the origin is asked instead: "+below.Off)
	}
	if n.cluster != nil {
		if down := n.cluster.Down(); down != nil {
			all = append(all, "the private database has ended and is started again: "+down.Error())
		}
	}
	if untold := n.onward.Trouble(); untold != "" {
		all = append(all, untold)
	}
	return strings.Join(all, "; ")
}

// lookAround is how long the database has to say which nodes there are.
const lookAround = 500 * time.Millisecond

// Others are the other nodes, as far as is known: as the database has them, or, if it does not
// answer, as it had them last.
func (n *Node) Others(ctx context.Context) []records.Node {
	if rec, err := n.Records(); err == nil {
		ctx, cancel := context.WithTimeout(ctx, lookAround)
		defer cancel()
		if all, err := rec.Nodes(ctx); err == nil {
			n.others.Store(&all)
		}
	}
	var others []records.Node
	if all := n.others.Load(); all != nil {
		for _, node := range *all {
			if node.Name != n.settings.Name {
				others = append(others, node)
			}
		}
	}
	return others
}
