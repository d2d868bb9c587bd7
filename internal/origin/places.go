package origin

import (
	"errors"
	"sync"
	"sync/atomic"
)

// ErrBusy says that an origin's connections are taken: too many requests wait for one, or too
// many of them are at their visitors' pace.
var ErrBusy = errors.New("too many requests for this origin are under way")

// places bounds what goes at the visitor's pace.
type places struct {
	taken atomic.Int64
	limit int64
}

// AtVisitorsPace takes one of the places for requests that are only as fast as their visitor
// sends or reads: half of the connections, so that the other half is always left to those that
// the origin alone is in charge of. It returns what gives the place back, or ErrBusy.
func (c *Client) AtVisitorsPace() (release func(), err error) {
	if c.paced.taken.Add(1) > c.paced.limit {
		c.paced.taken.Add(-1)
		return nil, ErrBusy
	}
	return sync.OnceFunc(func() { c.paced.taken.Add(-1) }), nil
}

// Paced is how many of the places are taken.
func (c *Client) Paced() int64 { return c.paced.taken.Load() }

// queueLength is how many requests may wait for a connection of an address, for each that
// there may be.
const queueLength = 8

// queue counts those who wait for a connection.
type queue struct {
	waiting atomic.Int64
	limit   int64
}

// enter joins the line, unless it is full; the function leaves it, once.
func (q *queue) enter() (leave func(), ok bool) {
	if q.waiting.Add(1) > q.limit {
		q.waiting.Add(-1)
		return nil, false
	}
	return sync.OnceFunc(func() { q.waiting.Add(-1) }), true
}
