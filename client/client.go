package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"
)

// Client calls one node. Safe for concurrent use.
type Client struct {
	base  string
	token string
	http  *http.Client

	ordered atomic.Int64 // purges
}

// DefaultControl is where a node's control side is, unless it is told otherwise.
const DefaultControl = "http://127.0.0.1:8490"

// New returns a client for the control address of a node (http://127.0.0.1:8490) and a
// bearer token with the rights that the calls need.
func New(control, token string) *Client {
	return &Client{base: strings.TrimSuffix(control, "/"), token: token, http: &http.Client{Timeout: 60 * time.Second}}
}

// Problem is an error that the API answered with (RFC 9457).
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, e := range p.Errors {
		text += "; " + strings.TrimSpace(e.Location+" "+e.Message)
	}
	return text
}

// StatusOf returns the HTTP status of an error of the API, or 0.
func StatusOf(err error) int {
	var p *Problem
	if errors.As(err, &p) {
		return p.Status
	}
	return 0
}

// call sends in (nil: no body) and decodes the answer into out (nil: none).
func (c *Client) call(ctx context.Context, method, path string, query url.Values, in, out any) error {
	var body io.Reader
	if in != nil {
		encoded, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(encoded)
	}
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return err
	}
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	req.Header.Set("Accept", "application/json")
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return fmt.Errorf("no node answers at %s; is it running, and is --control right? (%w)", c.base, unwrapURL(err))
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 400 {
		return problemOf(resp, out)
	}
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("reading the answer of %s %s: %w", method, path, err)
	}
	return nil
}

// unwrapURL drops the repetition of method and URL.
func unwrapURL(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// problemOf reads a problem; an answer that is none, and comes with a status of failure
// all the same, goes into out.
func problemOf(resp *http.Response, out any) error {
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if out != nil && strings.HasPrefix(resp.Header.Get("Content-Type"), "application/json") {
		_ = json.Unmarshal(text, out)
	}
	p := &Problem{}
	if json.Unmarshal(text, p) != nil || p.Title == "" && p.Detail == "" {
		p.Detail = strings.TrimSpace(string(text))
	}
	p.Status = resp.StatusCode
	switch {
	case p.Status == http.StatusUnauthorized:
		p.Detail = "the node does not know this token; pass --token, set GERASTIC_TOKEN, or name the node's directory with --data"
	case p.Detail == "" && p.Title == "":
		p.Detail = resp.Status
	}
	return p
}
