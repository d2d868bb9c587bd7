package fetch

import (
	"context"
	"errors"
	"io"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
	"gerastic/internal/origin"
)

// arrival is an answer whose body is coming: to all who wait, and into the store if it may.
type arrival struct {
	fetcher *Fetcher
	flight  *fill.Flight[*Head]
	request *Request
	began   time.Time

	head     *Head
	work     meter.Work   // that the origin says it took
	entry    *store.Entry // that it becomes
	toStore  bool         // it is to be stored, as far as is known
	forStore bool         // it was, when its head came
	expect   int64        // bytes that are known to come; 0: unknown
	reserved int64        // bytes, in the store
	pace     visitorsPace
	publish  func() // gives its head out, once
}

// take reads the answer to its end. What comes whole within a moment is given out whole, and
// wakes those who wait once; if it is not for the store, it does not go at a visitor's pace
// then. origin.ErrBusy: it would, and there is no place.
func (a *arrival) take(ctx context.Context, resp *http.Response) error {
	a.pace.client = a.request.Way
	defer a.pace.free()
	defer a.release()
	a.forStore = a.toStore
	a.publish = sync.OnceFunc(a.publishHead)
	if a.forStore {
		a.head.Filling = a.entry
	} else {
		a.flight.Discard()
		if a.expect > fill.Window {
			a.publish()
		}
	}
	moment := time.AfterFunc(HeadDelay, a.publish)
	defer moment.Stop()
	for more := true; more; {
		if err := a.choosePace(); err != nil {
			return err
		}
		var err error
		if more, err = a.read(ctx, resp.Body); err != nil {
			return err
		}
	}
	a.complete(resp.Trailer)
	a.publish()
	return nil
}

// publishHead gives out what is known before the body.
func (a *arrival) publishHead() {
	if !a.forStore && !a.pace.take() {
		a.head.Busy = true
	}
	a.flight.Publish(a.published(fill.Head[*Head]{Kept: a.forStore}))
}

// published adds to how the head is given out what it says itself.
func (a *arrival) published(how fill.Head[*Head]) fill.Head[*Head] {
	how.Value, how.Shared = a.head, a.head.IsShared()
	return how
}

// choosePace gives up keeping what the flight does not keep any more; from then on, and for
// what was never for the store, a visitor's pace counts.
func (a *arrival) choosePace() error {
	if a.toStore && !a.flight.Kept() {
		a.discard()
	}
	if a.forStore && !a.toStore && !a.pace.take() {
		return origin.ErrBusy // it is too long to be kept, and too many such are on their way
	}
	if !a.forStore && a.flight.Size() >= fill.Window {
		a.publish()
	}
	return nil
}

// read takes the next piece in; more reports whether another may follow.
func (a *arrival) read(ctx context.Context, body io.Reader) (more bool, err error) {
	room, err := a.flight.Room(ctx, a.expect-a.flight.Size())
	if err != nil {
		return false, err
	}
	if a.toStore && !a.reserve(a.flight.Size()+int64(len(room))) {
		a.discard()
		a.fetcher.Learned.refused(a.request, a.head, httprules.TooLarge)
		return true, nil
	}
	n, err := body.Read(room)
	if a.toStore && a.expect > 0 && a.flight.Size()+int64(n) == a.expect {
		a.flight.HoldBack(n)
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

// endOf returns io.EOF when nothing more comes, as it should after the announced length.
func endOf(body io.Reader) error {
	var more [1]byte
	n, err := body.Read(more[:])
	if n > 0 || err == nil {
		return errors.New("the origin sent more than it announced")
	}
	return err
}

// complete notes that all has come, and stores it if it is kept.
func (a *arrival) complete(trailer http.Header) {
	h := a.head
	h.trailer = trailer
	a.pace.whole.Store(true)
	if a.toStore && a.flight.Size() <= a.request.Route.MaxBody && a.flight.Seal() {
		a.entry.Reserved, a.reserved = a.reserved, 0
		a.fetcher.storeEntry(a)
		h.skeleton.Store(a.entry.Skeleton)
		h.body.Store(&a.entry.Body)
	}
	h.took.Store(max(1, int64(a.fetcher.Now().Sub(a.began))))
}

// discard gives up storing it: from here on it goes at the pace of those who read it, and
// holds no room for what it does not keep.
func (a *arrival) discard() {
	a.toStore = false
	a.publish()
	a.flight.Discard()
	a.release()
}

// reserve makes sure that so many bytes have room in the store, all of them; it reports false
// if they have not, or may not.
func (a *arrival) reserve(bytes int64) bool {
	more := bytes - a.reserved
	if more <= 0 {
		return true
	}
	if a.flight.Size() > a.request.Route.MaxBody || !a.fetcher.Store.Reserve(more) {
		return false
	}
	a.reserved += more
	return true
}

// release gives back what is reserved.
func (a *arrival) release() {
	a.fetcher.Store.Release(a.reserved)
	a.reserved = 0
}

// visitorsPace is the place of a fill that is only as fast as its visitor reads.
type visitorsPace struct {
	client *origin.Client
	whole  atomic.Bool // all has come: nobody is waited for
	once   sync.Once
	ok     bool
	give   func()
}

// take takes the place, once; it reports false if there is none.
func (p *visitorsPace) take() bool {
	p.once.Do(func() {
		if p.ok = p.whole.Load(); p.ok {
			return
		}
		give, err := p.client.AtVisitorsPace()
		p.give, p.ok = give, err == nil
	})
	return p.ok
}

// free gives it back.
func (p *visitorsPace) free() {
	p.once.Do(func() {})
	if p.give != nil {
		p.give()
	}
}
