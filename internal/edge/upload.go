package edge

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"sync"
	"time"

	"gerastic/internal/core/pace"
	"gerastic/internal/readahead"
)

// How long a visitor's body is waited for before anything is done about it.
const (
	briefly = 250 * time.Millisecond // before its origin is asked
	keyTime = 10 * time.Second       // where the key holds it
)

// upload is the body of a visitor's request. It is read ahead, at the visitor's pace, which
// is at least that of package pace: whoever sends more slowly is not waited for.
type upload struct {
	*readahead.Reader
	body    io.Reader
	control *http.ResponseController
	begun   sync.Once // by whoever wants it first: with Expect, reading says that it may be sent

	mu    sync.Mutex
	ended bool // no read begins any more
	watch pace.Watch
	until time.Time // when all of it must be there; zero: there is no such time
}

// expectBody prepares to read the request's body, if it has one.
func (x *exchange) expectBody() {
	r := x.r
	if r.Body == nil || r.Body == http.NoBody || r.ContentLength == 0 {
		return
	}
	store := x.edge.store
	u := &upload{body: r.Body, control: http.NewResponseController(x.w)}
	u.Reader = readahead.New(u.read, r.ContentLength, store.Borrow, store.Return)
	x.upload = u
	r.Body = u
}

// takeBody reads the beginning of the body, all of it if it is short, unless its sender waits
// to be asked for it.
func (x *exchange) takeBody() {
	if x.upload != nil && !x.req.Header.Has("Expect") {
		x.upload.gather(x.r.Context(), briefly)
	}
}

// gather waits until all of the body is there, or as much as is read ahead, and reports
// whether it is all.
func (u *upload) gather(ctx context.Context, limit time.Duration) bool {
	u.begin()
	return u.Settle(ctx, limit)
}

func (u *upload) begin() { u.begun.Do(func() { go u.Run() }) }

// Read implements io.Reader.
func (u *upload) Read(p []byte) (int, error) {
	u.begin()
	return u.Reader.Read(p)
}

// Close leaves the body to the exchange, which ends it: it may be read again.
func (u *upload) Close() error { return nil }

// whole is the body, if all of it is there and none of it was read; ok tells.
func (u *upload) whole() (body []byte, ok bool) {
	if u.State() != io.EOF {
		return nil, false
	}
	return u.Bytes(), true
}

// within sets how long all of it may take from now on; 0: as long as it keeps the pace.
func (u *upload) within(limit time.Duration) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.until = time.Time{}
	if limit > 0 {
		u.until = time.Now().Add(limit)
	}
}

// read reads from the visitor, who has pace.Grace for the next bytes, and must keep the pace.
// The deadline goes with the body's end: the server waits on the same connection for whether
// the visitor leaves, and one that came then would end the request.
func (u *upload) read(p []byte) (int, error) {
	u.mu.Lock()
	if u.ended {
		u.mu.Unlock()
		return 0, io.ErrClosedPipe
	}
	began := time.Now()
	by := began.Add(pace.Grace)
	if !u.until.IsZero() && u.until.Before(by) {
		by = u.until
	}
	_ = u.control.SetReadDeadline(by)
	u.mu.Unlock()
	n, err := u.body.Read(p)
	u.mu.Lock()
	defer u.mu.Unlock()
	now := time.Now()
	u.watch.Again(began)
	switch late := !u.until.IsZero() && now.After(u.until); {
	case u.ended:
		return n, io.ErrClosedPipe
	case err == io.EOF:
		_ = u.control.SetReadDeadline(time.Time{})
	case errors.Is(err, os.ErrDeadlineExceeded), err == nil && (late || u.watch.Slow(now, n)):
		err = pace.ErrSlow
	}
	return n, err
}

// finish ends the reading; nothing reads the visitor's connection afterwards.
func (u *upload) finish() {
	u.begun.Do(func() { u.Never() }) // it never began
	u.End(func() {
		u.mu.Lock()
		defer u.mu.Unlock()
		u.ended = true
		_ = u.control.SetReadDeadline(time.Unix(1, 0))
	})
}

// refuseBody answers a request whose body did not come as it should; false if it did so far.
// Whoever broke off gets nothing: half of a request is none.
func (x *exchange) refuseBody() bool {
	if x.upload == nil {
		return false
	}
	switch err := x.upload.State(); {
	case err == nil || err == io.EOF:
		return false
	case errors.Is(err, pace.ErrSlow):
		x.refuse(http.StatusRequestTimeout, "the request's body came too slowly: "+err.Error(), x.sample.Cause)
	case errors.Is(err, io.ErrUnexpectedEOF) || x.r.Context().Err() != nil:
		panic(http.ErrAbortHandler)
	default:
		x.refuse(http.StatusBadRequest, "the request's body is not in order: "+err.Error(), x.sample.Cause)
	}
	return true
}

// bodyInMemory makes a body that is there go out in one piece with its head, as it would from a
// browser. Some servers answer and close as soon as they have what they need; what came
// after that would cost the visitor the answer. It reports whether there is nothing more to
// come.
func (x *exchange) bodyInMemory() bool {
	if x.upload == nil {
		return true
	}
	body, whole := x.upload.whole()
	if !whole {
		return false
	}
	if len(x.r.Trailer) == 0 {
		x.r.ContentLength, x.r.TransferEncoding = int64(len(body)), nil
	}
	x.r.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body)), nil }
	x.r.Body, _ = x.r.GetBody()
	return true
}
