package edge

import (
	"context"
	"io"
	"net/http"
	"sync"
	"time"

	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/store"
	"gerastic/internal/origin"
)

// arrival is an answer whose body is coming: to all who wait, and into the store if it may.
type arrival struct {
	edge     *Edge
	flight   *fill.Flight[*head]
	order    *order
	head     *head
	entry    *store.Entry // that it becomes
	began    time.Time
	composes bool
	keep     bool  // it is to be stored, as far as is known
	expect   int64 // bytes that are known to come; 0: unknown
	reserved int64 // bytes, in the store
	place    visitorsPace
}

// take reads the answer to its end. What comes whole within a moment is given out whole, and
// wakes those who wait once; if it is not for the store, it does not go at a visitor's pace
// then.
func (a *arrival) take(ctx context.Context, resp *http.Response) error {
	a.place.client = a.order.client
	defer a.place.free()
	defer a.release()
	stored := a.keep
	publish := sync.OnceFunc(func() {
		if !stored && !a.place.take() {
			a.head.busy = true
		}
		a.flight.Head(a.head, stored, a.head.isShared())
	})
	if stored {
		a.head.filling = a.entry
	} else {
		a.flight.Discard()
		if a.expect > fill.Window {
			publish()
		}
	}
	moment := time.AfterFunc(headDelay, publish)
	defer moment.Stop()
	for {
		if a.keep && !a.flight.Kept() {
			a.discard(publish)
		}
		if stored && !a.keep && !a.place.take() {
			return origin.ErrBusy // it is too long to be kept, and too many such are on their way
		}
		if !stored && a.flight.Size() >= fill.Window {
			publish()
		}
		more, err := a.read(ctx, resp.Body, publish)
		if err != nil {
			return err
		}
		if !more {
			break
		}
	}
	a.head.trailer = resp.Trailer
	a.place.whole.Store(true)
	if a.keep && a.flight.Size() <= a.order.route.MaxBody && a.flight.Seal() {
		a.release()
		a.edge.keep(a.flight, a.entry, a.head, a.order, a.began, a.composes)
		a.head.skeleton.Store(a.entry.Skeleton)
		a.head.whole.Store(&a.entry.Body)
	}
	a.head.took.Store(max(1, int64(a.edge.Now().Sub(a.began))))
	publish()
	return nil
}

// read takes the next piece in; more reports whether another may follow.
func (a *arrival) read(ctx context.Context, body io.Reader, publish func()) (more bool, err error) {
	room, err := a.flight.Room(ctx, a.expect-a.flight.Size())
	if err != nil {
		return false, err
	}
	if over := a.flight.Size() + int64(len(room)) - a.reserved; a.keep && over > 0 {
		if a.flight.Size() > a.order.route.MaxBody || !a.edge.Store.Reserve(over) {
			a.discard(publish)
			a.edge.unshared.note(a.order.likeThis(), unshared{rule: httprules.TooLarge, status: a.head.status, at: a.head.received})
			return true, nil
		}
		a.reserved += over
	}
	n, err := body.Read(room)
	if a.keep && a.expect > 0 && a.flight.Size()+int64(n) == a.expect {
		a.flight.Hold(n)
		if err == nil {
			err = endOf(body)
		}
	} else {
		a.flight.Wrote(n)
	}
	if err == io.EOF {
		return false, nil
	}
	return err == nil, err
}

// discard gives up storing it: from here on it goes at the pace of those who read it, and
// holds no room for what it does not keep.
func (a *arrival) discard(publish func()) {
	a.keep = false
	publish()
	a.flight.Discard()
	a.release()
}

// release gives back what is reserved.
func (a *arrival) release() {
	a.edge.Store.Release(a.reserved)
	a.reserved = 0
}
