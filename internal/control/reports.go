package control

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/records"
)

func (c *Control) reportCalls() {
	c.savingsCall()
	huma.Register(c.api, operation("report-ratio", http.MethodGet, "/v1/reports/ratio", "Report hit ratios and what the cache saved", records.Read),
		func(ctx context.Context, in *struct {
			Since string `query:"since" default:"1h" doc:"A length of time before now (1h, 7d) or an RFC 3339 time"`
			Until string `query:"until" doc:"Likewise; now if left out"`
			By    string `query:"by" default:"route" enum:"route,time,total"`
			Of    string `query:"of" default:"visitors" enum:"visitors,parts" doc:"visitors: what visitors asked for; parts: fragments (NAMESPACE/NAME) and what the edge included (edge/ROUTE)"`
			Step  string `query:"step" doc:"Length of a bucket by time (10s, 1m); chosen to fit if left out"`
			Route string `query:"route" doc:"Only this route"`
		}) (*struct{ Body client.RatioReport }, error) {
			now := c.now()
			since, until, err := sinceUntil(in.Since, in.Until, now)
			if err != nil {
				return nil, err
			}
			q := ratioQuery{since: since, until: until, by: in.By, now: now, route: in.Route, parts: in.Of == "parts"}
			if in.By == "time" {
				if q.step, err = stepOf(in.Step, until.Sub(since)); err != nil {
					return nil, huma.Error422UnprocessableEntity(err.Error())
				}
			}
			report, err := c.ratio(ctx, q)
			return &struct{ Body client.RatioReport }{report}, err
		})
}

// moment reads "1h" (before now), an RFC 3339 time, or "" (now).
func moment(s string, now time.Time) (time.Time, error) {
	if s == "" {
		return now, nil
	}
	if t, err := time.Parse(time.RFC3339, s); err == nil {
		return t, nil
	}
	d, err := policy.ParseDuration(s)
	if err != nil {
		return now, fmt.Errorf("%q is neither a length of time (15m, 1h, 7d) nor a time (%s)", s, now.UTC().Format(time.RFC3339))
	}
	return now.Add(-d), nil
}

// sinceUntil reads two moments, the second after the first.
func sinceUntil(sinceText, untilText string, now time.Time) (since, until time.Time, err error) {
	if since, err = moment(sinceText, now); err != nil {
		return since, until, huma.Error422UnprocessableEntity("since: " + err.Error())
	}
	if until, err = moment(untilText, now); err != nil {
		return since, until, huma.Error422UnprocessableEntity("until: " + err.Error())
	}
	if !since.Before(until) {
		return since, until, huma.Error422UnprocessableEntity("since must be before until")
	}
	return since, until, nil
}

// maxBuckets bounds a report by time.
const maxBuckets = 2000

// stepOf reads a bucket's length, or chooses one that gives about a hundred.
func stepOf(s string, span time.Duration) (time.Duration, error) {
	if s == "" {
		for _, step := range []time.Duration{10 * time.Second, 30 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 6 * time.Hour} {
			if span/step <= 130 {
				return step, nil
			}
		}
		return 24 * time.Hour, nil
	}
	step, err := policy.ParseDuration(s)
	if err != nil {
		return 0, fmt.Errorf("step: %w", err)
	}
	if step < 10*time.Second || span/step > maxBuckets {
		return 0, fmt.Errorf("step: from 10s, and at most %d steps in the report; %s in %s does not fit", maxBuckets, s, policy.FormatDuration(span))
	}
	return step, nil
}

type ratioQuery struct {
	since, until, now time.Time
	by                string
	step              time.Duration // by time only
	route             string        // "": all
	parts             bool          // of what was asked for within pages, not of visitors' requests
}

// reportsBy are the ways to report, by their names.
var reportsBy = map[string]meter.By{"route": meter.ByRoute, "time": meter.ByTime, "total": meter.InTotal}

// ratio sums the database's figures and those that are still in memory.
func (c *Control) ratio(ctx context.Context, q ratioQuery) (client.RatioReport, error) {
	out := client.RatioReport{Since: q.since, Until: q.until, By: q.by, StepSeconds: int64(q.step / time.Second), Rows: []client.RatioRow{}}
	rec, err := c.records()
	if err != nil {
		return out, err
	}
	report := meter.Report{By: reportsBy[q.by], Parts: q.parts, Route: q.route}
	if err := c.eachFigure(ctx, rec, figureQuery{q.since, q.until, q.now, q.step, q.route}, report.Count); err != nil {
		return out, c.failed(err)
	}
	out.Total = rowOf(&report.Total)
	for _, sums := range report.Rows() {
		row := rowOf(sums.Ratio)
		row.Route = sums.Route
		if report.By == meter.ByTime {
			row.At = &sums.At
		}
		out.Rows = append(out.Rows, row)
	}
	if out.MadeUp, err = rec.MadeUpUntil(ctx, q.since, q.until); err != nil {
		return out, c.failed(err)
	}
	return out, nil
}

// figureQuery asks for what was counted in a span, in buckets of step (0: one).
type figureQuery struct {
	since, until, now time.Time
	step              time.Duration
	route             string // "": all
}

// eachFigure passes on what was counted: what the records have, and what is in memory still.
func (c *Control) eachFigure(ctx context.Context, rec records.Records, q figureQuery, count func(at time.Time, k meter.Key, cell *meter.Cell)) error {
	rows, err := rec.Figures(ctx, q.since, q.until, q.step, q.route)
	if err != nil {
		return err
	}
	for i := range rows {
		count(rows[i].At, rows[i].Key, &rows[i].Cell)
	}
	if q.until.Before(q.now) {
		return nil
	}
	at := q.now // what is not in the records yet happened just now
	if q.step > 0 {
		at = q.now.Truncate(q.step)
	}
	for k, cell := range c.node.Pending() {
		if q.route == "" || k.Route == q.route {
			count(at, k, cell)
		}
	}
	return nil
}

func rowOf(r *meter.Ratio) client.RatioRow {
	row := client.RatioRow{
		Requests: r.Requests, Outcomes: map[string]int64{}, OriginRequests: r.OriginRequests, Primed: r.Primed, RoundTripsSaved: r.RoundTripsSaved(),
		OriginTimeMS: milliseconds(r.OriginTime), OriginTimeSavedMS: milliseconds(r.Saved), Bytes: r.Bytes,
		HitRatio: known(r.HitRatio()), ByteHitRatio: known(r.ByteHitRatio()), Offload: known(r.Offload()),
		HitLatencyMS: percentiles(&r.HitLatency), OriginLatencyMS: percentiles(&r.OriginLatency),
	}
	for _, o := range meter.Outcomes() {
		row.Outcomes[o.String()] = r.ByOutcome[o]
	}
	return row
}

func known(ratio float64, ok bool) *float64 {
	if !ok {
		return nil
	}
	return &ratio
}

func percentiles(h *meter.Histogram) client.Percentiles {
	at := func(p float64) *float64 {
		d, ok := h.Percentile(p)
		return known(float64(d)/float64(time.Millisecond), ok)
	}
	return client.Percentiles{P50: at(0.5), P95: at(0.95), P99: at(0.99)}
}
