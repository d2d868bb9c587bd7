package origin

import (
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

// How long a connection may have rested and be used again. An application server that
// closes it at the moment of a request would cost the visitor an error.
const (
	// defaultIdle is for an origin of which nothing is known: many close after five seconds.
	defaultIdle = 5 * time.Second
	// unprovenIdle is for what cannot be sent twice: some close after two.
	unprovenIdle = time.Second
	// provenIdle is for one that has kept a resting connection for longer than that.
	provenIdle = 55 * time.Second
	// keptAlive is how long a connection rests before it is closed: the longest that is tried.
	keptAlive = provenIdle + 2*time.Second
)

// habits are what an origin's address shows of how it treats connections that rest.
type habits struct {
	set    time.Duration // the policy's word; 0: none
	stated atomic.Int64  // ns, its Keep-Alive field's less a second; unset while it states nothing
	keeps  atomic.Bool   // it kept one for provenIdle
	closes atomic.Int64  // ns, a second less than it let one rest before it closed it; 0: unknown
}

// statesNothing marks an address that sent no Keep-Alive timeout.
const statesNothing = -1

// limit is how long a connection may have rested and be used again.
func (h *habits) limit() time.Duration {
	switch stated := h.stated.Load(); {
	case stated != statesNothing:
		return time.Duration(stated)
	case h.set > 0:
		return h.set
	case h.keeps.Load():
		return provenIdle
	case h.closes.Load() > 0:
		return time.Duration(h.closes.Load())
	}
	return defaultIdle
}

// limitOnce is the same for a request that cannot be sent twice: of an origin that has
// neither said nor shown how long it keeps connections, only one that hardly rested.
func (h *habits) limitOnce() time.Duration {
	if h.stated.Load() == statesNothing && h.set == 0 && !h.keeps.Load() {
		return min(h.limit(), unprovenIdle)
	}
	return h.limit()
}

// closed notes that the origin closed a connection that had rested so long. One that rested
// for less than a second may have ended for any reason.
func (h *habits) closed(rested time.Duration) {
	if rested < time.Second {
		return
	}
	h.keeps.Store(false)
	if early := rested - time.Second; early < defaultIdle {
		h.closes.Store(int64(max(early, time.Millisecond)))
	}
}

// hear reads the timeout of an answer's Keep-Alive field, in seconds.
func (h *habits) hear(header http.Header) {
	for _, line := range header["Keep-Alive"] {
		for param := range strings.SplitSeq(line, ",") {
			name, value, _ := strings.Cut(strings.TrimSpace(param), "=")
			seconds, err := strconv.Atoi(strings.Trim(strings.TrimSpace(value), `"`))
			if strings.EqualFold(strings.TrimSpace(name), "timeout") && err == nil && seconds >= 0 {
				h.stated.Store(int64(max(0, min(time.Duration(seconds), 3600)*time.Second-time.Second)))
			}
		}
	}
}

// connection is one to an origin that knows what was written to it and since when it rests.
type connection struct {
	net.Conn
	habits  *habits
	written atomic.Int64 // bytes
	rests   atomic.Int64 // unix ns since when no request uses it; 0: one does
	ended   atomic.Bool  // by the origin
}

// connectionOf finds ours below a TLS connection; nil for HTTP/2, whose connections are
// shared and say themselves when they end.
func connectionOf(c net.Conn) *connection {
	if t, encrypted := c.(*tls.Conn); encrypted {
		if t.ConnectionState().NegotiatedProtocol == "h2" {
			return nil
		}
		c = t.NetConn()
	}
	ours, _ := c.(*connection)
	return ours
}

func (c *connection) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.written.Add(int64(n))
	return n, err
}

func (c *connection) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if err == io.EOF {
		c.ended.Store(true)
		c.habits.closed(c.rested())
	}
	return n, err
}

func (c *connection) Close() error {
	if c.rested() >= provenIdle && !c.ended.Load() {
		c.habits.keeps.Store(true)
	}
	return c.Conn.Close()
}

// rested is for how long no request has used it.
func (c *connection) rested() time.Duration {
	since := c.rests.Load()
	if since == 0 {
		return 0
	}
	return time.Since(time.Unix(0, since))
}
