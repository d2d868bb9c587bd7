package client

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"time"
)

// PurgeRequest names what is to go. At least one of its lists, or All, must be set.
type PurgeRequest struct {
	Tags     []string   `json:"tags,omitempty" maxItems:"1000" doc:"Entries that carry any of these tags"`
	Together bool       `json:"together,omitempty" doc:"Only entries that carry all of the tags"`
	URLs     []PurgeURL `json:"urls,omitempty" maxItems:"1000" doc:"Entries of these URLs, with all their variants"`
	Routes   []string   `json:"routes,omitempty" maxItems:"100" doc:"Entries of these routes"`
	Below    []string   `json:"below,omitempty" maxItems:"100" doc:"Entries below a path, all whose path begins so: https://HOST/PATH, or /PATH for every host"`
	Hosts    []string   `json:"hosts,omitempty" maxItems:"100" doc:"Entries of these hosts"`
	All      bool       `json:"all,omitempty" doc:"Everything"`
	Mode     string     `json:"mode,omitempty" enum:"drop,stale" default:"drop" doc:"drop: never used again; stale: revalidated before use, still served under the route's stale rules"`
	Preview  bool       `json:"preview,omitempty" doc:"Count what would go, and change nothing"`
	Reason   string     `json:"reason,omitempty" maxLength:"500" doc:"Why, for those who read the ledger"`
}

// PurgeURL names a URL: absolute, or from the slash for every host. In JSON it is a
// string, or an object when AnyQuery is set.
type PurgeURL struct {
	URL      string `json:"url" doc:"https://HOST/PATH?QUERY, or /PATH?QUERY for every host"`
	AnyQuery bool   `json:"any_query,omitempty" doc:"All query forms of the URL"`
}

// Matched counts what a purge took.
type Matched struct {
	Entries int64            `json:"entries"`
	Bytes   int64            `json:"bytes"`
	Routes  map[string]int64 `json:"routes" doc:"Entries by route"`
	Sample  []string         `json:"sample,omitempty" doc:"Some of the URLs, in previews"`
}

// PurgeNode tells how a node took a purge.
type PurgeNode struct {
	Node    string  `json:"node"`
	Applied bool    `json:"applied"`
	TookMS  float64 `json:"took_ms" doc:"Until no request could be answered from what it matched"`
	SweepMS float64 `json:"sweep_ms" doc:"Until what it matched was counted and freed"`
}

// PurgeResult is the answer to a purge.
type PurgeResult struct {
	Sequence uint64      `json:"sequence" doc:"Its place in the ledger; 0 for a preview"`
	Preview  bool        `json:"preview"`
	Mode     string      `json:"mode"`
	Matched  Matched     `json:"matched"`
	Nodes    []PurgeNode `json:"nodes"`
}

// Purge is an entry of the ledger.
type Purge struct {
	Sequence uint64      `json:"sequence"`
	At       time.Time   `json:"at"`
	Actor    string      `json:"actor" doc:"The token's name, or origin for what an origin's answer called for"`
	Reason   string      `json:"reason"`
	Mode     string      `json:"mode"`
	Tags     []string    `json:"tags"`
	Together bool        `json:"together" doc:"Entries that carry all of the tags"`
	URLs     []string    `json:"urls"`
	Routes   []string    `json:"routes"`
	Begins   []string    `json:"begins,omitempty" doc:"How tags begin of which no more was known"`
	Below    []string    `json:"below"`
	Hosts    []string    `json:"hosts"`
	Entry    string      `json:"entry" doc:"The one entry that it names, by its URL; empty: it names none singly"`
	All      bool        `json:"all"`
	Matched  Matched     `json:"matched"`
	Nodes    []PurgeNode `json:"nodes"`
}

// Purge gives the order, or previews it. It returns when every live node has applied it. The
// error is a *Problem: StatusOf 422 if it names what cannot be, and 503 if the ledger could
// not take it or it is not known whether it has; the text says which.
func (c *Client) Purge(ctx context.Context, r PurgeRequest) (PurgeResult, error) {
	var out PurgeResult
	defer c.ordered.Add(1)
	return out, c.call(ctx, "POST", "/v1/purges", nil, r, &out)
}

// Purges lists the ledger, newest first; before 0 begins at its end. StatusOf the error is 503
// while the database cannot be reached.
func (c *Client) Purges(ctx context.Context, before uint64, limit int) ([]Purge, error) {
	q := url.Values{"limit": {strconv.Itoa(limit)}}
	if before > 0 {
		q.Set("before", strconv.FormatUint(before, 10))
	}
	var out struct {
		Purges []Purge `json:"purges"`
	}
	err := c.call(ctx, "GET", "/v1/purges", q, nil, &out)
	return out.Purges, err
}

// PurgeBySequence returns one entry of the ledger. StatusOf the error is 404 if the ledger has
// none at that sequence.
func (c *Client) PurgeBySequence(ctx context.Context, sequence uint64) (Purge, error) {
	var out Purge
	return out, c.call(ctx, "GET", fmt.Sprintf("/v1/purges/%d", sequence), nil, nil, &out)
}

// StoredTag is a tag that entries carry.
type StoredTag struct {
	Tag     string         `json:"tag"`
	Entries int            `json:"entries"`
	Bytes   int64          `json:"bytes"`
	Routes  map[string]int `json:"routes" doc:"Entries that carry it, by route"`
	Purged  *TagPurge      `json:"purged,omitempty" doc:"The last purge that named it"`
}

// TagPurge is the last purge that named a tag.
type TagPurge struct {
	Sequence uint64    `json:"sequence"`
	At       time.Time `json:"at"`
	Actor    string    `json:"actor"`
}

// Tags lists the tags that begin with prefix, those with most entries first. The error says
// that the node cannot be asked.
func (c *Client) Tags(ctx context.Context, prefix string, limit int) ([]StoredTag, error) {
	var out struct {
		Tags []StoredTag `json:"tags"`
	}
	err := c.call(ctx, "GET", "/v1/tags", url.Values{"prefix": {prefix}, "limit": {strconv.Itoa(limit)}}, nil, &out)
	return out.Tags, err
}
