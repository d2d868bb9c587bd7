package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"gerastic/internal/core/tags"
)

// Onward is how far a cache or service beyond has been told of purges.
type Onward struct {
	Name     string
	At       Position
	Told     *time.Time // when it took a purge last
	Error    string     // of the last try; "" if it went well
	Failures int        // in a row
}

// newestPlace is the mark of the ledger's newest place.
const newestPlace = `coalesce((select mark::text from purge where purge.sequence = ledger.sequence), '')`

// BeginOnward notes for each target that is not known that it has been told of everything until now.
func (r *Database) BeginOnward(ctx context.Context, targets []string) error {
	_, err := r.pool.Exec(ctx, `insert into onward (name, sequence, mark) select unnest($1::text[]), sequence, `+newestPlace+` from ledger on conflict (name) do nothing`, targets)
	if err != nil {
		return fmt.Errorf("noting who is told of purges: %w", err)
	}
	return nil
}

// Onward tells how far each target was told, by name, and the ledger's newest place.
func (r *Database) Onward(ctx context.Context) (all map[string]Onward, newest Position, err error) {
	var sequence int64
	if err = r.pool.QueryRow(ctx, `select sequence, `+newestPlace+` from ledger`).Scan(&sequence, &newest.RowID); err != nil {
		return nil, newest, err
	}
	newest.Sequence = tags.Stamp(sequence)
	rows, err := r.pool.Query(ctx, `select name, sequence, mark, told, error, failures from onward`)
	if err != nil {
		return nil, newest, err
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (o Onward, err error) {
		err = row.Scan(&o.Name, &sequence, &o.At.RowID, &o.Told, &o.Error, &o.Failures)
		o.At.Sequence = tags.Stamp(sequence)
		return o, err
	})
	all = map[string]Onward{}
	for _, o := range list {
		all[o.Name] = o
	}
	return all, newest, err
}

// SaveOnward keeps how far a target was told, if it was at from until now; else it is ErrNotFound.
func (r *Database) SaveOnward(ctx context.Context, from Position, o Onward) error {
	done, err := r.pool.Exec(ctx, `update onward set sequence = $2, mark = $3, told = $4, error = $5, failures = $6, kept = now() where name = $1 and sequence = $7 and mark = $8`,
		o.Name, int64(o.At.Sequence), o.At.RowID, o.Told, o.Error, o.Failures, int64(from.Sequence), from.RowID)
	if err == nil && done.RowsAffected() == 0 {
		return ErrNotFound
	}
	return err
}

// ForgetOnward drops the targets, but for some, of which nothing was kept since a time.
func (r *Database) ForgetOnward(ctx context.Context, but []string, since time.Time) error {
	_, err := r.pool.Exec(ctx, `delete from onward where name <> all($1) and kept < $2`, but, since)
	return err
}
