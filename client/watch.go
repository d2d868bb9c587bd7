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
	Kind      string    `json:"kind" enum:"key,changed,unkeyed-cookie,unkeyed-field,unread-write,fragment-clash" doc:"key: something that the key leaves out matters; changed: the content did, and nothing was purged; unkeyed-…: the key leaves out what comes with many requests; unread-write: a body was too long to be read, and more was purged than it named; fragment-clash: a fill of a fragment made something else than what was there"`
	Stored    string    `json:"stored" doc:"Digest of the stored answer"`
	Origin    string    `json:"origin" doc:"Digest of the origin's answer"`
	Separator string    `json:"separator,omitempty" doc:"What separates the answers: a header, cookie or parameter; of a fragment, the argument that its key likely leaves out"`
	Namespace string    `json:"namespace,omitempty" doc:"Of a fragment"`
	Name      string    `json:"name,omitempty" doc:"Of a fragment"`
	Samples   []string  `json:"samples,omitempty" doc:"Of a fragment: what was there, and what a fill made"`
}

// FragmentClashes is the kind of findings that applications report of their fragments.
const FragmentClashes = "fragment-clash"

// FragmentClash is what an application finds when it fills a fragment that is there: something else, although
// no purge came between, so that the fragment's key leaves something out.
type FragmentClash struct {
	Key     string   `json:"key"`
	Samples []string `json:"samples" doc:"What was there, and what a fill made" minItems:"2" maxItems:"2"`
	Missing string   `json:"missing,omitempty" doc:"The argument that the key likely leaves out"`
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

// FragmentEvent is what became of a fragment.
type FragmentEvent struct {
	At        time.Time `json:"at"`
	Namespace string    `json:"namespace"`
	Key       string    `json:"key"`
	Outcome   string    `json:"outcome" doc:"found: it was there; waited: somebody else made it meanwhile; filled: it was missing or stale, and was made; stored: on its own account; dropped: by its key"`
	TookMS    float64   `json:"took_ms" doc:"To find it, or to make it"`
	Bytes     int64     `json:"bytes" doc:"As it is stored"`
	Missed    int64     `json:"missed,omitempty" doc:"Events before this one that this watcher was too slow for"`
}

// WatchFilter says which requests are wanted; the zero value wants all.
type WatchFilter struct {
	Route, Outcome, Path string // Path is the beginning of the path, or of a fragment's key
	Status               int
	Keys                 bool
}

// Watch calls seen for each request as it is answered, until ctx ends. A watcher who is slow
// misses events; it never slows the node. The error is that of seen, of ctx, or says that the
// stream broke off; StatusOf 503: too many watch.
func (c *Client) Watch(ctx context.Context, f WatchFilter, seen func(Event) error) error {
	return follow(ctx, c, f.query(), func(e *Event) error {
		if e.Method == "" {
			return nil // a sign of life
		}
		return seen(*e)
	})
}

// WatchFragments calls seen for what becomes of fragments, as Watch does for requests.
func (c *Client) WatchFragments(ctx context.Context, f WatchFilter, seen func(FragmentEvent) error) error {
	q := f.query()
	q.Set("of", "fragments")
	return follow(ctx, c, q, func(e *FragmentEvent) error {
		if e.Key == "" {
			return nil // a sign of life
		}
		return seen(*e)
	})
}

func (f *WatchFilter) query() url.Values {
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
	return q
}

// follow reads a stream of events.
func follow[E any](ctx context.Context, c *Client, q url.Values, seen func(*E) error) error {
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
		var e E
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return fmt.Errorf("reading an event: %w", err)
		}
		if err := seen(&e); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return nil
	}
	return lines.Err()
}
