package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// Finding is a hit whose answer was not what the origin would have given.
type Finding struct {
	At        time.Time `json:"at"`
	Node      string    `json:"node"`
	Route     string    `json:"route"`
	URL       string    `json:"url" doc:"As the visitor asked"`
	Key       string    `json:"key"`
	Kind      string    `json:"kind" enum:"key,changed,unkeyed-cookie,unkeyed-field,unread-write" doc:"key: something that the key leaves out matters; changed: the content did, and nothing was purged; unkeyed-…: the key leaves out what comes with many requests; unread-write: a body was too long to be read, and more was purged than it named"`
	Stored    string    `json:"stored" doc:"Digest of the stored answer"`
	Origin    string    `json:"origin" doc:"Digest of the origin's answer"`
	Separator string    `json:"separator,omitempty" doc:"What separates the answers: a header, cookie or parameter"`
}

// Findings lists what comparisons of hits with the origin found, newest first. StatusOf the
// error is 503 while the database cannot be reached.
func (c *Client) Findings(ctx context.Context, since string) ([]Finding, error) {
	var out struct {
		Findings []Finding `json:"findings"`
	}
	err := c.call(ctx, "GET", "/v1/findings", url.Values{"since": {since}}, nil, &out)
	return out.Findings, err
}

// Event is one request as it was answered.
type Event struct {
	At      time.Time `json:"at"`
	Method  string    `json:"method"`
	URL     string    `json:"url"`
	Route   string    `json:"route"`
	Outcome string    `json:"outcome"`
	Cause   string    `json:"cause,omitempty"`
	Status  int       `json:"status"`
	Bytes   int64     `json:"bytes"`
	TookMS  float64   `json:"took_ms"`
	Key     string    `json:"key,omitempty"`
	Missed  int64     `json:"missed,omitempty" doc:"Events before this one that this watcher was too slow for"`
}

// WatchFilter says which requests are wanted; the zero value wants all.
type WatchFilter struct {
	Route, Outcome, Path string // Path is the beginning of the path
	Status               int
	Keys                 bool
}

// Watch calls seen for each request as it is answered, until ctx ends. A watcher who is slow
// misses events; it never slows the node. The error is that of seen, of ctx, or says that the
// stream broke off; StatusOf 503: too many watch.
func (c *Client) Watch(ctx context.Context, f WatchFilter, seen func(Event) error) error {
	q := url.Values{}
	for name, value := range map[string]string{"route": f.Route, "outcome": f.Outcome, "path": f.Path} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if f.Status != 0 {
		q.Set("status", fmt.Sprint(f.Status))
	}
	if f.Keys {
		q.Set("keys", "true")
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+"/v1/events?"+q.Encode(), nil)
	if err != nil {
		return err
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	resp, err := (&http.Client{}).Do(req)
	if err != nil {
		return fmt.Errorf("no node answers at %s; is it running, and is --control right? (%w)", c.base, unwrapURL(err))
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return problemOf(resp, nil)
	}
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var e Event
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return fmt.Errorf("reading an event: %w", err)
		}
		if e.Method == "" {
			continue // a sign of life
		}
		if err := seen(e); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return nil
	}
	return lines.Err()
}
