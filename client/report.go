package client

import (
	"context"
	"net/url"
	"time"
)

// Percentiles of a latency, in milliseconds; null without observations.
type Percentiles struct {
	P50 *float64 `json:"p50"`
	P95 *float64 `json:"p95"`
	P99 *float64 `json:"p99"`
}

// RatioRow is one row of the ratio report. Ratios are null where nothing was counted.
type RatioRow struct {
	Route             string           `json:"route,omitempty" doc:"The route, in a report by route; \"\" is what no route matched"`
	At                *time.Time       `json:"at,omitempty" doc:"Start of the bucket, in a report by time"`
	Requests          int64            `json:"requests" doc:"Requests that visitors made and that were answered"`
	Outcomes          map[string]int64 `json:"outcomes" doc:"Requests by outcome; their sum is requests"`
	HitRatio          *float64         `json:"hit_ratio" doc:"(hit + stale) / (requests - bypass)"`
	ByteHitRatio      *float64         `json:"byte_hit_ratio" doc:"The same, weighted by bytes"`
	Offload           *float64         `json:"offload" doc:"(requests that an answer was found for - origin requests) / requests"`
	OriginRequests    int64            `json:"origin_requests"`
	Primed            int64            `json:"primed" doc:"Of these, what was asked for before a visitor did; none of requests"`
	RoundTripsSaved   int64            `json:"round_trips_saved" doc:"requests - origin requests"`
	OriginTimeMS      float64          `json:"origin_time_ms" doc:"Time that origins spent on what was asked of them"`
	OriginTimeSavedMS float64          `json:"origin_time_saved_ms" doc:"For each answer that needed no origin: what its entry's fill had cost, summed"`
	Bytes             int64            `json:"bytes"`
	HitLatencyMS      Percentiles      `json:"hit_latency_ms" doc:"Of hit and stale"`
	OriginLatencyMS   Percentiles      `json:"origin_latency_ms" doc:"Of revalidated, joined and miss; of an application's fragments, of joined alone"`
}

// RatioReport tells what the cache saved.
type RatioReport struct {
	Since       time.Time  `json:"since"`
	Until       time.Time  `json:"until"`
	By          string     `json:"by"`
	StepSeconds int64      `json:"step_s,omitempty" doc:"Length of a bucket, in a report by time"`
	MadeUp      *time.Time `json:"made_up_until,omitempty" doc:"Figures before this moment are made up (demo only)"`
	Total       RatioRow   `json:"total"`
	Rows        []RatioRow `json:"rows"`
}

// RatioQuery says which figures are wanted.
type RatioQuery struct {
	Since string // "1h" or an RFC 3339 time
	Until string // likewise; "" is now
	By    string // route, time or total
	Step  string // "1m"; "" chooses one
	Route string // "" is all
	Of    string // visitors, or parts: fragments and what the edge included
}

// Ratio returns the ratio report. StatusOf the error is 422 for times that are not valid, and
// 503 while the database cannot be reached.
func (c *Client) Ratio(ctx context.Context, r RatioQuery) (RatioReport, error) {
	q := url.Values{}
	for name, value := range map[string]string{"since": r.Since, "until": r.Until, "by": r.By, "step": r.Step, "route": r.Route, "of": r.Of} {
		if value != "" {
			q.Set(name, value)
		}
	}
	var out RatioReport
	return out, c.call(ctx, "GET", "/v1/reports/ratio", q, nil, &out)
}

// WorkAmount is how much of one kind of work was done, and how much was not, since its result was there.
type WorkAmount struct {
	Spent float64 `json:"spent"`
	Saved float64 `json:"saved"`
}

// SavingsRow is what the cache saved of a route, a fragment's name (NAMESPACE/NAME), or of all.
type SavingsRow struct {
	Route             string                `json:"route" doc:"A route, NAMESPACE/NAME of fragments, edge/ROUTE of what the edge included; \"\" is what no route matched, and the total"`
	Requests          int64                 `json:"requests"`
	OriginRequests    int64                 `json:"origin_requests"`
	RoundTripsSaved   int64                 `json:"round_trips_saved" doc:"requests - origin requests"`
	OriginTimeSavedMS float64               `json:"origin_time_saved_ms" doc:"For each answer that needed no origin: what its entry's fill had cost, summed"`
	BytesSaved        int64                 `json:"bytes_saved" doc:"Bytes of hit and stale answers"`
	PerChange         *float64              `json:"per_change" doc:"Requests for each answer that had to be made; null if none was"`
	Work              map[string]WorkAmount `json:"work,omitempty" doc:"By name: what applications counted (Gerastic-Work, Server-Timing in ms) of what was made, and had counted of what was found"`
	MoneySaved        *float64              `json:"money_saved,omitempty" doc:"With prices: those of the work saved, summed"`
}

// SavingsReport tells what the cache saved.
type SavingsReport struct {
	Since time.Time    `json:"since"`
	Until time.Time    `json:"until"`
	Total SavingsRow   `json:"total" doc:"Of visitors' requests; its work is that of all rows"`
	Rows  []SavingsRow `json:"rows" doc:"Those first that saved most origin time"`
}

// SavingsQuery says which savings are wanted.
type SavingsQuery struct {
	Since  string   // "1d" or an RFC 3339 time
	Until  string   // likewise; "" is now
	Route  string   // "" is all
	Prices []string // "queries=0.00001"
}

// Savings returns the savings report. StatusOf the error is 422 for times or prices that are not valid, and
// 503 while the database cannot be reached.
func (c *Client) Savings(ctx context.Context, r SavingsQuery) (SavingsReport, error) {
	q := url.Values{"price": r.Prices}
	for name, value := range map[string]string{"since": r.Since, "until": r.Until, "route": r.Route} {
		if value != "" {
			q.Set(name, value)
		}
	}
	var out SavingsReport
	return out, c.call(ctx, "GET", "/v1/reports/savings", q, nil, &out)
}
