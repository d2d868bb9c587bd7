package client

import (
	"context"
	"net/url"
	"strconv"
)

// Entry is a stored answer, without its body.
type Entry struct {
	ID        string         `json:"id" doc:"Names it for as long as it is stored"`
	URL       string         `json:"url"`
	Method    string         `json:"method" doc:"Empty: an application stored it"`
	Route     string         `json:"route"`
	Host      string         `json:"host"`
	Status    int            `json:"status"`
	Tier      string         `json:"tier" enum:"memory,disk" doc:"Where it is; memory, if it is on disk, too"`
	Bytes     int64          `json:"bytes" doc:"That it takes, with its coded forms"`
	BodyBytes int64          `json:"body_bytes" doc:"Of its body, as it came"`
	Coded     map[string]int `json:"coded" doc:"Bytes of the coded forms that it has"`
	AgeS      float64        `json:"age_s" doc:"How old it is, in seconds"`
	LeftS     float64        `json:"left_s" doc:"How long it stays fresh, in seconds; negative: stale for so long"`
	IdleS     float64        `json:"idle_s" doc:"How long nobody has asked for it, in seconds"`
	Uses      float64        `json:"uses" doc:"How often it was asked for; what is long ago counts less"`
	CostMS    float64        `json:"cost_ms" doc:"What a fill takes"`
	Worth     float64        `json:"worth" doc:"Nanoseconds of its origin's time that each of its bytes saves, for the uses that count now; the least worth goes first"`
	Stamp     uint64         `json:"stamp" doc:"Last purge in force when its fill began"`
	State     string         `json:"state" enum:"live,softened"`
	Vary      string         `json:"vary" doc:"What tells it from the other variants of its key"`
	Tags      []EntryTag     `json:"tags"`
}

// EntryTag is a tag of an entry, and where it came from.
type EntryTag struct {
	Tag  string `json:"tag"`
	From string `json:"from" doc:"route: the policy's template; origin: the answer named it; application: who stored it did"`
}

// EntryDetail is an entry with its header.
type EntryDetail struct {
	Entry
	Headers map[string][]string `json:"headers" doc:"As its origin sent them"`
	Purges  map[string]Taken    `json:"purges" doc:"What a purge of each of its tags would take here, of the first 50"`
}

// Taken is what a purge would take.
type Taken struct {
	Entries int64 `json:"entries"`
	Bytes   int64 `json:"bytes"`
}

// EntryList is a part of a list of entries.
type EntryList struct {
	Entries []Entry `json:"entries"`
	Total   int     `json:"total" doc:"How many there are in all"`
	Next    string  `json:"next,omitempty" doc:"Pass it as after for the next part; left out: this is the last"`
}

// EntryQuery says which entries are wanted; what is left out does not count.
type EntryQuery struct {
	Tag, Route, URL, Below, Host string
	Key                          string // how a fragment's key begins, with or without NAMESPACE/
	Tier, State                  string // memory or disk; live or softened
	Sort                         string // bytes (or ""), age, used, cost, worth: the most first
	Limit                        int    // 1 to 1000; 0: 100
	After                        string // of the part before
}

// Entries lists stored entries. The error says what of the query is not in order, or that the node
// cannot be asked.
func (c *Client) Entries(ctx context.Context, query EntryQuery) (EntryList, error) {
	q := url.Values{}
	for name, value := range map[string]string{"tag": query.Tag, "route": query.Route, "url": query.URL, "key": query.Key, "below": query.Below, "host": query.Host,
		"tier": query.Tier, "state": query.State, "sort": query.Sort, "after": query.After} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if query.Limit > 0 {
		q.Set("limit", strconv.Itoa(query.Limit))
	}
	var out EntryList
	return out, c.call(ctx, "GET", "/v1/entries", q, nil, &out)
}

// EntryOf returns the entry of an ID. The error says that it is not stored any more, or that the node
// cannot be asked.
func (c *Client) EntryOf(ctx context.Context, id string) (EntryDetail, error) {
	var out EntryDetail
	return out, c.call(ctx, "GET", "/v1/entries/"+url.PathEscape(id), nil, nil, &out)
}

// EntryBody returns the body of an entry, as it is stored, to a token with the right admin. The
// error says that it is not stored any more, or that the node cannot be asked.
func (c *Client) EntryBody(ctx context.Context, id string) ([]byte, error) {
	return c.bytes(ctx, "/v1/entries/"+url.PathEscape(id)+"/body")
}

// DropEntry drops the entry of an ID on every node: a purge of that one, in the ledger. With preview it
// says what would go, and drops nothing. The error says that it is not stored any more, or that
// the node cannot be asked.
func (c *Client) DropEntry(ctx context.Context, id, reason string, preview bool) (PurgeResult, error) {
	q := url.Values{}
	if reason != "" {
		q.Set("reason", reason)
	}
	if preview {
		q.Set("preview", "true")
	}
	var out PurgeResult
	return out, c.call(ctx, "DELETE", "/v1/entries/"+url.PathEscape(id), q, nil, &out)
}
