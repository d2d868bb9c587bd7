package client

import (
	"context"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Mark is something that happened to the cache at a moment.
type Mark struct {
	At     time.Time `json:"at"`
	Kind   string    `json:"kind" enum:"mark,purge,revision,restart,switch,release"`
	Name   string    `json:"name" doc:"The number of a purge or revision; the node that started; the route that was switched (* is all); the release; or what it was called"`
	By     string    `json:"by" doc:"Who did it: a token, a node"`
	Detail string    `json:"detail" doc:"Of a switch: off or on; of a purge: its reason; of a revision: its note; of a release: the route"`
}

// MarkList is a part of the time line, the newest first.
type MarkList struct {
	Marks []Mark `json:"marks"`
	Next  string `json:"next,omitempty" doc:"The after of the next part; absent at the end"`
}

// MarkQuery says which marks are wanted.
type MarkQuery struct {
	Since string   // "1h" or an RFC 3339 time; "" is 90 days, as long as marks are kept
	Until string   // likewise; "" is now
	Kinds []string // none: all
	Limit int      // 1 to 1000; 0 is 100
	After string   // MarkList.Next
}

// Marks lists what happened to the cache: purges, revisions of the policy, switches, restarts, releases and
// own marks. StatusOf the error is 422 for a question that is not in order.
func (c *Client) Marks(ctx context.Context, m MarkQuery) (MarkList, error) {
	q := url.Values{}
	for name, value := range map[string]string{"since": m.Since, "until": m.Until, "kind": strings.Join(m.Kinds, ","), "after": m.After} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if m.Limit > 0 {
		q.Set("limit", strconv.Itoa(m.Limit))
	}
	var out MarkList
	return out, c.call(ctx, "GET", "/v1/marks", q, nil, &out)
}

// AddMark puts a mark on the time line. at is an RFC 3339 time, or a length of time before now; "" is now.
func (c *Client) AddMark(ctx context.Context, name, at string) (Mark, error) {
	var out Mark
	return out, c.call(ctx, "POST", "/v1/marks", nil, map[string]string{"name": name, "at": at}, &out)
}

// SpanFigures are figures of a span of time, or of two that are compared; null where nothing is known.
type SpanFigures struct {
	Since              *time.Time      `json:"since,omitempty"`
	Until              *time.Time      `json:"until,omitempty"`
	Requests           *float64        `json:"requests"`
	RequestsPerS       *float64        `json:"requests_per_s"`
	HitRatio           *float64        `json:"hit_ratio" doc:"(hit + stale) / (requests - bypass)"`
	OriginRequests     *float64        `json:"origin_requests"`
	OriginRequestsPerS *float64        `json:"origin_requests_per_s"`
	Latency            []LatencyFigure `json:"latency" doc:"By outcome"`
}

// LatencyFigure is how long the requests of one outcome took.
type LatencyFigure struct {
	Outcome  string   `json:"outcome"`
	Requests *float64 `json:"requests"`
	P50MS    *float64 `json:"p50_ms"`
	P90MS    *float64 `json:"p90_ms"`
	P99MS    *float64 `json:"p99_ms"`
}

// Comparison puts two spans of time side by side.
type Comparison struct {
	Route   string      `json:"route,omitempty"`
	Before  SpanFigures `json:"before"`
	After   SpanFigures `json:"after"`
	Change  SpanFigures `json:"change" doc:"After less before"`
	Usual   SpanFigures `json:"usual" doc:"By how much each figure may differ without a reason: one comparison of a hundred would give more by chance; percentiles also by how exactly they are kept, 19 per cent. null with too few figures to tell, and for numbers of spans that are not of one length"`
	Unusual []string    `json:"unusual" doc:"The figures that changed by more than that, such as hit_ratio and latency.miss.p90_ms"`
	PieceS  int64       `json:"piece_s" doc:"The length of the pieces that the variation is taken from"`
	MadeUp  *time.Time  `json:"made_up_until,omitempty" doc:"Figures before this moment are made up (demo only)"`
	Marks   []Mark      `json:"marks" doc:"What happened from the beginning of the first span to the end of the last, but for purges; the newest hundred"`
}

// Compare puts figures of two spans side by side. A span is FROM..TO, each a length of time before now or an
// RFC 3339 time; without TO it is until now. route "" is all of them.
func (c *Client) Compare(ctx context.Context, before, after, route string) (Comparison, error) {
	q := url.Values{"before": {before}, "after": {after}}
	if route != "" {
		q.Set("route", route)
	}
	var out Comparison
	return out, c.call(ctx, "GET", "/v1/reports/compare", q, nil, &out)
}
