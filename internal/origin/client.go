package origin

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"sync"
	"time"

	"gerastic/internal/core/policy"
)

// Client sends requests to one origin, by its addresses in turn.
type Client struct {
	Origin    *policy.Origin
	addresses []*address
	turn      counter
	paced     places
	end       context.CancelFunc
	checks    sync.WaitGroup
}

// NewClient returns a client with its own pool of connections. Close ends its checks.
func NewClient(o *policy.Origin) *Client {
	dialer := &net.Dialer{Timeout: o.Connect, KeepAlive: 30 * time.Second}
	c := &Client{Origin: o}
	c.paced.limit = max(1, int64(len(o.URLs)*o.MaxConnections/2))
	for _, u := range o.URLs {
		a := &address{url: u, breaker: o.Breaker, several: len(o.URLs) > 1, habits: habits{set: o.Idle}, queue: queue{limit: int64(o.MaxConnections) * queueLength}}
		a.habits.stated.Store(statesNothing)
		a.transport = &http.Transport{
			DialContext: func(ctx context.Context, network, to string) (net.Conn, error) {
				raw, err := dialer.DialContext(ctx, network, to)
				if err != nil {
					return nil, err
				}
				return &connection{Conn: raw, habits: &a.habits}, nil
			},
			TLSHandshakeTimeout:    o.Connect + 2*time.Second,
			ExpectContinueTimeout:  time.Second,
			MaxConnsPerHost:        o.MaxConnections,
			MaxIdleConnsPerHost:    o.MaxConnections,
			IdleConnTimeout:        max(keptAlive, o.Idle+time.Second),
			DisableCompression:     true, // encodings are the visitor's business and ours, not the transport's
			ForceAttemptHTTP2:      true,
			ReadBufferSize:         32 << 10,
			MaxResponseHeaderBytes: 256 << 10,
		}
		c.addresses = append(c.addresses, a)
	}
	life, end := context.WithCancel(context.Background())
	c.end = end
	if o.Check.Path != "" {
		for _, a := range c.addresses {
			c.checks.Go(func() { a.check(life, o.Check) })
		}
	}
	return c
}

// Do sends a request whose URL has the path and query at the origin; scheme and host
// are those of the address that is chosen. limit is how long the answer's head may take. A
// request that may be repeated goes to another address, or once more to the only one, if
// nothing came back; any other once more on a new connection, if nothing of it was sent. A
// body that cannot be read to its end is a *SenderError.
func (c *Client) Do(r *http.Request, limit time.Duration) (*http.Response, error) {
	r, err := fromMemory(r)
	if err != nil {
		return nil, err
	}
	r, t := c.plan(r)
	for {
		a := c.choose(t.tried)
		if a == nil {
			return nil, ErrResting
		}
		resp, clean, err := a.send(r, limit, t.once)
		t.tried = append(t.tried, a)
		if err != nil && t.once.broken() != nil {
			return nil, &SenderError{t.once.broken()}
		}
		if err == nil || !t.mayRepeat(r, err) {
			return resp, err
		}
		if t.once != nil {
			if !clean || !t.once.rewind() {
				return nil, err
			}
			a.transport.CloseIdleConnections() // those that rest may be as dead as the one that failed
		}
		if err := renewBody(r); err != nil {
			return nil, err
		}
	}
}

// tries is how a request may be tried again.
type tries struct {
	most  int
	tried []*address
	once  *rewinder // of one that may not be repeated; nil: it may
}

// plan says how a request may be tried again; the body of one that may not is read through a
// rewinder.
func (c *Client) plan(r *http.Request) (*http.Request, tries) {
	if repeatable(r) {
		return r, tries{most: max(2, len(c.addresses))}
	}
	once := &rewinder{}
	if hasBody(r) && r.GetBody == nil {
		r = r.WithContext(r.Context())
		once.body, r.Body = r.Body, once
	}
	return r, tries{most: 2, once: once}
}

// mayRepeat reports whether another try may come after an error.
func (t *tries) mayRepeat(r *http.Request, err error) bool {
	return len(t.tried) < t.most && r.Context().Err() == nil && !isTimeout(err) && err != errSwitched && err != ErrBusy
}

// renewBody gives a request its body once more, where it can be had again.
func renewBody(r *http.Request) (err error) {
	if r.GetBody != nil {
		r.Body, err = r.GetBody()
	}
	return err
}

// fromMemory gives a request whose body can be had again one that the transport knows to be
// in memory: then head and body go out in one piece.
func fromMemory(r *http.Request) (*http.Request, error) {
	if r.GetBody == nil || r.Body == nil || r.Body == http.NoBody {
		return r, nil
	}
	body, err := r.GetBody()
	if err != nil {
		return nil, err
	}
	out := r.WithContext(r.Context())
	out.Body = body
	return out, nil
}

// repeatable: idempotent (RFC 9110 §9.2.2), and its body can be sent again.
func repeatable(r *http.Request) bool {
	switch r.Method {
	case http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodTrace, http.MethodPut, http.MethodDelete, "QUERY":
		return r.Body == nil || r.Body == http.NoBody || r.GetBody != nil
	}
	return false
}

// choose takes the next address that is well and was not tried; if none is well, one
// whose rest is over. nil: all rest.
func (c *Client) choose(tried []*address) *address {
	start := int(c.turn.next())
	now := time.Now()
	for _, again := range []bool{false, true} {
		for i := range c.addresses {
			a := c.addresses[(start+i)%len(c.addresses)]
			if (again || !slices.Contains(tried, a)) && a.available(now) {
				return a
			}
		}
	}
	if len(c.addresses) > 1 && len(tried) == 0 { // all are thought to be down: better try than refuse
		if a := c.addresses[start%len(c.addresses)]; !a.resting(now) {
			return a
		}
	}
	return nil
}

// Within is a Client whose answers' heads may take so long, as an http.RoundTripper.
type Within struct {
	Client *Client
	Limit  time.Duration
}

// RoundTrip implements http.RoundTripper.
func (w Within) RoundTrip(r *http.Request) (*http.Response, error) {
	return w.Client.Do(r, w.Limit)
}

// Query is the query of a URL; one that is empty differs from none.
type Query struct {
	Text    string
	Present bool
}

// Target is a visitor's URL at the origin: an address's path stands before it when it
// is sent. The path goes as it came.
func (c *Client) Target(visitor *url.URL, query Query) *url.URL {
	first := c.Origin.URLs[0]
	return &url.URL{Scheme: first.Scheme, Host: first.Host, Path: visitor.Path, RawPath: visitor.RawPath, RawQuery: query.Text, ForceQuery: query.Present && query.Text == ""}
}

// Close ends checks and idle connections; those in use end with their requests.
func (c *Client) Close() {
	c.end()
	c.checks.Wait()
	for _, a := range c.addresses {
		a.transport.CloseIdleConnections()
	}
}

// Same reports whether a client for o would behave as this one does.
func (c *Client) Same(o *policy.Origin) bool { return reflect.DeepEqual(c.Origin, o) }

// SenderError says that a request's own body could not be read: that is not a failure of the
// origin's.
type SenderError struct{ Err error }

func (e *SenderError) Error() string { return "the request's body broke off: " + e.Err.Error() }

func (e *SenderError) Unwrap() error { return e.Err }

// Failure is how an origin failed, in a visitor's words.
type Failure struct {
	Status int // 502, 503 or 504
	Text   string
}

// FailureOf sorts an error of Do or of reading a body.
func FailureOf(err error) Failure {
	if errors.Is(err, ErrBusy) {
		return Failure{http.StatusServiceUnavailable, err.Error() + "; try again"}
	}
	if isTimeout(err) {
		return Failure{http.StatusGatewayTimeout, "the origin did not answer in time"}
	}
	return Failure{http.StatusBadGateway, "the origin could not be reached or broke off"}
}

func isTimeout(err error) bool {
	var timeout net.Error
	return errors.Is(err, context.DeadlineExceeded) || errors.As(err, &timeout) && timeout.Timeout()
}
