package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// The kinds of marks on the time line.
const (
	MarkOwn      = "mark" // what people and scripts marked
	MarkPurge    = "purge"
	MarkRevision = "revision"
	MarkRestart  = "restart"
	MarkSwitch   = "switch"
	MarkRelease  = "release"
)

// MarkKinds are all kinds of marks.
var MarkKinds = []string{MarkOwn, MarkPurge, MarkRevision, MarkRestart, MarkSwitch, MarkRelease}

// TimeMark is something that happened to the cache at a moment.
type TimeMark struct {
	At     time.Time
	Kind   string
	ID     int64  // within its kind
	Name   string // a purge's or a revision's number, a node, a route, a release; or what people called it
	Actor  string
	Detail string
}

// MarkQuery asks for the marks from Since until Until (exclusive), of some kinds, that come after After in
// the list, whose first is the newest.
type MarkQuery struct {
	Since, Until time.Time
	Kinds        []string  // empty: all
	After        *TimeMark // its At, Kind and ID
	Limit        int
}

// switched says what a switch did.
func switched(off bool) string {
	if off {
		return "off"
	}
	return "on"
}

// AddMark puts a mark on the time line; without a time it is now.
func (r *Database) AddMark(ctx context.Context, m TimeMark) (TimeMark, error) {
	var at *time.Time
	if !m.At.IsZero() {
		at = &m.At
	}
	err := r.pool.QueryRow(ctx, `insert into time_mark (at, kind, name, actor, detail) values (coalesce($1, now()), $2, $3, $4, $5) returning id, at`,
		at, m.Kind, m.Name, m.Actor, m.Detail).Scan(&m.ID, &m.At)
	if err != nil {
		return m, fmt.Errorf("keeping the mark: %w", err)
	}
	return m, nil
}

// Marks lists what is on the time line, the newest first.
func (r *Database) Marks(ctx context.Context, q MarkQuery) ([]TimeMark, error) {
	after := TimeMark{At: q.Until}
	if q.After != nil {
		after = *q.After
	}
	rows, err := r.pool.Query(ctx, `
		with within as (
			select at, 'purge' as kind, sequence as id, sequence::text as name, actor, reason as detail from purge where at >= $1 and at < $2
			union all select at, 'revision', number, number::text, actor, note from revision where at >= $1 and at < $2
			union all select at, kind, id, name, actor, detail from time_mark where at >= $1 and at < $2)
		select at, kind, id, name, actor, detail from within
		where (at, kind collate "C", id) < ($3, $4, $5) and (cardinality($6::text[]) = 0 or kind = any($6))
		order by at desc, kind collate "C" desc, id desc limit $7`,
		q.Since, q.Until, after.At, after.Kind, after.ID, append([]string{}, q.Kinds...), q.Limit)
	if err != nil {
		return nil, fmt.Errorf("reading the time line: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[TimeMark])
}

// mostMarks is how many marks are kept, beside purges and revisions.
const mostMarks = 100_000

// ForgetMarks drops what is older than figures are, and what is too many.
func (r *Database) ForgetMarks(ctx context.Context, now time.Time) error {
	_, err := r.pool.Exec(ctx, `delete from time_mark where at < $1 or id <= (select max(id) from time_mark) - $2`, now.Add(-CoarseFor), mostMarks)
	return err
}
