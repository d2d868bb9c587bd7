package gate

import (
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/netip"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"gerastic/internal/core/pace"
)

// Conn is one connection. It is cut off, with an error for whoever writes to it, when its peer
// takes what is written more slowly than the pace.
type Conn struct {
	net.Conn
	listener *Listener
	address  netip.Addr
	counted  bool         // for its address; under listener.mu
	rests    atomic.Int64 // unix ns since when there is no request on it; 0: there is one

	// Only who writes uses these.
	armed time.Time // when a write would end by itself
	held  int64     // bytes that the system held for the peer when that was set
	since int64     // bytes that it took since then

	cut     atomic.Bool // whoever writes is to end
	closing sync.Once
}

// connOf finds ours below a TLS connection.
func connOf(c net.Conn) *Conn {
	if t, encrypted := c.(*tls.Conn); encrypted {
		c = t.NetConn()
	}
	ours, _ := c.(*Conn)
	return ours
}

// household is what counts as one address.
func (c *Conn) household() netip.Addr {
	if c.address.Is6() {
		if p, err := c.address.Prefix(64); err == nil {
			return p.Addr()
		}
	}
	return c.address
}

// Write implements net.Conn. A peer that takes nothing is cut off after pace.Grace to twice
// that; one that keeps the pace is written to for as long as it likes.
func (c *Conn) Write(p []byte) (written int, err error) {
	watch := pace.Begin(time.Now())
	for {
		if !c.ready(&watch) {
			return written, net.ErrClosed
		}
		n, err := c.Conn.Write(p[written:])
		written += n
		if c.since += int64(n); !c.goesOn(&watch, err) {
			return written, err
		}
	}
}

// filePiece is what is sent from a file at a time, in bytes.
const filePiece = 1 << 20

// ReadFrom implements io.ReaderFrom: a part of a file is sent by the system, at the same pace.
func (c *Conn) ReadFrom(from io.Reader) (read int64, err error) {
	tcp, isTCP := c.Conn.(*net.TCPConn)
	part, isPart := from.(*io.LimitedReader)
	if isPart {
		_, isPart = part.R.(*os.File)
	}
	if !isTCP || !isPart {
		return io.Copy(onlyWriter{c}, from)
	}
	watch := pace.Begin(time.Now())
	for part.N > 0 {
		if !c.ready(&watch) {
			return read, net.ErrClosed
		}
		n, err := tcp.ReadFrom(&io.LimitedReader{R: part.R, N: min(part.N, filePiece)})
		read, part.N = read+n, part.N-n
		c.since += n
		if again := c.goesOn(&watch, err); !again && (err != nil || n == 0) {
			return read, err
		} else if !again {
			watch = pace.Begin(time.Now())
		}
	}
	return read, nil
}

// onlyWriter hides that a connection can read.
type onlyWriter struct{ io.Writer }

// ready reports whether a connection may be written to, and sees to it that this ends.
func (c *Conn) ready(watch *pace.Watch) bool {
	if c.cut.Load() {
		return false
	}
	if c.armed.Sub(watch.Since) < pace.Grace { // seldom: it costs as much as a lock
		c.arm(watch.Since.Add(2 * pace.Grace))
	}
	return true
}

// goesOn reports whether what ended with err ended only because it took its time, and the peer keeps
// the pace.
func (c *Conn) goesOn(watch *pace.Watch, err error) bool {
	if err == nil || !errors.Is(err, os.ErrDeadlineExceeded) || c.cut.Load() {
		return false
	}
	now := time.Now()
	if watch.Slow(now, c.taken()) {
		c.listener.slow.Add(1)
		c.drop()
		return false
	}
	c.arm(now.Add(pace.Grace))
	return true
}

// arm sets when writes end by themselves.
func (c *Conn) arm(by time.Time) {
	c.armed, c.since = by, 0
	c.held, _ = queued(c.Conn)
	_ = c.Conn.SetWriteDeadline(by)
}

// taken is how many bytes the peer has taken since the connection was armed. What the system
// takes comes in steps of a MiB, for which a peer that reads slowly may need minutes.
func (c *Conn) taken() int {
	held, known := queued(c.Conn)
	if !known {
		return int(c.since)
	}
	return int(c.since - (held - c.held))
}

// SetWriteDeadline ends what is being written if the time has come; if it has not, the pace
// alone says how long a write may take.
func (c *Conn) SetWriteDeadline(t time.Time) error {
	if t.IsZero() || t.After(time.Now()) {
		return nil
	}
	c.drop()
	return c.Conn.SetWriteDeadline(t)
}

// drop ends the writing for good; what the system still has of it goes with the connection.
func (c *Conn) drop() {
	c.cut.Store(true)
	if tcp, ok := c.Conn.(*net.TCPConn); ok {
		_ = tcp.SetLinger(0)
	}
}

// SetDeadline implements net.Conn.
func (c *Conn) SetDeadline(t time.Time) error {
	return errors.Join(c.SetReadDeadline(t), c.SetWriteDeadline(t))
}

// Close implements net.Conn.
func (c *Conn) Close() (err error) {
	c.closing.Do(func() {
		err = c.Conn.Close()
		c.listener.leave(c)
	})
	return err
}

// CloseWrite ends the writing side: the server lets a visitor read to the end before it
// closes.
func (c *Conn) CloseWrite() error {
	if tcp, ok := c.Conn.(*net.TCPConn); ok {
		return tcp.CloseWrite()
	}
	return nil
}
