package records

import (
	"context"
	"encoding/binary"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"gerastic/internal/core/meter"
)

// FigureRow is one row of a report: the sums of a time bucket and a route.
type FigureRow struct {
	At     time.Time // start of the bucket; zero when not asked by time
	Route  string
	Key    meter.Key
	Cell   meter.Cell
	MadeUp bool
}

// SaveFigures adds what a node counted in the bucket that begins at.
func (r *Database) SaveFigures(ctx context.Context, node string, at time.Time, cells meter.Cells, madeUp bool) error {
	rows := make([][]any, 0, len(cells))
	for k, c := range cells {
		rows = append(rows, []any{at, node, madeUp, k.Route, k.Outcome.String(), k.Cause.String(), int16(k.Status),
			c.Requests, c.Bytes, c.OriginRequests, c.OriginTime.Microseconds(), c.Saved.Microseconds(), packHistogram(&c.Latency), c.Work.String()})
	}
	_, err := r.pool.CopyFrom(ctx, pgx.Identifier{"figure"}, figureColumns, pgx.CopyFromRows(rows))
	if err != nil {
		return fmt.Errorf("keeping the figures: %w", err)
	}
	return nil
}

var figureColumns = []string{"at", "node", "made_up", "route", "outcome", "cause", "status", "requests", "bytes", "origin_requests", "origin_us", "saved_us", "latency", "work"}

// packHistogram writes the buckets that count something: number and count as varints.
func packHistogram(h *meter.Histogram) []byte {
	packed := []byte{}
	for i, n := range h {
		if n > 0 {
			packed = binary.AppendUvarint(binary.AppendUvarint(packed, uint64(i)), uint64(n))
		}
	}
	return packed
}

func unpackHistogram(packed []byte, into *meter.Histogram) {
	for len(packed) > 0 {
		i, used := binary.Uvarint(packed)
		if used <= 0 {
			return
		}
		packed = packed[used:]
		n, used := binary.Uvarint(packed)
		if used <= 0 {
			return
		}
		packed = packed[used:]
		if i < meter.Buckets {
			into[i] += uint32(n)
		}
	}
}

// Figures sums what was counted from since until (exclusive), by route, outcome and
// cause, in buckets of step (0: one bucket). route "" means all routes.
func (r *Database) Figures(ctx context.Context, since, until time.Time, step time.Duration, route string) ([]FigureRow, error) {
	seconds := step.Seconds()
	rows, err := r.pool.Query(ctx, `
		select case when $3 = 0 then null else to_timestamp(floor(extract(epoch from at) / $3) * $3) end as bucket,
		       route, outcome, bool_or(made_up), sum(requests)::bigint, sum(bytes)::bigint, sum(origin_requests)::bigint,
		       sum(origin_us)::bigint, sum(saved_us)::bigint, array_agg(latency), string_agg(work, '')
		from figure
		where at >= $1 and at < $2 and ($4 = '' or route = $4)
		group by 1, 2, 3 order by 1, 2, 3`, since, until, seconds, route)
	if err != nil {
		return nil, fmt.Errorf("reading the figures: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (FigureRow, error) {
		var f FigureRow
		var at *time.Time
		var outcome string
		var originUS, savedUS int64
		var latency [][]byte
		var work string
		if err := row.Scan(&at, &f.Route, &outcome, &f.MadeUp, &f.Cell.Requests, &f.Cell.Bytes, &f.Cell.OriginRequests, &originUS, &savedUS, &latency, &work); err != nil {
			return f, err
		}
		if at != nil {
			f.At = *at
		}
		f.Key.Route = f.Route
		f.Key.Outcome, _ = meter.ParseOutcome(outcome)
		f.Cell.OriginTime = time.Duration(originUS) * time.Microsecond
		f.Cell.Saved = time.Duration(savedUS) * time.Microsecond
		if work != "" {
			f.Cell.Work = meter.Amounts{}
			f.Cell.Work.AddWritten(work)
		}
		for _, packed := range latency {
			unpackHistogram(packed, &f.Cell.Latency)
		}
		return f, nil
	})
}

// Retention of figures: buckets of ten seconds for a while, then of five minutes.
const (
	FineFor   = 6 * time.Hour
	CoarseFor = 90 * 24 * time.Hour
	Coarse    = 5 * time.Minute
)

// CompactFigures merges old buckets into longer ones and forgets the oldest, so that
// the table stays small. Nodes take turns.
func (r *Database) CompactFigures(ctx context.Context, now time.Time) error {
	border := now.Add(-FineFor).Truncate(Coarse)
	return pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		var mine bool
		if err := tx.QueryRow(ctx, `select pg_try_advisory_xact_lock(hashtext('gerastic figures'))`).Scan(&mine); err != nil || !mine {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from figure where at < $1`, now.Add(-CoarseFor)); err != nil {
			return err
		}
		// Histograms and work are lists of pairs that are summed when read, so that they merge by
		// standing one after the other.
		_, err := tx.Exec(ctx, `
			with old as (delete from figure where at < $1 and at >= $2 and extract(epoch from at)::bigint % $3 <> 0 returning *)
			insert into figure
			select to_timestamp(floor(extract(epoch from at) / $3) * $3), node, made_up, route, outcome, cause, status,
			       sum(requests), sum(bytes), sum(origin_requests), sum(origin_us), sum(saved_us), string_agg(latency, ''::bytea), string_agg(work, '')
			from old group by 1, 2, 3, 4, 5, 6, 7`, border, now.Add(-CoarseFor), int(Coarse.Seconds()))
		return err
	})
}

// MadeUpUntil is the end of the made-up history within a report, or nil.
func (r *Database) MadeUpUntil(ctx context.Context, since, until time.Time) (*time.Time, error) {
	var at *time.Time
	err := r.pool.QueryRow(ctx, `select max(at) from figure where made_up and at >= $1 and at < $2`, since, until).Scan(&at)
	return at, err
}
