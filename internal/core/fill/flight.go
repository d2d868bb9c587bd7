package fill

import (
	"context"
	"errors"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"gerastic/internal/core/tags"
)

// Flight is one fill under way. The leader writes to it, every Reader reads it whole.
// While the body is kept, it is all in memory (the leader bounds it); after Discard
// only a window is, and the leader waits for the slowest reader.
type Flight[H any] struct {
	// Stamp is the ledger sequence in force when the flight began.
	Stamp tags.Stamp
	group *Group[H]
	key   string

	mu       sync.Mutex
	wake     chan struct{} // closed and renewed at each change
	head     H
	headed   bool
	hints    []H // interim answers before the head
	chunks   []chunk
	dropped  int      // chunks gone from the front
	free     [][]byte // chunks that everyone has passed, to be used again
	cut      bool     // a reader was cut off and may still hold a chunk: none is used again
	size     int64
	held     int // bytes of the last chunk that readers do not see before the end
	kept     bool
	sealed   bool // all of the body is there, and stays
	ended    bool
	err      error
	readers  []*Reader[H]
	onLonely func() // called when the last reader has left a flight that is not kept
	disowned atomic.Bool
	known    atomic.Pointer[tags.Subject] // of the answer, before it comes
}

type chunk struct {
	start int64
	data  []byte // len is what was written; readers see prefixes, the leader appends
}

// Sizes of the stream's pieces.
const (
	// Window is how far the fastest reader may be ahead of the slowest once the body
	// is not kept.
	Window = 128 << 10
	// Piece is the most that is read from an origin at a time.
	Piece = 64 << 10
	// firstPiece is how much is read at first of a body of unknown length: each piece
	// wakes everyone who waits.
	firstPiece = 32 << 10
)

// pause is how long a reader that has to wait holds back what it has: the next bytes
// are mostly there at once, and a flush for each piece costs more than it gives.
const pause = 500 * time.Microsecond

// Patience is how long a reader may hold up the others before it is cut off.
const Patience = 10 * time.Second

// ErrTooSlow cuts off a reader that held up the others; it must not pass off what it
// has as complete.
var ErrTooSlow = errors.New("the visitor read too slowly while others waited for the same answer")

func newFlight[H any](g *Group[H], key string, stamp tags.Stamp) *Flight[H] {
	return &Flight[H]{Stamp: stamp, group: g, key: key, wake: make(chan struct{}), kept: true}
}

// changed wakes everyone who waits. Under mu.
func (f *Flight[H]) changed() {
	close(f.wake)
	f.wake = make(chan struct{})
}

// OnLonely sets what to do when nobody reads any more and the body is not kept.
func (f *Flight[H]) OnLonely(do func()) {
	f.mu.Lock()
	f.onLonely = do
	f.mu.Unlock()
}

// Head is what is known of an answer before its body, on its way to those who read it.
type Head[H any] struct {
	Value  H
	Kept   bool // the body will be stored
	Shared bool // those who joined may read on, and others may still join
}

// Publish gives out what is known before the body.
func (f *Flight[H]) Publish(h Head[H]) {
	if !h.Shared {
		f.group.leave(f)
	}
	f.mu.Lock()
	f.head, f.headed, f.kept = h.Value, true, h.Kept
	lonely := f.lonely()
	f.changed()
	f.mu.Unlock()
	if lonely != nil {
		lonely()
	}
}

// Hint publishes an interim answer, before the head.
func (f *Flight[H]) Hint(h H) {
	f.mu.Lock()
	f.hints = append(f.hints, h)
	f.changed()
	f.mu.Unlock()
}

// Discard gives up keeping the body: from here on only a window stays in memory, and
// nobody can join any more.
func (f *Flight[H]) Discard() {
	f.group.leave(f)
	f.mu.Lock()
	if f.sealed {
		f.mu.Unlock()
		return
	}
	f.kept = false
	f.trim()
	lonely := f.lonely()
	f.changed()
	f.mu.Unlock()
	if lonely != nil {
		lonely()
	}
}

// Headed reports whether what is known before the body is out.
func (f *Flight[H]) Headed() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.headed
}

// Seal reports whether the whole body is kept; if so, it is not discarded any more.
func (f *Flight[H]) Seal() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.sealed = f.kept
	return f.sealed
}

// lonely returns what to call when nobody needs the flight any more. Under mu.
func (f *Flight[H]) lonely() func() {
	if len(f.readers) == 0 && f.headed && !f.kept && !f.ended {
		return f.onLonely
	}
	return nil
}

// Room returns free space to read the next bytes into; expect is how many more are
// known to come, 0 if unknown. It waits while the slowest reader is a window behind.
func (f *Flight[H]) Room(ctx context.Context, expect int64) ([]byte, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for !f.kept {
		f.trim()
		slowest := f.slowest()
		if slowest == nil || f.size-slowest.at < Window {
			break
		}
		if err := f.waitFor(ctx, slowest); err != nil {
			return nil, err
		}
	}
	if n := len(f.chunks); n > 0 {
		if last := f.chunks[n-1].data; len(last) < cap(last) {
			return last[len(last):cap(last)], nil
		}
	}
	var data []byte
	switch {
	case !f.kept && len(f.free) > 0:
		data = f.free[len(f.free)-1]
		f.free = f.free[:len(f.free)-1]
	case f.kept && expect > 0:
		data = make([]byte, 0, expect) // one piece: it becomes the stored body as it is
	case f.kept:
		data = make([]byte, 0, min(Piece, max(firstPiece, f.size)))
	default:
		data = make([]byte, 0, Piece)
	}
	f.chunks = append(f.chunks, chunk{start: f.size, data: data})
	return data[:cap(data)], nil
}

// waitFor waits until the slowest reader moves or leaves, and cuts it off when it does
// not move for Patience while others could. Called and returns under mu.
func (f *Flight[H]) waitFor(ctx context.Context, slowest *Reader[H]) error {
	at := slowest.at
	timer := time.NewTimer(Patience)
	defer timer.Stop()
	for f.slowest() == slowest && slowest.at == at {
		wake, others := f.wake, len(f.readers) > 1
		f.mu.Unlock()
		var late bool
		var err error
		select {
		case <-wake:
		case <-ctx.Done():
			err = context.Cause(ctx)
		case <-timer.C:
			late = true
		}
		f.mu.Lock()
		if err != nil {
			return err
		}
		if late && !others {
			timer.Reset(Patience) // it holds up nobody but itself
		} else if late && slowest.at == at {
			slowest.err = ErrTooSlow
			f.remove(slowest)
			f.cut = true
			f.changed()
		}
	}
	return nil
}

func (f *Flight[H]) slowest() *Reader[H] {
	var slowest *Reader[H]
	for _, r := range f.readers {
		if slowest == nil || r.at < slowest.at {
			slowest = r
		}
	}
	return slowest
}

// trim drops the chunks that every reader has passed. Under mu, when not kept.
func (f *Flight[H]) trim() {
	slowest := f.slowest()
	for len(f.chunks) > 1 {
		c := f.chunks[0]
		if slowest != nil && slowest.at < c.start+int64(len(c.data)) {
			return
		}
		if cap(c.data) == Piece && !f.cut {
			f.free = append(f.free, c.data[:0])
		}
		f.chunks = f.chunks[1:]
		f.dropped++
	}
}

// Wrote publishes n bytes that were read into what Room returned.
func (f *Flight[H]) Wrote(n int) {
	f.mu.Lock()
	last := &f.chunks[len(f.chunks)-1]
	last.data = last.data[:len(last.data)+n]
	f.size += int64(n)
	f.changed()
	f.mu.Unlock()
}

// HoldBack notes the last n bytes of a body whose length is known. Readers get them at the
// end: when a visitor has seen the last byte, what was filled is in the store.
func (f *Flight[H]) HoldBack(n int) {
	f.mu.Lock()
	f.held = n
	f.mu.Unlock()
}

// release publishes what was held. Under mu.
func (f *Flight[H]) release() {
	if f.held > 0 {
		last := &f.chunks[len(f.chunks)-1]
		last.data = last.data[:len(last.data)+f.held]
		f.size += int64(f.held)
		f.held = 0
	}
}

// Size is how many bytes have been written.
func (f *Flight[H]) Size() int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.size
}

// Kept reports whether all of the body is kept; else the slowest reader holds the leader back.
func (f *Flight[H]) Kept() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.kept
}

// Body returns the whole body of a kept flight, without spare capacity. Readers go on with
// it, so that its pieces can go.
func (f *Flight[H]) Body() []byte {
	f.mu.Lock()
	defer f.mu.Unlock()
	size := f.size + int64(f.held)
	if len(f.chunks) == 1 && int64(cap(f.chunks[0].data)) == size {
		return f.chunks[0].data[:size]
	}
	body := make([]byte, 0, size)
	for _, c := range f.chunks {
		body = append(body, c.data...)
	}
	if f.held > 0 {
		last := f.chunks[len(f.chunks)-1].data
		body = append(body, last[len(last):len(last)+f.held]...)
	}
	f.chunks, f.dropped = []chunk{{data: body[:f.size]}}, 0
	for _, r := range f.readers {
		r.index = 0
	}
	return body
}

// Leave takes the flight out of reach of those who come later: what it brought is in the
// store, and is for them only as far as they may use what is stored.
func (f *Flight[H]) Leave() { f.group.leave(f) }

// End closes the flight: whole if err is nil, broken off otherwise. Called once, after
// what was filled has been stored, so that whoever comes later finds it there.
func (f *Flight[H]) End(err error) {
	f.group.end(f)
	f.mu.Lock()
	if err == nil {
		f.release()
	}
	f.ended, f.err = true, err
	f.changed()
	f.mu.Unlock()
}

// Reader reads a flight from its first byte. It is used by one goroutine.
type Reader[H any] struct {
	f     *Flight[H]
	at    int64 // bytes passed; under f.mu
	given int   // bytes handed out by the last Next
	index int   // chunk, counted from the flight's first
	err   error
}

// Wait returns what is known before the body, once it is; or the error that the flight
// ended with before. Interim answers go to hint, in their order.
func (r *Reader[H]) Wait(ctx context.Context, hint func(H)) (H, error) {
	f := r.f
	f.mu.Lock()
	for heard := 0; !f.headed && !f.ended || heard < len(f.hints); {
		if heard < len(f.hints) {
			h := f.hints[heard]
			heard++
			f.mu.Unlock()
			hint(h)
			f.mu.Lock()
			continue
		}
		wake := f.wake
		f.mu.Unlock()
		select {
		case <-wake:
		case <-ctx.Done():
			var none H
			return none, context.Cause(ctx)
		}
		f.mu.Lock()
	}
	defer f.mu.Unlock()
	if !f.headed {
		return f.head, f.err
	}
	return f.head, nil
}

// Next returns the next bytes, which stay valid until the following call; io.EOF after
// the last of a whole body. idle, if not nil, is called when it has to wait for longer
// than a moment.
func (r *Reader[H]) Next(ctx context.Context, idle func()) ([]byte, error) {
	f := r.f
	f.mu.Lock()
	defer f.mu.Unlock()
	if r.given > 0 {
		r.at += int64(r.given)
		r.given = 0
		if !f.kept {
			f.changed() // the leader may wait for room
		}
	}
	for {
		if r.err != nil {
			return nil, r.err
		}
		r.index = max(r.index, f.dropped) // chunks before were passed, so they may be gone
		for r.index-f.dropped < len(f.chunks) {
			c := f.chunks[r.index-f.dropped]
			if passed := r.at - c.start; passed < int64(len(c.data)) {
				r.given = len(c.data) - int(passed)
				return c.data[passed:], nil
			}
			if r.index-f.dropped == len(f.chunks)-1 {
				break // more may come in this one
			}
			r.index++
		}
		if f.ended {
			if f.err != nil {
				return nil, f.err
			}
			return nil, io.EOF
		}
		wake := f.wake
		f.mu.Unlock()
		wait(ctx, wake, idle)
		f.mu.Lock()
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
	}
}

func wait(ctx context.Context, wake <-chan struct{}, idle func()) {
	if idle != nil {
		timer := time.NewTimer(pause)
		defer timer.Stop()
		select {
		case <-wake:
			return
		case <-ctx.Done():
			return
		case <-timer.C:
			idle()
		}
	}
	select {
	case <-wake:
	case <-ctx.Done():
	}
}

// Close leaves the flight. Every Reader must be closed.
func (r *Reader[H]) Close() {
	f := r.f
	f.mu.Lock()
	f.remove(r)
	if !f.kept {
		f.changed()
	}
	lonely := f.lonely()
	f.mu.Unlock()
	if lonely != nil {
		lonely()
	}
}

func (f *Flight[H]) remove(r *Reader[H]) {
	for i, other := range f.readers {
		if other == r {
			f.readers = append(f.readers[:i], f.readers[i+1:]...)
			return
		}
	}
}
