package edge

import (
	"net/http"
	"sync/atomic"
	"time"

	"gerastic/internal/core/store"
)

// hold accounts for what is held while a visitor reads: an entry, in a form, or so many bytes of what is
// none; where there is no room for these, a place among what goes at visitors' pace bounds
// them. It reports false if there is none either.
func (x *exchange) hold(entry *store.Entry, form *store.Encoded, bytes int64) bool {
	w := x.w
	switch {
	case bytes < store.HoldFrom || x.depth > 0 || x.r.Method == http.MethodHead:
	case entry != nil:
		moved := new(atomic.Int64)
		moved.Store(time.Now().UnixNano())
		x.moved = moved
		x.holder = x.edge.store.Hold(entry, form, func() {
			if time.Since(time.Unix(0, moved.Load())) > standsStill {
				_ = http.NewResponseController(w).SetWriteDeadline(time.Unix(1, 0))
			}
		})
	case x.edge.store.Borrow(bytes):
		x.borrowed = bytes
	default:
		var err error
		x.leavePace, err = x.inForce.origins.To(x.inForce.OriginFor(x.req.Host)).AtVisitorsPace()
		return err == nil
	}
	return true
}

// standsStill is how long a visitor may take for a piece of sendPiece bytes when what they hold
// is wanted for others.
const (
	standsStill = time.Second
	sendPiece   = 256 << 10
)

// give writes a body, and notes how it goes on if somebody may want to know.
func (x *exchange) give(body []byte) (sent int64, err error) {
	for {
		n, err := x.w.Write(body[sent:min(int64(len(body)), sent+sendPiece)])
		sent += int64(n)
		if x.moved != nil {
			x.moved.Store(time.Now().UnixNano())
		}
		if err != nil || sent == int64(len(body)) {
			return sent, err
		}
	}
}

// letGo ends what hold began.
func (x *exchange) letGo() {
	if x.holder != nil {
		x.holder.Release()
		x.holder, x.moved = nil, nil
	}
	x.packs.free()
	x.packs = nil
	if x.far != nil {
		_ = x.far.Close() // it was only read
		x.far = nil
	}
	if x.borrowed > 0 {
		x.edge.store.Return(x.borrowed)
		x.borrowed = 0
	}
	if x.leavePace != nil {
		x.leavePace()
		x.leavePace = nil
	}
	if x.page != nil {
		x.edge.store.Return(x.page.End())
		x.page = nil
	}
}
