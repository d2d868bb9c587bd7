package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"gerastic/internal/core/meter"
)

// Source is how far a source of content changes was read, and how it is.
type Source struct { // the columns of change_source, in their order
	Name, Kind string
	// Cursor and Deleted are places in the source, in its own terms; nil before the first.
	Cursor, Deleted *string
	Seen            []byte     // what was read beyond the cursor's safe side, see detect
	Node            string     // that read it last
	Checked         *time.Time // all that was committed before has been purged
	Error           string     // of the last try; "" if it went well
	Failures        int        // in a row
	Behind          *int64     // bytes of the database's log that are not read yet
	Retained        *int64     // bytes of the database's log that are held back
	Detail          string     // what else its reader should know
	Ahead           string     // how far was read beyond the cursors, see detect
	Owed            string     // why everything must be purged before it is read on; "" if nothing is owed
}

// Sources returns the state of every source, by name.
func (r *Database) Sources(ctx context.Context) (map[string]Source, error) {
	rows, err := r.pool.Query(ctx, `select name, kind, cursor, deleted, null::bytea, node, checked, error, failures, behind, retained, detail, ahead, owed from change_source`)
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Source])
	byName := map[string]Source{}
	for _, row := range all {
		byName[row.Name] = row
	}
	return byName, err
}

// Source returns the state of one source; a fresh one if it was never read.
func (r *Database) Source(ctx context.Context, name, kind string) (Source, error) {
	rows, err := r.pool.Query(ctx, `select name, kind, cursor, deleted, seen, node, checked, error, failures, behind, retained, detail, ahead, owed from change_source where name = $1 and kind = $2`, name, kind)
	if err != nil {
		return Source{}, err
	}
	row, err := pgx.CollectOneRow(rows, pgx.RowToStructByPos[Source])
	if one(err) == ErrNotFound {
		return Source{Name: name, Kind: kind}, nil
	}
	return row, err
}

// SaveSource keeps the state of a source.
func (r *Database) SaveSource(ctx context.Context, s Source) error {
	_, err := r.pool.Exec(ctx, `insert into change_source (name, kind, cursor, deleted, seen, node, checked, error, failures, behind, retained, detail, ahead, owed)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14) on conflict (name) do update set kind = excluded.kind, cursor = excluded.cursor, deleted = excluded.deleted,
		seen = excluded.seen, node = excluded.node, checked = excluded.checked, error = excluded.error, failures = excluded.failures, behind = excluded.behind,
		retained = excluded.retained, detail = excluded.detail, ahead = excluded.ahead, owed = excluded.owed`,
		s.Name, s.Kind, s.Cursor, s.Deleted, s.Seen, s.Node, s.Checked, s.Error, s.Failures, s.Behind, s.Retained, s.Detail, s.Ahead, s.Owed)
	if err != nil {
		return fmt.Errorf("keeping how far %s was read: %w", s.Name, err)
	}
	return nil
}

// ForgetSource drops the state of a source that is no more.
func (r *Database) ForgetSource(ctx context.Context, name string) error {
	_, err := r.pool.Exec(ctx, `delete from change_source where name = $1`, name)
	return err
}

// databaseLead lasts as long as its connection.
type databaseLead struct{ conn *pgx.Conn }

const leadKey = `hashtextextended('gerastic source ' || $1, 0)`

// TakeLead implements Records.
func (r *Database) TakeLead(ctx context.Context, source string) (Lead, error) {
	conn, err := r.pool.Acquire(ctx)
	if err != nil {
		return nil, err
	}
	var taken bool
	if err := conn.QueryRow(ctx, `select pg_try_advisory_lock(`+leadKey+`)`, source).Scan(&taken); err != nil || !taken {
		conn.Release()
		return nil, err
	}
	return &databaseLead{conn.Hijack()}, nil // out of the pool: it is held for as long as the source is read
}

// Held implements Lead.
func (l *databaseLead) Held(ctx context.Context) bool { return l.conn.Ping(ctx) == nil }

// Close gives the right back: at once, not when the server notices that the connection has gone.
func (l *databaseLead) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_, _ = l.conn.Exec(ctx, `select pg_advisory_unlock_all()`)
	_ = l.conn.Close(ctx)
}

// Run is one reading of a source.
type Run struct {
	ID              int64
	Source, Trigger string
	Node            string
	Began, Ended    time.Time
	Changes         int64 // seen
	Skipped         int64 // of them, that no rule counted
	Tags            int64 // purged
	Entries         int64 // that went
	Purges          []int64
	Error           string
	Delays          meter.Histogram // from commit to purged
}

// AddRun keeps a run, and returns its number.
func (r *Database) AddRun(ctx context.Context, run Run) (id int64, err error) {
	if run.Purges == nil {
		run.Purges = []int64{}
	}
	err = r.pool.QueryRow(ctx, `insert into change_run (source, trigger, node, began, ended, changes, skipped, tags, entries, purges, error, delays)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) returning id`,
		run.Source, run.Trigger, run.Node, run.Began, run.Ended, run.Changes, run.Skipped, run.Tags, run.Entries, run.Purges, run.Error, packHistogram(&run.Delays)).Scan(&id)
	if err != nil {
		return 0, fmt.Errorf("keeping the run of %s: %w", run.Source, err)
	}
	return id, nil
}

// Runs lists the runs of a source ("" for all), newest first, before a number (0: from
// the end).
func (r *Database) Runs(ctx context.Context, source string, before int64, limit int) ([]Run, error) {
	rows, err := r.pool.Query(ctx, runColumns+` where ($1 = '' or source = $1) and ($2::bigint = 0 or id < $2) order by id desc limit $3`, source, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanRun)
}

const runColumns = `select id, source, trigger, node, began, ended, changes, skipped, tags, entries, purges, error, delays from change_run`

func scanRun(row pgx.CollectableRow) (run Run, err error) {
	var delays []byte
	err = row.Scan(&run.ID, &run.Source, &run.Trigger, &run.Node, &run.Began, &run.Ended, &run.Changes, &run.Skipped, &run.Tags, &run.Entries, &run.Purges, &run.Error, &delays)
	unpackHistogram(delays, &run.Delays)
	return run, err
}

// LastRun is the last run of a source that found something or failed.
func (r *Database) LastRun(ctx context.Context, source string) (Run, error) {
	rows, err := r.pool.Query(ctx, runColumns+` where source = $1 and (changes > 0 or error <> '') order by id desc limit 1`, source)
	if err != nil {
		return Run{}, err
	}
	run, err := pgx.CollectExactlyOneRow(rows, scanRun)
	return run, one(err)
}

// Delays sums the times from commit to purged of each source since a time, and the
// changes seen.
func (r *Database) Delays(ctx context.Context, since time.Time) (map[string]*meter.Histogram, map[string]int64, error) {
	rows, err := r.pool.Query(ctx, `select source, sum(changes)::bigint, array_agg(delays) from change_run where ended > $1 group by source`, since)
	if err != nil {
		return nil, nil, err
	}
	delays, changes := map[string]*meter.Histogram{}, map[string]int64{}
	var source string
	var seen int64
	var packed [][]byte
	_, err = pgx.ForEachRow(rows, []any{&source, &seen, &packed}, func() error {
		h := &meter.Histogram{}
		for _, p := range packed {
			unpackHistogram(p, h)
		}
		delays[source], changes[source] = h, seen
		return nil
	})
	return delays, changes, err
}

// SentBefore tells which items of a source were sent before.
func (r *Database) SentBefore(ctx context.Context, source string, ids []string) (map[string]bool, error) {
	rows, err := r.pool.Query(ctx, `select id from change_item where source = $1 and id = any($2)`, source, ids)
	if err != nil {
		return nil, err
	}
	known, err := pgx.CollectRows(rows, pgx.RowTo[string])
	sent := map[string]bool{}
	for _, id := range known {
		sent[id] = true
	}
	return sent, err
}

// NoteSent remembers the items of a source whose purges are in the ledger.
func (r *Database) NoteSent(ctx context.Context, source string, ids []string) error {
	_, err := r.pool.Exec(ctx, `insert into change_item (source, id) select $1, i from unnest($2::text[]) i on conflict do nothing`, source, ids)
	return err
}

// ForgetRuns drops the runs, and the items sent, that are older than anyone needs; a run
// that found nothing is of no use after a day.
func (r *Database) ForgetRuns(ctx context.Context, now time.Time) error {
	_, err := r.pool.Exec(ctx, `delete from change_run where ended < $1 or ended < $2 and changes = 0 and error = ''`, now.AddDate(0, 0, -30), now.AddDate(0, 0, -1))
	if err == nil {
		_, err = r.pool.Exec(ctx, `delete from change_item where at < $1`, now.AddDate(0, 0, -7))
	}
	return err
}
