package fetch

import (
	"gerastic/internal/core/policy"
	"gerastic/internal/origin"
)

// Origins are the ways to a policy's origins. They do not change: a node swaps them with its
// policy.
type Origins struct {
	clients map[*policy.Origin]*origin.Client
}

// Connect returns the ways to the origins of a policy. Those of before that stay the same are
// kept, with their connections.
func Connect(p *policy.Policy, before *Origins) *Origins {
	next := &Origins{clients: map[*policy.Origin]*origin.Client{}}
	for _, o := range p.Origins {
		if next.clients[o] = before.like(o); next.clients[o] == nil {
			next.clients[o] = origin.NewClient(o)
		}
	}
	return next
}

// like finds the way to an origin that is the same.
func (w *Origins) like(o *policy.Origin) *origin.Client {
	if w == nil {
		return nil
	}
	for _, c := range w.clients {
		if c.Origin.Name == o.Name && c.Same(o) {
			return c
		}
	}
	return nil
}

// To returns the way to an origin; nil for nil.
func (w *Origins) To(o *policy.Origin) *origin.Client { return w.clients[o] }

// Close ends the ways that the next ones have not kept. next is nil where there are none. It
// returns when their checks have ended; requests under way go on to their ends.
func (w *Origins) Close(next *Origins) {
	if w == nil {
		return
	}
	kept := map[*origin.Client]bool{}
	if next != nil {
		for _, c := range next.clients {
			kept[c] = true
		}
	}
	for _, c := range w.clients {
		if !kept[c] {
			c.Close()
		}
	}
}

// Failure is how a fetch failed, in a visitor's words.
type Failure = origin.Failure

// FailureOf sorts an error that a fetch ended with.
func FailureOf(err error) Failure { return origin.FailureOf(err) }

// ErrBusy says that too much is under way to an origin.
var ErrBusy = origin.ErrBusy
