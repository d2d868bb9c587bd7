// Package origin is the way to an origin: connections, time limits, and what a
// request carries when it goes there.
package origin

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/url"
	"time"

	"gerastic/internal/core/policy"
)

// Client sends requests to one origin.
type Client struct {
	Origin    *policy.Origin
	transport *http.Transport
}

// NewClient returns a client with its own pool of connections.
func NewClient(o *policy.Origin) *Client {
	dialer := &net.Dialer{Timeout: o.Connect, KeepAlive: 30 * time.Second}
	return &Client{Origin: o, transport: &http.Transport{
		DialContext:            dialer.DialContext,
		TLSHandshakeTimeout:    o.Connect + 2*time.Second,
		ResponseHeaderTimeout:  o.FirstByte,
		MaxConnsPerHost:        o.MaxConnections,
		MaxIdleConnsPerHost:    o.MaxConnections,
		IdleConnTimeout:        90 * time.Second,
		DisableCompression:     true, // encodings are the visitor's business and ours, not the transport's
		ForceAttemptHTTP2:      true,
		ReadBufferSize:         32 << 10,
		MaxResponseHeaderBytes: 256 << 10,
	}}
}

// Do sends a request made by Request or by hand; its URL must be under the origin's.
func (c *Client) Do(r *http.Request) (*http.Response, error) { return c.transport.RoundTrip(r) }

// RoundTrip makes a Client an http.RoundTripper.
func (c *Client) RoundTrip(r *http.Request) (*http.Response, error) { return c.Do(r) }

// Target is the address of a visitor's URL at the origin. The path goes as it came.
func (c *Client) Target(visitor *url.URL, query string, hasQuery bool) *url.URL {
	u := *c.Origin.URL
	u.Path = c.Origin.URL.Path + visitor.Path
	if visitor.RawPath != "" {
		u.RawPath = c.Origin.URL.EscapedPath() + visitor.RawPath
	}
	u.RawQuery = query
	u.ForceQuery = hasQuery && query == ""
	return &u
}

// Close ends idle connections; those in use end with their requests.
func (c *Client) Close() { c.transport.CloseIdleConnections() }

// Same tells whether a client for o would behave as this one does.
func (c *Client) Same(o *policy.Origin) bool {
	p := c.Origin
	return p.URL.String() == o.URL.String() && p.Connect == o.Connect && p.FirstByte == o.FirstByte && p.MaxConnections == o.MaxConnections
}

// Failure is how an origin failed, in a visitor's words.
type Failure struct {
	Status int // 502 or 504
	Text   string
}

// FailureOf sorts an error of Do or of reading a body.
func FailureOf(err error) Failure {
	var timeout net.Error
	if errors.Is(err, context.DeadlineExceeded) || errors.As(err, &timeout) && timeout.Timeout() {
		return Failure{http.StatusGatewayTimeout, "the origin did not answer in time"}
	}
	return Failure{http.StatusBadGateway, "the origin could not be reached or broke off"}
}
