package client

import (
	"context"
	"net/url"
)

// FragmentName is what the parts of one name hold and bring.
type FragmentName struct {
	Name         string           `json:"name" doc:"NAMESPACE/NAME of an application's fragments, or edge/ROUTE of what the edge includes in pages"`
	Entries      int              `json:"entries" doc:"Stored now"`
	Bytes        int64            `json:"bytes" doc:"Everything counted"`
	Requests     int64            `json:"requests" doc:"How often one was asked for"`
	Outcomes     map[string]int64 `json:"outcomes"`
	FoundRatio   *float64         `json:"found_ratio" doc:"(hit + stale) / (requests - bypass); null if none was asked for"`
	Fills        int64            `json:"fills"`
	FillMS       *float64         `json:"fill_ms" doc:"Mean time that a fill took; null without fills"`
	TimeSavedMS  float64          `json:"time_saved_ms" doc:"For each that was found: what its fill had cost, summed"`
	HitLatencyMS Percentiles      `json:"hit_latency_ms" doc:"Until it was found, at the node"`
}

// FragmentNames lists the names, those asked for most first, with their figures since a time.
// StatusOf the error is 503 while the database cannot be reached.
func (c *Client) FragmentNames(ctx context.Context, since string) ([]FragmentName, error) {
	var out struct {
		Names []FragmentName `json:"names"`
	}
	err := c.call(ctx, "GET", "/v1/fragments", url.Values{"since": {since}}, nil, &out)
	return out.Names, err
}

// PartsTree is a page or a part, and what it was made of.
type PartsTree struct {
	Kind   string      `json:"kind" enum:"page,fragment,include" doc:"fragment: the application makes it; include: the edge puts it in"`
	Name   string      `json:"name" doc:"URL, or NAMESPACE/KEY"`
	Route  string      `json:"route"`
	State  string      `json:"state" enum:"live,softened,purged,missing" doc:"missing: it is not stored any more, or here"`
	Bytes  int64       `json:"bytes"`
	AgeS   float64     `json:"age_s"`
	LeftS  float64     `json:"left_s" doc:"How long it stays fresh; negative: stale for so long"`
	CostMS float64     `json:"cost_ms" doc:"What its fill takes, with all in it"`
	Tags   []EntryTag  `json:"tags"`
	Parts  []PartsTree `json:"parts"`
}

// PartsTree tells what a page (by its URL) or a fragment (NAMESPACE/KEY) was made of. StatusOf
// the error is 404 if nothing of that name is stored.
func (c *Client) PartsTree(ctx context.Context, name string) (PartsTree, error) {
	var out PartsTree
	return out, c.call(ctx, "GET", "/v1/made-of", url.Values{"name": {name}}, nil, &out)
}
