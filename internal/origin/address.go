package origin

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"sync"
	"sync/atomic"
	"time"

	"gerastic/internal/core/policy"
)

// ErrResting says that every address failed so often that it is left alone for a while.
var ErrResting = errors.New("the origin failed repeatedly and is left alone for a while (breaker)")

// errLate says that no answer came within the time for one.
var errLate = fmt.Errorf("no answer in time: %w", context.DeadlineExceeded)

// errSwitched says that an answer is none to the request: it changes to a protocol that
// nobody asked for, or its status is below those of HTTP.
var errSwitched = errors.New("the origin changed the protocol unasked, or answered with a status below 100")

// rest is how long an address that failed is passed over while others are well.
const rest = 10 * time.Second

type counter struct{ n atomic.Uint32 }

func (c *counter) next() uint32 { return c.n.Add(1) - 1 }

// address is one of an origin's, with what is known of its health.
type address struct {
	url       *url.URL
	transport *http.Transport
	breaker   policy.Breaker
	several   bool // there are others to go to
	habits    habits
	queue     queue

	mu       sync.Mutex
	failures int       // in a row
	until    time.Time // passed over until then
	trying   bool      // one request is trying whether it is well again
	unwell   bool      // says the check
}

// available reports whether a request may be sent there now.
func (a *address) available(now time.Time) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.unwell && a.several {
		return false
	}
	if now.Before(a.until) {
		return false
	}
	if !a.open() {
		return true
	}
	if a.trying {
		return false
	}
	a.trying = true // the breaker lets one through
	return true
}

// open: the breaker has opened. Under mu.
func (a *address) open() bool { return a.breaker.After > 0 && a.failures >= a.breaker.After }

// resting: the breaker keeps everything away.
func (a *address) resting(now time.Time) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.open() && (a.trying || now.Before(a.until))
}

// send makes a request there and learns from how it ends. What counts as a failure is
// that no answer came; an answer with a status of failure is an answer, and a body that
// breaks off is its sender's failure. limit is for the answer's head: from the start, but
// without the time that sending the request's body takes. clean reports that nothing of the
// request was written.
func (a *address) send(r *http.Request, limit time.Duration, body *rewinder) (resp *http.Response, clean bool, err error) {
	leave, ok := a.queue.enter()
	if !ok {
		a.settled()
		return nil, true, ErrBusy
	}
	defer leave()
	ctx, cancel := context.WithCancelCause(r.Context())
	timer := time.AfterFunc(limit, func() { cancel(errLate) })
	defer timer.Stop()
	var used use
	trace := used.trace(ctx, a.restingFor(r))
	connected := trace.GotConn
	trace.GotConn = func(info httptrace.GotConnInfo) {
		leave()
		if hasBody(r) {
			timer.Stop()
		}
		connected(info)
	}
	if hasBody(r) {
		trace.WroteRequest = func(httptrace.WroteRequestInfo) { timer.Reset(limit) }
	}
	resp, err = a.transport.RoundTrip(a.addressed(r.WithContext(httptrace.WithClientTrace(ctx, trace))))
	switch {
	case err != nil && errors.Is(context.Cause(ctx), errLate):
		err = errLate
	case err == nil && (resp.StatusCode < 100 || resp.StatusCode == http.StatusSwitchingProtocols && len(r.Header["Upgrade"]) == 0):
		resp.Body.Close()
		resp, err = nil, errSwitched
	}
	if err == nil {
		a.habits.hear(resp.Header)
	}
	a.ended(r, body, err)
	return resp, err != nil && used.clean(), err
}

// restingFor is how long a connection may have rested that takes a request.
func (a *address) restingFor(r *http.Request) func() time.Duration {
	if repeatable(r) {
		return a.habits.limit
	}
	return a.habits.limitOnce
}

func hasBody(r *http.Request) bool { return r.Body != nil && r.Body != http.NoBody }

// addressed directs a request to the address.
func (a *address) addressed(r *http.Request) *http.Request {
	u := *r.URL
	u.Scheme, u.Host = a.url.Scheme, a.url.Host
	if u.RawPath != "" {
		u.RawPath = a.url.EscapedPath() + u.RawPath
	}
	u.Path = a.url.Path + u.Path
	r.URL = &u
	return r
}

// ended learns from how a request ended.
func (a *address) ended(r *http.Request, body *rewinder, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.trying = false
	switch {
	case err == nil:
		a.failures, a.until = 0, time.Time{}
	case errors.Is(context.Cause(r.Context()), context.Canceled): // we went away, not it
	case body.broken() != nil: // nor is that its failure
	default:
		a.failures++
		if a.open() {
			a.until = time.Now().Add(a.breaker.Retry)
		} else if a.several {
			a.until = time.Now().Add(rest)
		}
	}
}

// settled notes that a request which might have tried whether the address is well again did
// not come to it.
func (a *address) settled() {
	a.mu.Lock()
	a.trying = false
	a.mu.Unlock()
}

// use is the connection that a request is sent on.
type use struct {
	connection atomic.Pointer[connection]
	before     atomic.Int64 // bytes written to it for others
}

// trace follows which connection it is, gives up one that has rested for too long, and
// notes when it rests again.
func (u *use) trace(ctx context.Context, limit func() time.Duration) *httptrace.ClientTrace {
	return &httptrace.ClientTrace{
		GotConn: func(info httptrace.GotConnInfo) {
			c := connectionOf(info.Conn)
			u.connection.Store(c)
			if c != nil && info.WasIdle && info.IdleTime > limit() {
				c.Close() // nothing will be written to it, so that the request goes on another
			} else {
				count(ctx)
			}
			if c != nil {
				u.before.Store(c.written.Load())
				c.rests.Store(0)
			}
		},
		PutIdleConn: func(err error) {
			if c := u.connection.Load(); c != nil && err == nil {
				c.rests.Store(time.Now().UnixNano())
			}
		},
	}
}

// clean reports that nothing of the request was written.
func (u *use) clean() bool {
	c := u.connection.Load()
	return c != nil && c.written.Load() == u.before.Load()
}

// check asks regularly whether the address is well: any answer below 500 says so.
func (a *address) check(ctx context.Context, p policy.Check) {
	for {
		well := a.ask(ctx, p)
		if ctx.Err() != nil {
			return
		}
		a.mu.Lock()
		a.unwell = !well
		if well {
			a.failures, a.until = 0, time.Time{}
		}
		a.mu.Unlock()
		select {
		case <-ctx.Done():
			return
		case <-time.After(p.Every):
		}
	}
}

func (a *address) ask(ctx context.Context, p policy.Check) bool {
	ctx, cancel := context.WithTimeout(ctx, p.Timeout)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, a.url.String()+p.Path, nil)
	if err != nil {
		return false
	}
	r.Header.Set("User-Agent", "gerastic check")
	resp, err := a.transport.RoundTrip(r)
	if err != nil {
		return false
	}
	resp.Body.Close()
	return resp.StatusCode < 500
}
