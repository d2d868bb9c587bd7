package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Finding is a hit whose answer was not what the origin would have given.
type Finding struct {
	ID                                                     int64
	At                                                     time.Time
	Node, Route, URL, Key, Kind, Stored, Origin, Separator string
}

// keptFindings is how many are kept.
const keptFindings = 1000

// AddFinding keeps a finding, and forgets the oldest beyond the limit.
func (r *Database) AddFinding(ctx context.Context, f Finding) error {
	_, err := r.pool.Exec(ctx, `insert into finding (at, node, route, url, key, kind, stored, origin, separator) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
		f.At, f.Node, f.Route, f.URL, f.Key, f.Kind, f.Stored, f.Origin, f.Separator)
	if err == nil {
		_, err = r.pool.Exec(ctx, `delete from finding where id <= (select max(id) from finding) - $1`, keptFindings)
	}
	if err != nil {
		return fmt.Errorf("keeping the finding: %w", err)
	}
	return nil
}

// Findings lists those since a time, newest first.
func (r *Database) Findings(ctx context.Context, since time.Time, limit int) ([]Finding, error) {
	rows, err := r.pool.Query(ctx, `select id, at, node, route, url, key, kind, stored, origin, separator from finding where at >= $1 order by id desc limit $2`, since, limit)
	if err != nil {
		return nil, fmt.Errorf("reading the findings: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Finding])
}
