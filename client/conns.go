package client

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"sync"
	"time"

	"gerastic.example/client/protocol"
)

// conns are connections to a node on which callers write and read by themselves. A lookup is so short that to hand
// it to the goroutines of an http.Transport, and back, would take as long as the rest of it. Safe for concurrent use.
type conns struct {
	address, token string
	host           string      // of the Host field
	tls            *tls.Config // nil: http
	mu             sync.Mutex
	idle           []*conn // the last is the one that was used last
}

// conn is a connection with what came on it and is not read yet.
type conn struct {
	net.Conn
	in       *bufio.Reader
	lastUsed time.Time
}

const (
	mostIdle = 256
	// longestIdle is shorter than a node keeps a connection that rests.
	longestIdle = 30 * time.Second
)

func newConns(base *url.URL, token string) *conns {
	c := &conns{token: token, host: base.Host}
	port := base.Port()
	if base.Scheme == "https" {
		c.tls = &tls.Config{ServerName: base.Hostname()}
	}
	switch {
	case port != "":
	case c.tls != nil:
		port = "443"
	default:
		port = "80"
	}
	c.address = net.JoinHostPort(base.Hostname(), port)
	return c
}

// reply is an answer that is being read. Whoever has it ends it.
type reply struct {
	*http.Response
	conn   *conn
	from   *conns
	ctx    context.Context
	unhook func() bool // false: the context has ended, and the connection is of no use
	whole  bool        // it was read to its end
}

// post makes a call with messages. The answer begins before a time limit, or the error is errTooLate; the error of a
// context that ends is its cause.
func (c *conns) post(ctx context.Context, path string, body []byte, within time.Duration) (*reply, error) {
	ends := time.Now().Add(within)
	for {
		conn, used, err := c.take(ctx, ends)
		if err != nil {
			return nil, c.said(ctx, err)
		}
		r := &reply{conn: conn, from: c, ctx: ctx}
		r.unhook = context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
		r.until(ends)
		begun, err := r.exchange(c.request(path, body))
		if err == nil {
			return r, nil
		}
		r.end()
		if !used || begun || errors.Is(err, os.ErrDeadlineExceeded) || ctx.Err() != nil {
			return nil, c.said(ctx, err)
		}
		c.closeIdle() // it had rested for too long, and so have the others
	}
}

// request writes a request; one Write sends it.
func (c *conns) request(path string, body []byte) []byte {
	out := make([]byte, 0, 256+len(path)+len(c.token)+len(body))
	out = append(out, "POST "+path+" HTTP/1.1\r\nHost: "+c.host+"\r\nAuthorization: Bearer "+c.token+"\r\nContent-Type: "+protocol.MediaType+"\r\nContent-Length: "...)
	out = strconv.AppendInt(out, int64(len(body)), 10)
	return append(append(out, "\r\n\r\n"...), body...)
}

// exchange sends a request and reads the head of its answer; begun says that something of that came.
func (r *reply) exchange(request []byte) (begun bool, err error) {
	if _, err := r.conn.Write(request); err != nil {
		return false, err
	}
	if _, err := r.conn.in.Peek(1); err != nil {
		return false, err
	}
	for {
		if r.Response, err = http.ReadResponse(r.conn.in, nil); err != nil {
			return true, half(err)
		}
		switch {
		case r.StatusCode == http.StatusRequestTimeout: // said to a connection that rested, and no answer (RFC 9110 §15.5.9)
			return false, errors.New("it gave up waiting for a request")
		case r.StatusCode >= 200: // not an interim one (RFC 9110 §15.2)
			return true, nil
		}
	}
}

// until gives the rest of the exchange a time limit.
func (r *reply) until(ends time.Time) {
	_ = r.conn.SetDeadline(ends)
	if r.ctx.Err() != nil { // it may have ended before that
		_ = r.conn.SetDeadline(time.Unix(1, 0))
	}
}

// Read reads the body.
func (r *reply) Read(p []byte) (int, error) {
	n, err := r.Body.Read(p)
	r.whole = err == io.EOF
	if err != nil && !r.whole {
		err = r.from.said(r.ctx, err)
	}
	return n, err
}

// end gives the connection back, or closes it if it is of no use any more.
func (r *reply) end() {
	if r.unhook() && r.whole && !r.Close && r.conn.in.Buffered() == 0 {
		r.from.give(r.conn)
		return
	}
	_ = r.conn.Close()
}

// said is what an error of a connection means for whoever called.
func (c *conns) said(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return errTooLate
	}
	return fmt.Errorf("%s: %w", c.address, err)
}

// take returns a connection; used says that it was used before.
func (c *conns) take(ctx context.Context, ends time.Time) (taken *conn, used bool, err error) {
	c.mu.Lock()
	if last := len(c.idle) - 1; last >= 0 {
		taken = c.idle[last]
		c.idle[last] = nil
		c.idle = c.idle[:last]
	}
	c.mu.Unlock()
	if taken != nil {
		return taken, true, nil
	}
	ctx, cancel := context.WithDeadline(ctx, ends)
	defer cancel()
	var raw net.Conn
	if c.tls != nil {
		raw, err = (&tls.Dialer{Config: c.tls}).DialContext(ctx, "tcp", c.address)
	} else {
		raw, err = (&net.Dialer{}).DialContext(ctx, "tcp", c.address)
	}
	if err != nil {
		return nil, false, err
	}
	return &conn{Conn: raw, in: bufio.NewReader(raw)}, false, nil
}

// give takes a connection back, and closes those that have rested for too long.
func (c *conns) give(back *conn) {
	back.lastUsed = time.Now()
	c.mu.Lock()
	var old []*conn
	for len(c.idle) > 0 && (len(c.idle) >= mostIdle || back.lastUsed.Sub(c.idle[0].lastUsed) > longestIdle) {
		old = append(old, c.idle[0])
		c.idle = c.idle[1:]
	}
	c.idle = append(c.idle, back)
	c.mu.Unlock()
	closeAll(old)
}

// closeIdle closes the connections that nobody uses.
func (c *conns) closeIdle() {
	c.mu.Lock()
	old := c.idle
	c.idle = nil
	c.mu.Unlock()
	closeAll(old)
}

func closeAll(all []*conn) {
	for _, one := range all {
		_ = one.Close()
	}
}
