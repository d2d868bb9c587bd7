package node

import (
	"context"
	"sync"
	"time"

	"gerastic/internal/control"
	"gerastic/internal/core/worth"
	"gerastic/internal/records"
)

// sizes is how the store has grown and what other sizes would have saved, as far as the database does not
// have it.
type sizes struct {
	mu    sync.Mutex
	last  map[string]tierCounts // as they were saved, by tier
	curve []control.Curve       // a minute apart, the newest last
}

// tierCounts count from the node's start.
type tierCounts struct {
	added, evicted, expired, purged int64
	ages                            time.Duration
}

// curveKept is how long back the curve goes, in minutes.
const curveKept = 60

// SaveSizes writes what came and went since the last time to the database.
func (n *Node) SaveSizes(ctx context.Context) error {
	n.sizes.mu.Lock()
	defer n.sizes.mu.Unlock()
	rec, err := n.Records()
	if err != nil {
		return err
	}
	memory := n.store.Figures()
	all := []records.Size{n.sizeOf("memory", memory.Entries, memory.Kept, memory.Limit)}
	now := map[string]tierCounts{"memory": countsOf(memory.Added, memory.Removed, memory.Ages)}
	if below, ok := n.store.LowerFigures(); ok {
		all = append(all, n.sizeOf("disk", below.Entries, below.Bytes, below.Limit))
		now["disk"] = countsOf(below.Added, below.Removed, 0)
	}
	for i := range all {
		s, was := now[all[i].Tier], n.sizes.last[all[i].Tier]
		all[i].Added, all[i].Evicted, all[i].Expired, all[i].Purged = s.added-was.added, s.evicted-was.evicted, s.expired-was.expired, s.purged-was.purged
		all[i].EvictedAge = s.ages - was.ages
	}
	if err := rec.KeepSizes(ctx, all); err != nil {
		return err
	}
	n.sizes.last = now
	return nil
}

func (n *Node) sizeOf(tier string, entries, bytes, limit int64) records.Size {
	return records.Size{At: time.Now().Truncate(time.Minute), Node: n.settings.Name, Tier: tier, Entries: entries, Bytes: bytes, Limit: limit}
}

func countsOf(added int64, removed map[string]int64, ages time.Duration) tierCounts {
	return tierCounts{added: added, evicted: removed["evicted"], expired: removed["idle"], purged: removed["purged"], ages: ages}
}

// noteCurve remembers what other sizes would have saved until now.
func (n *Node) noteCurve() {
	n.sizes.mu.Lock()
	defer n.sizes.mu.Unlock()
	n.sizes.curve = append(n.sizes.curve, n.curveNow())
	if len(n.sizes.curve) > curveKept {
		n.sizes.curve = n.sizes.curve[1:]
	}
}

func (n *Node) curveNow() (c control.Curve) {
	c.Since = time.Now()
	c.Others, c.Own = n.store.Sizes()
	return c
}

// Curve is what other sizes would have saved, and what this one did, in the last hour or since the
// start.
func (n *Node) Curve() control.Curve {
	n.sizes.mu.Lock()
	defer n.sizes.mu.Unlock()
	now, from := n.curveNow(), control.Curve{Since: n.started}
	if len(n.sizes.curve) == curveKept {
		from = n.sizes.curve[0]
		for i := range now.Others {
			now.Others[i] = without(now.Others[i], from.Others[i])
		}
		now.Own = without(now.Own, from.Own)
	}
	now.Since = from.Since
	return now
}

func without(s, before worth.Size) worth.Size {
	return worth.Size{Capacity: s.Capacity, Requests: s.Requests - before.Requests, Hits: s.Hits - before.Hits, Cost: s.Cost - before.Cost, Saved: s.Saved - before.Saved}
}
