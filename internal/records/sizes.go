package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Size is what a tier of a node had at the end of a minute, and what came and went in it.
type Size struct {
	At                              time.Time
	Node, Tier                      string
	Entries, Bytes, Limit           int64
	Added, Evicted, Expired, Purged int64
	EvictedAge                      time.Duration // of what was evicted, summed
}

// KeepSizes adds to the sizes of a minute.
func (r *Database) KeepSizes(ctx context.Context, sizes []Size) error {
	var all pgx.Batch
	for _, s := range sizes {
		all.Queue(`insert into size (at, node, tier, entries, bytes, limit_bytes, added, evicted, expired, purged, evicted_age_s)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)
			on conflict (at, node, tier) do update set entries = excluded.entries, bytes = excluded.bytes, limit_bytes = excluded.limit_bytes, added = size.added + excluded.added,
			evicted = size.evicted + excluded.evicted, expired = size.expired + excluded.expired, purged = size.purged + excluded.purged, evicted_age_s = size.evicted_age_s + excluded.evicted_age_s`,
			s.At, s.Node, s.Tier, s.Entries, s.Bytes, s.Limit, s.Added, s.Evicted, s.Expired, s.Purged, s.EvictedAge.Seconds())
	}
	if err := r.pool.SendBatch(ctx, &all).Close(); err != nil {
		return fmt.Errorf("keeping the sizes: %w", err)
	}
	return nil
}

// Sizes returns what there was from since until (exclusive), in order; of one node, or of all.
func (r *Database) Sizes(ctx context.Context, since, until time.Time, node string) ([]Size, error) {
	rows, err := r.pool.Query(ctx, `select at, node, tier, entries, bytes, limit_bytes, added, evicted, expired, purged, evicted_age_s
		from size where at >= $1 and at < $2 and ($3 = '' or node = $3) order by at, tier, node`, since, until, node)
	if err != nil {
		return nil, fmt.Errorf("reading the sizes: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (s Size, err error) {
		var age float64
		err = row.Scan(&s.At, &s.Node, &s.Tier, &s.Entries, &s.Bytes, &s.Limit, &s.Added, &s.Evicted, &s.Expired, &s.Purged, &age)
		s.EvictedAge = time.Duration(age * float64(time.Second))
		return s, err
	})
}

// keptSizes is how long sizes are kept.
const keptSizes = 90 * 24 * time.Hour

// ForgetSizes drops what is older than anyone asks for.
func (r *Database) ForgetSizes(ctx context.Context, now time.Time) error {
	_, err := r.pool.Exec(ctx, `delete from size where at < $1`, now.Add(-keptSizes))
	return err
}
