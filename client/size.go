package client

import (
	"context"
	"net/url"
	"time"
)

// SizeRow is what a tier had at the end of a bucket of time, and what came and went in it.
type SizeRow struct {
	At         time.Time `json:"at" doc:"Start of the bucket"`
	Tier       string    `json:"tier" enum:"memory,disk"`
	Entries    int64     `json:"entries" doc:"At its end; what is in both tiers counts in memory"`
	Bytes      int64     `json:"bytes" doc:"Of these"`
	LimitBytes int64     `json:"limit_bytes"`
	Added      int64     `json:"added"`
	Evicted    int64     `json:"evicted" doc:"Gave way to others; from memory perhaps to disk"`
	Expired    int64     `json:"expired" doc:"Were not asked for within their idle time"`
	Purged     int64     `json:"purged"`
	EvictedAge *float64  `json:"evicted_age_s" doc:"How long what was evicted had been there, in the mean; null: nothing was, or it is not known"`
}

// SizeReport is the store's size over time.
type SizeReport struct {
	Since       time.Time `json:"since"`
	Until       time.Time `json:"until"`
	StepSeconds int64     `json:"step_s"`
	Rows        []SizeRow `json:"rows"`
}

// SizeQuery says which sizes are wanted.
type SizeQuery struct {
	Since, Until string // "1h" or an RFC 3339 time; "" is an hour ago, and now
	Step         string // "1m"; "" chooses one
	Node         string // "" is all together
}

// Sizes returns the store's size over time. StatusOf the error is 422 for times that are not valid, and
// 503 while the database cannot be reached.
func (c *Client) Sizes(ctx context.Context, s SizeQuery) (SizeReport, error) {
	q := url.Values{}
	for name, value := range map[string]string{"since": s.Since, "until": s.Until, "step": s.Step, "node": s.Node} {
		if value != "" {
			q.Set(name, value)
		}
	}
	var out SizeReport
	return out, c.call(ctx, "GET", "/v1/reports/size", q, nil, &out)
}

// CurvePoint is what a memory of some size would have saved; null where nothing was asked for.
type CurvePoint struct {
	MemoryBytes    int64    `json:"memory_bytes"`
	HitRatio       *float64 `json:"hit_ratio" doc:"Of what was stored at some time"`
	TimeSavedRatio *float64 `json:"time_saved_ratio" doc:"Of the origin time that this would have taken"`
}

// Curve is what other sizes of a node's memory would have saved lately.
type Curve struct {
	Since  time.Time    `json:"since" doc:"An hour ago, or the node's start"`
	Points []CurvePoint `json:"points" doc:"At ¼, ½, 1, 2 and 4 times the memory, from sampled copies"`
	Now    CurvePoint   `json:"now" doc:"What this node saved"`
	Says   string       `json:"says" doc:"What twice the memory would bring, in words"`
}

// Curve returns what other sizes of the node's memory would have saved lately.
func (c *Client) Curve(ctx context.Context) (Curve, error) {
	var out Curve
	return out, c.call(ctx, "GET", "/v1/reports/curve", nil, nil, &out)
}
