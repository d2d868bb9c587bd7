package control

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/records"
)

func (c *Control) compareCall() {
	huma.Register(c.api, operation("report-compare", http.MethodGet, "/v1/reports/compare", "Put the figures of two spans of time side by side", records.Read),
		func(ctx context.Context, in *struct {
			Before string `query:"before" required:"true" maxLength:"100" doc:"FROM..TO, each a length of time before now (14d, 7d) or an RFC 3339 time; until now without TO"`
			After  string `query:"after" required:"true" maxLength:"100" doc:"Likewise"`
			Route  string `query:"route" maxLength:"200" doc:"Only this route"`
		}) (*struct{ Body client.Comparison }, error) {
			out, err := c.compare(ctx, in.Before, in.After, in.Route)
			return &struct{ Body client.Comparison }{out}, err
		})
}

// pieces are the lengths of the pieces that spans are divided into; leastPieces is how many of them a span
// should have, and mostPieces how many it has at most.
var pieces = []time.Duration{24 * time.Hour, 6 * time.Hour, time.Hour, 15 * time.Minute, 5 * time.Minute, time.Minute, 30 * time.Second, 10 * time.Second}

const (
	leastPieces = 6
	mostPieces  = 500
)

// pieceOf is the length of the pieces of two spans, the older of which began so long ago.
func pieceOf(before, after, old time.Duration) time.Duration {
	best := pieces[0]
	for _, piece := range pieces {
		if old > records.FineFor && piece < records.Coarse || max(before, after)/piece > mostPieces {
			break // they would be finer than what is kept, or too many
		}
		if best = piece; min(before, after)/piece >= leastPieces {
			break
		}
	}
	return best
}

func (c *Control) compare(ctx context.Context, beforeText, afterText, route string) (out client.Comparison, err error) {
	now := c.now()
	before, err := c.spanOf("before", beforeText, now)
	if err != nil {
		return out, err
	}
	after, err := c.spanOf("after", afterText, now)
	if err != nil {
		return out, err
	}
	first, last := before, after
	if after.since.Before(before.since) {
		first, last = after, before
	}
	if last.since.Before(first.until) {
		return out, huma.Error422UnprocessableEntity("the spans overlap, so that they would be compared with themselves; let one end before the other begins")
	}
	piece := pieceOf(before.length(), after.length(), now.Sub(first.since))
	rec, err := c.records()
	if err != nil {
		return out, err
	}
	spans := [2]*meter.Span{}
	for i, s := range []timeSpan{before, after} {
		if spans[i], err = c.spanFigures(ctx, rec, s, piece, route, now); err != nil {
			return out, c.failed(err)
		}
	}
	out = comparisonOf(spans[0], spans[1])
	out.Route, out.PieceS = route, int64(piece/time.Second)
	if out.MadeUp, err = rec.MadeUpUntil(ctx, first.since, last.until); err != nil {
		return out, c.failed(err)
	}
	marks, err := rec.Marks(ctx, records.MarkQuery{Since: first.since, Until: last.until, Limit: 100,
		Kinds: []string{records.MarkOwn, records.MarkRevision, records.MarkRestart, records.MarkSwitch, records.MarkRelease}})
	if err != nil {
		return out, c.failed(err)
	}
	out.Marks = marksOut(marks)
	return out, nil
}

type timeSpan struct{ since, until time.Time }

func (s timeSpan) length() time.Duration { return s.until.Sub(s.since) }

// spanOf reads FROM..TO.
func (c *Control) spanOf(name, text string, now time.Time) (s timeSpan, err error) {
	from, to, _ := strings.Cut(text, "..")
	if from == "" {
		return s, huma.Error422UnprocessableEntity(fmt.Sprintf("%s: %q is no span of time; write FROM..TO, such as 14d..7d or 2026-11-02T00:00:00Z..2026-11-09T00:00:00Z", name, text))
	}
	if s.since, s.until, err = sinceUntil(from, to, now); err != nil {
		return s, huma.Error422UnprocessableEntity(name + ": " + err.Error())
	}
	if s.until.After(now) {
		return s, huma.Error422UnprocessableEntity(fmt.Sprintf("%s: the span ends in %s; let it end by now", name, policy.FormatDuration(s.until.Sub(now).Round(time.Second))))
	}
	return s, nil
}

// spanFigures reads what was counted in a span, with what is not in the records yet if it lasts until now.
func (c *Control) spanFigures(ctx context.Context, rec records.Records, s timeSpan, piece time.Duration, route string, now time.Time) (*meter.Span, error) {
	sums := meter.NewSpan(s.since, s.until, piece)
	err := c.eachFigure(ctx, rec, figureQuery{since: s.since, until: s.until, now: now, step: piece, route: route}, func(at time.Time, k meter.Key, cell *meter.Cell) {
		if route == "" && meter.Within(k.Route) {
			return // parts of pages are no requests of visitors
		}
		sums.Count(at, k, cell)
	})
	return sums, err
}

// comparedFigure is one that spans are compared by: its name, how it is read from sums, and its place in the answer.
type comparedFigure struct {
	name string
	read meter.Figure
	in   func(*client.SpanFigures) **float64
	step float64 // by which share of itself it is read wrong at most
}

// comparisonOf computes each figure of both spans, its change, and by how much it usually differs.
func comparisonOf(before, after *meter.Span) client.Comparison {
	outcomes := []meter.Outcome{}
	for _, o := range meter.Outcomes() {
		if before.Whole.ByOutcome[o]+after.Whole.ByOutcome[o] > 0 {
			outcomes = append(outcomes, o)
		}
	}
	out := client.Comparison{Unusual: []string{}}
	for _, figures := range []*client.SpanFigures{&out.Before, &out.After, &out.Change, &out.Usual} {
		figures.Latency = []client.LatencyFigure{}
		for _, o := range outcomes {
			figures.Latency = append(figures.Latency, client.LatencyFigure{Outcome: o.String()})
		}
	}
	out.Before.Since, out.Before.Until = &before.Since, &before.Until
	out.After.Since, out.After.Until = &after.Since, &after.Until
	for _, f := range comparedFigures(before, after, outcomes) {
		b, a := known(f.read(&before.Whole)), known(f.read(&after.Whole))
		usual := known(meter.Usual(before, after, f.read))
		if usual != nil && b != nil && a != nil {
			*usual = max(*usual, f.step*max(*b, *a))
		}
		*f.in(&out.Before), *f.in(&out.After), *f.in(&out.Usual) = b, a, usual
		if b == nil || a == nil {
			continue
		}
		change := *a - *b
		*f.in(&out.Change) = &change
		if usual != nil && math.Abs(change) > *usual {
			out.Unusual = append(out.Unusual, f.name)
		}
	}
	return out
}

func comparedFigures(before, after *meter.Span, outcomes []meter.Outcome) []comparedFigure {
	wholes := [2]time.Duration{before.Whole.Length, after.Whole.Length}
	// A number grows with the length of what it is counted in: a piece's is what a whole span of such pieces
	// would have, if both spans are of one length.
	number := func(of func(*meter.Sums) int64) meter.Figure {
		return func(s *meter.Sums) (float64, bool) {
			if wholes[0] != wholes[1] {
				return float64(of(s)), s == &before.Whole || s == &after.Whole
			}
			return float64(of(s)) * (float64(wholes[0]) / float64(s.Length)), true
		}
	}
	perSecond := func(of func(*meter.Sums) int64) meter.Figure {
		return func(s *meter.Sums) (float64, bool) { return s.PerSecond(of(s)) }
	}
	requests := func(s *meter.Sums) int64 { return s.Requests }
	origin := func(s *meter.Sums) int64 { return s.OriginRequests }
	all := []comparedFigure{
		{"requests", number(requests), func(f *client.SpanFigures) **float64 { return &f.Requests }, 0},
		{"requests_per_s", perSecond(requests), func(f *client.SpanFigures) **float64 { return &f.RequestsPerS }, 0},
		{"hit_ratio", func(s *meter.Sums) (float64, bool) { return s.HitRatio() }, func(f *client.SpanFigures) **float64 { return &f.HitRatio }, 0},
		{"origin_requests", number(origin), func(f *client.SpanFigures) **float64 { return &f.OriginRequests }, 0},
		{"origin_requests_per_s", perSecond(origin), func(f *client.SpanFigures) **float64 { return &f.OriginRequestsPerS }, 0},
	}
	for i, o := range outcomes {
		percentile := func(name string, p float64, in func(*client.LatencyFigure) **float64) comparedFigure {
			return comparedFigure{"latency." + o.String() + "." + name, func(s *meter.Sums) (float64, bool) {
				d, ok := s.Latency[o].Percentile(p)
				return milliseconds(d), ok
			}, func(f *client.SpanFigures) **float64 { return in(&f.Latency[i]) }, meter.PercentileError}
		}
		all = append(all,
			comparedFigure{"latency." + o.String() + ".requests", number(func(s *meter.Sums) int64 { return s.ByOutcome[o] }), func(f *client.SpanFigures) **float64 { return &f.Latency[i].Requests }, 0},
			percentile("p50_ms", 0.5, func(l *client.LatencyFigure) **float64 { return &l.P50MS }),
			percentile("p90_ms", 0.9, func(l *client.LatencyFigure) **float64 { return &l.P90MS }),
			percentile("p99_ms", 0.99, func(l *client.LatencyFigure) **float64 { return &l.P99MS }))
	}
	return all
}
