package records

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// KeepHottest keeps what a node, of the life that began at started, was asked for most, in JSON. The
// lists of its life and of the one before stay.
func (r *Database) KeepHottest(ctx context.Context, node string, started time.Time, list []byte) error {
	_, err := r.pool.Exec(ctx, `insert into hottest (node, started, list) values ($1, $2, $3)
		on conflict (node, started) do update set list = excluded.list`, node, started, list)
	if err == nil {
		_, err = r.pool.Exec(ctx, `delete from hottest where node = $1 and started < (
			select max(started) from hottest where node = $1 and started < $2)`, node, started)
	}
	if err != nil {
		return fmt.Errorf("keeping what is asked for most: %w", err)
	}
	return nil
}

// Hottest returns the list of a node's last life before the one that began at started; nil: there
// is none.
func (r *Database) Hottest(ctx context.Context, node string, started time.Time) (list []byte, err error) {
	err = r.pool.QueryRow(ctx, `select list from hottest where node = $1 and started < $2 order by started desc limit 1`, node, started).Scan(&list)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading what was asked for most: %w", err)
	}
	return list, nil
}
