package gate

import (
	"net"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"
)

// Options bound a Listener.
type Options struct {
	Connections int                   // at a time
	PerAddress  int                   // at a time, of one address (in IPv6, of one /64); 0: as many as there may be in all
	Exempt      func(netip.Addr) bool // reports for which addresses PerAddress does not hold; nil: for none
}

// Listener wraps another. Its ConnState must be the server's: so it knows which connections
// rest, and closes the one that has rested longest when it needs the place.
type Listener struct {
	net.Listener
	options Options
	places  chan struct{}
	closed  chan struct{}
	closing sync.Once

	waiting atomic.Bool  // somebody is to be accepted, and there is no place
	refused atomic.Int64 // connections of an address that had too many
	slow    atomic.Int64 // connections cut off because their peer did not read
	ended   atomic.Int64 // connections that rested and were closed for another

	mu        sync.Mutex
	open      map[*Conn]struct{}
	addresses map[netip.Addr]int
}

// New returns a listener that accepts from another.
func New(from net.Listener, o Options) *Listener {
	return &Listener{Listener: from, options: o, places: make(chan struct{}, max(1, o.Connections)), closed: make(chan struct{}), open: map[*Conn]struct{}{}, addresses: map[netip.Addr]int{}}
}

// Accept implements net.Listener. While all places are taken and no connection rests, it
// waits: the system keeps those who come in line.
func (l *Listener) Accept() (net.Conn, error) {
	for {
		raw, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		c := &Conn{Conn: raw, listener: l, address: addressOf(raw)}
		if !l.admit(c) {
			l.refused.Add(1)
			raw.Close()
			continue
		}
		if err := l.place(); err != nil {
			raw.Close()
			return nil, err
		}
		l.mu.Lock()
		l.open[c] = struct{}{}
		l.mu.Unlock()
		return c, nil
	}
}

// place takes one of the places.
func (l *Listener) place() error {
	select {
	case l.places <- struct{}{}:
		return nil
	default:
	}
	l.waiting.Store(true)
	defer l.waiting.Store(false)
	l.makePlace()
	select {
	case l.places <- struct{}{}:
		return nil
	case <-l.closed:
		return net.ErrClosed
	}
}

// makePlace closes the connection that has rested longest, if any rests. If none does, the next
// that comes to rest sees that its place is wanted.
func (l *Listener) makePlace() {
	for {
		oldest, since := l.longestResting()
		if oldest == nil || !l.waiting.CompareAndSwap(true, false) { // or one that came to rest has made room
			return
		}
		if oldest.rests.CompareAndSwap(since, 0) {
			l.ended.Add(1)
			oldest.Close()
			return
		}
		l.waiting.Store(true) // a request came on it meanwhile
	}
}

// longestResting returns the connection that has rested longest and since when it does (unix ns);
// nil if none rests.
func (l *Listener) longestResting() (oldest *Conn, since int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.open {
		if at := c.rests.Load(); at != 0 && (oldest == nil || at < since) {
			oldest, since = c, at
		}
	}
	return oldest, since
}

// Close implements net.Listener.
func (l *Listener) Close() error {
	l.closing.Do(func() { close(l.closed) })
	return l.Listener.Close()
}

// ConnState is told by the server what becomes of connections.
func (l *Listener) ConnState(nc net.Conn, state http.ConnState) {
	c := connOf(nc)
	switch {
	case c == nil:
	case state == http.StateNew: // until its first request is there, it is as good as resting
		c.rests.Store(time.Now().UnixNano())
	case state != http.StateIdle:
		c.rests.Store(0)
	default:
		now := time.Now().UnixNano()
		c.rests.Store(now) // before the wish is read: the one who wants a place sets the wish, and then looks for who rests
		if l.waiting.CompareAndSwap(true, false) && c.rests.CompareAndSwap(now, 0) {
			l.ended.Add(1)
			c.Close()
		}
	}
}

// admit counts a connection for its address; false if there are too many.
func (l *Listener) admit(c *Conn) bool {
	if l.options.PerAddress <= 0 || !c.address.IsValid() || l.options.Exempt != nil && l.options.Exempt(c.address) {
		return true
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.addresses[c.household()] >= l.options.PerAddress {
		return false
	}
	l.addresses[c.household()]++
	c.counted = true
	return true
}

// leave gives the place of a connection back.
func (l *Listener) leave(c *Conn) {
	l.mu.Lock()
	_, open := l.open[c]
	delete(l.open, c)
	if c.counted {
		c.counted = false
		if l.addresses[c.household()]--; l.addresses[c.household()] == 0 {
			delete(l.addresses, c.household())
		}
	}
	l.mu.Unlock()
	if open {
		<-l.places
	}
}

// Figures are a listener's counters.
type Figures struct {
	Open, Limit int
	Refused     int64 // of an address that had too many
	Slow        int64 // cut off, since their peer did not read
	Ended       int64 // rested, and were closed for another
}

// Figures returns the counters as of now.
func (l *Listener) Figures() Figures {
	return Figures{Open: len(l.places), Limit: cap(l.places), Refused: l.refused.Load(), Slow: l.slow.Load(), Ended: l.ended.Load()}
}

func addressOf(c net.Conn) netip.Addr {
	at, err := netip.ParseAddrPort(c.RemoteAddr().String())
	if err != nil {
		return netip.Addr{}
	}
	return at.Addr().Unmap().WithZone("")
}
