package node

import (
	"context"
	"errors"
	"time"

	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// beat tells the other nodes that this one lives. They wait for it with their purges
// until the sync limit has passed since it last said so; so this one trusts what it has
// stored for a shorter time, counted from before it said so, and only when it has read
// the ledger after that: a purge that nobody waited for is known by then.
func (n *Node) beat() {
	told := false
	for n.tasks.Life().Err() == nil {
		began := time.Now()
		again := n.barrier.Lost(began)
		err := n.renew(again)
		if err == nil && !again && n.barrier.Lost(time.Now()) {
			err = errors.New("the database took too long")
		}
		if err == nil {
			if again {
				n.doubtAll()
			}
			n.knows(began)
		}
		switch lost := n.barrier.Lost(time.Now()); {
		case lost && !told:
			n.log.Error("the ledger is not known any more"+map[bool]string{false: "; everything is revalidated before it is served", true: "; what is stored is served on, as --when-lost says"}[n.settings.ServeOn], "error", err)
			told = true
		case !lost && told:
			n.log.Info("the ledger is known again; what was stored before is revalidated once")
			told = false
		}
		n.pause(n.beatEvery())
	}
}

func (n *Node) beatEvery() time.Duration { return min(time.Second, n.settings.SyncLimit/10) }

// renew tells the others, and brings this node in step with the ledger. again says that they
// may have given up waiting for it.
func (n *Node) renew(again bool) error {
	rec, err := n.Records()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(n.tasks.Life(), n.settings.SyncLimit/2)
	defer cancel()
	if again {
		_, err = rec.Arrive(ctx, n.presence(), n.barrier.Stamp(), time.Time{}, n.settings.SyncLimit)
	} else {
		err = rec.Beat(ctx, n.presence(), n.barrier.Stamp())
	}
	if errors.Is(err, records.ErrNotFound) {
		n.barrier.KnowUntil(time.Unix(0, 0)) // nobody waits for this one
		err = records.ErrNameTaken
	}
	if err == nil {
		err = n.payOwed(ctx)
	}
	if err == nil {
		err = n.catchUp(ctx, rec)
	}
	if all, again := rec.Nodes(ctx); err == nil && again == nil {
		n.others.Store(&all)
	}
	return err
}

// knows: the others were told at a time that this node lives, and the ledger was read
// after it.
func (n *Node) knows(told time.Time) { n.barrier.KnowUntil(told.Add(n.settings.SyncLimit * 4 / 5)) }

// doubtAll marks all that is stored stale, and keeps what is under way from being stored:
// another node that was cut off, too, may have changes to tell that it could not.
func (n *Node) doubtAll() { n.barrier.Forget(tags.Purge{All: true, Mode: tags.Soften}) }
