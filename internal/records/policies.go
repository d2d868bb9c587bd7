package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Revision is one policy that was applied.
type Revision struct {
	Number int64
	At     time.Time
	Actor  string
	Note   string
	Source string // the policy as it was given
}

// AddRevision keeps a policy and returns its number.
func (r *Database) AddRevision(ctx context.Context, source, actor, note string) (Revision, error) {
	rev := Revision{Actor: actor, Note: note, Source: source}
	err := r.pool.QueryRow(ctx, `insert into revision (actor, note, source) values ($1, $2, $3) returning number, at`, actor, note, source).Scan(&rev.Number, &rev.At)
	if err != nil {
		return rev, fmt.Errorf("keeping the policy: %w", err)
	}
	return rev, nil
}

// LastRevision is the policy in force; ErrNotFound when there is none yet.
func (r *Database) LastRevision(ctx context.Context) (Revision, error) {
	var rev Revision
	err := r.pool.QueryRow(ctx, `select number, at, actor, note, source from revision order by number desc limit 1`).
		Scan(&rev.Number, &rev.At, &rev.Actor, &rev.Note, &rev.Source)
	return rev, one(err)
}

// Everything is the name under which all routes are switched at once.
const Everything = "*"

// Switch turns a route, or Everything, off or on.
func (r *Database) Switch(ctx context.Context, route string, off bool, actor string) error {
	var both pgx.Batch
	both.Queue(`insert into route_switch (route, off, actor) values ($1, $2, $3)
		on conflict (route) do update set off = excluded.off, actor = excluded.actor, at = now()`, route, off, actor)
	both.Queue(`insert into time_mark (kind, name, actor, detail) values ($1, $2, $3, $4)`, MarkSwitch, route, actor, switched(off))
	if err := r.pool.SendBatch(ctx, &both).Close(); err != nil {
		return fmt.Errorf("keeping the switch: %w", err)
	}
	return nil
}

// Switches returns the routes that are switched off.
func (r *Database) Switches(ctx context.Context) (off map[string]bool, err error) {
	rows, err := r.pool.Query(ctx, `select route from route_switch where off`)
	if err != nil {
		return nil, err
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	off = map[string]bool{}
	for _, name := range names {
		off[name] = true
	}
	return off, err
}
