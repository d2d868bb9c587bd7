package control

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/core/worth"
	"gerastic/internal/records"
)

// Curve is what stores of other sizes would have saved, and what this one did, since a time.
type Curve struct {
	Since  time.Time
	Others []worth.Size // ¼, ½, 1, 2 and 4 times the memory
	Own    worth.Size
}

func (c *Control) sizeCalls() {
	huma.Register(c.api, operation("report-size", http.MethodGet, "/v1/reports/size", "What each tier had over time, and what came and went", records.Read),
		func(ctx context.Context, in *struct {
			Since string `query:"since" default:"1h" doc:"A length of time before now (1h, 7d) or an RFC 3339 time"`
			Until string `query:"until" doc:"Likewise; now if left out"`
			Step  string `query:"step" doc:"Length of a bucket (1m, 1h), from a minute on; chosen to fit if left out"`
			Node  string `query:"node" maxLength:"200" doc:"Only this node; all together if left out"`
		}) (*struct{ Body client.SizeReport }, error) {
			report, err := c.sizes(ctx, in.Since, in.Until, in.Step, in.Node)
			return &struct{ Body client.SizeReport }{report}, err
		})
	huma.Register(c.api, operation("report-curve", http.MethodGet, "/v1/reports/curve", "What another size of this node's memory would have saved lately", records.Read),
		func(context.Context, *struct{}) (*struct{ Body client.Curve }, error) {
			return &struct{ Body client.Curve }{curveOut(c.node.Curve())}, nil
		})
}

func (c *Control) sizes(ctx context.Context, sinceText, untilText, stepText, node string) (out client.SizeReport, err error) {
	now := c.now()
	since, until, err := sinceUntil(sinceText, untilText, now)
	if err != nil {
		return out, err
	}
	step, err := stepOf(stepText, until.Sub(since))
	if err != nil {
		return out, huma.Error422UnprocessableEntity(err.Error())
	}
	step = max(step, time.Minute) // sizes are kept by the minute
	rec, err := c.records()
	if err != nil {
		return out, err
	}
	if err := c.node.SaveSizes(ctx); err != nil {
		return out, c.failed(err)
	}
	sizes, err := rec.Sizes(ctx, since.Truncate(time.Minute), until, node)
	if err != nil {
		return out, c.failed(err)
	}
	return client.SizeReport{Since: since, Until: until, StepSeconds: int64(step / time.Second), Rows: sizeRows(sizes, step)}, nil
}

// sizeRows sums what nodes had at the end of each bucket, and what came and went in it. The sizes are in
// the order of their time.
func sizeRows(sizes []records.Size, step time.Duration) []client.SizeRow {
	type place struct {
		at   time.Time
		tier string
	}
	rows, at := []client.SizeRow{}, map[place]int{}
	last, ages := map[place]map[string]records.Size{}, map[place]float64{}
	for _, s := range sizes {
		p := place{s.At.Truncate(step), s.Tier}
		i, known := at[p]
		if !known {
			i = len(rows)
			at[p], last[p] = i, map[string]records.Size{}
			rows = append(rows, client.SizeRow{At: p.at, Tier: p.tier})
		}
		r, before := &rows[i], last[p][s.Node]
		last[p][s.Node] = s
		r.Entries, r.Bytes, r.LimitBytes = r.Entries+s.Entries-before.Entries, r.Bytes+s.Bytes-before.Bytes, r.LimitBytes+s.Limit-before.Limit
		r.Added, r.Evicted, r.Expired, r.Purged = r.Added+s.Added, r.Evicted+s.Evicted, r.Expired+s.Expired, r.Purged+s.Purged
		if ages[p] += s.EvictedAge.Seconds(); r.Evicted > 0 && s.Tier == "memory" {
			mean := ages[p] / float64(r.Evicted)
			r.EvictedAge = &mean
		}
	}
	return rows
}

func curveOut(c Curve) client.Curve {
	out := client.Curve{Since: c.Since, Points: []client.CurvePoint{}, Now: pointOf(c.Own)}
	for _, s := range c.Others {
		out.Points = append(out.Points, pointOf(s))
	}
	correct(out.Points, out.Now)
	if len(c.Others) == 5 {
		out.Says = says(c.Others[2], c.Others[3])
	}
	return out
}

// correct moves the points by as much as the copy of the node's own size is off: it sees only some of
// the keys, and the most asked for may not be among them.
func correct(points []client.CurvePoint, now client.CurvePoint) {
	if len(points) != 5 || now.HitRatio == nil || points[2].HitRatio == nil {
		return
	}
	hits, saved := *now.HitRatio-*points[2].HitRatio, *now.TimeSavedRatio-*points[2].TimeSavedRatio
	for i := range points {
		if p := &points[i]; p.HitRatio != nil {
			*p.HitRatio, *p.TimeSavedRatio = min(1, max(0, *p.HitRatio+hits)), min(1, max(0, *p.TimeSavedRatio+saved))
		}
	}
}

func pointOf(s worth.Size) client.CurvePoint {
	p := client.CurvePoint{MemoryBytes: s.Capacity}
	if s.Requests > 0 {
		hits, saved := float64(s.Hits)/float64(s.Requests), 0.0
		if s.Cost > 0 {
			saved = s.Saved / s.Cost
		}
		p.HitRatio, p.TimeSavedRatio = &hits, &saved
	}
	return p
}

// says puts into words what twice the memory would bring.
func says(own, twice worth.Size) string {
	switch {
	case own.Requests == 0 || own.Saved <= 0:
		return "nothing can be said yet: nothing was saved"
	case twice.Saved <= own.Saved*1.001:
		return "twice the memory would have saved no more origin time"
	}
	return fmt.Sprintf("twice the memory would have saved %.1f %% more origin time", 100*(twice.Saved/own.Saved-1))
}
