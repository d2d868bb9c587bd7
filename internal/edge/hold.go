package edge

import (
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"gerastic/internal/core/fill"
	"gerastic/internal/core/store"
	"gerastic/internal/origin"
)

// held is about how many bytes of an answer that is not stored are held for a visitor.
func (h *head) held() int64 {
	if h.length < 0 {
		return fill.Piece
	}
	return min(h.length, fill.Window)
}

// hold accounts for what is held while a visitor reads: an entry, or so many bytes of what is
// none; where there is no room for these, a place among what goes at visitors' pace bounds
// them. It reports false if there is none either.
func (x *exchange) hold(entry *store.Entry, bytes int64) bool {
	w := x.w
	switch {
	case bytes < store.HoldFrom || x.depth > 0 || x.r.Method == http.MethodHead:
	case entry != nil:
		moved := new(atomic.Int64)
		moved.Store(time.Now().UnixNano())
		x.moved = moved
		x.holder = x.edge.Store.Hold(entry, func() {
			if time.Since(time.Unix(0, moved.Load())) > standsStill {
				_ = http.NewResponseController(w).SetWriteDeadline(time.Unix(1, 0))
			}
		})
	case x.edge.Store.Borrow(bytes):
		x.borrowed = bytes
	default:
		var err error
		x.place, err = x.rules.clients[x.rules.Policy.OriginFor(x.req.Host)].AtVisitorsPace()
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
	if x.borrowed > 0 {
		x.edge.Store.Return(x.borrowed)
		x.borrowed = 0
	}
	if x.place != nil {
		x.place()
		x.place = nil
	}
	if x.page != nil {
		x.edge.Store.Return(x.page.End())
		x.page = nil
	}
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
