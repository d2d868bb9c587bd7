package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// Purge is an order in the ledger, with who gave it and what came of it.
type Purge struct {
	tags.Purge
	At      time.Time
	Actor   string
	Reason  string
	Applied []Applied
}

// Applied is what a purge did on one node.
type Applied struct {
	Node    string
	At      time.Time
	Took    time.Duration // from the order's place in the ledger until no request could be answered from what it matched
	Sweep   time.Duration // until what it matched was counted and freed
	Matched store.Matched
	Missing bool // it has not said that it applied the purge
}

// inLedger is what a row names, with its place and mode.
func inLedger(p tags.Purge, sequence int64, mode string) tags.Purge {
	p.Sequence, p.Mode = tags.Stamp(sequence), tags.ParseMode(mode)
	return p
}

// Channels on which nodes hear that the ledger grew, and that a node has noted what
// purges did there. The tables are the truth; a missed notice costs a moment, never a purge.
const (
	grew  = "gerastic_ledger"
	noted = "gerastic_applied"
)

// Order is a purge that is to go into the ledger.
type Order struct {
	tags.Purge
	Actor, Reason string
}

// orderText is an order as it is kept on disk.
type orderText struct {
	Actor    string     `json:"actor"`
	Reason   string     `json:"reason"`
	Mode     string     `json:"mode"`
	Selector tags.Purge `json:"selector"`
}

// MarshalJSON writes an order without its place.
func (o Order) MarshalJSON() ([]byte, error) {
	return json.Marshal(orderText{o.Actor, o.Reason, o.Mode.String(), o.Purge})
}

// UnmarshalJSON reads it back.
func (o *Order) UnmarshalJSON(text []byte) error {
	var t orderText
	if err := json.Unmarshal(text, &t); err != nil {
		return err
	}
	*o = Order{Purge: t.Selector, Actor: t.Actor, Reason: t.Reason}
	o.Mode = tags.ParseMode(t.Mode)
	return nil
}

// Position is a row of the ledger: its number, and the mark that no other history of the ledger
// gave to that number. The zero place is before every purge.
type Position struct {
	Sequence tags.Stamp
	RowID    string
}

// ErrOtherHistory says that the ledger does not have a place any more that was read or written
// before: it was set back, or what lay there was forgotten.
var ErrOtherHistory = errors.New("the ledger was set back, or does not reach back to where this node has read to")

// Why nothing, or not all, is known of an order that was given.
var (
	// ErrUnsure says that an order may be in the ledger, or may yet come into it.
	ErrUnsure = errors.New("it is not known whether the purge is in the ledger")
	// ErrStopping says that the node stops before the order was written.
	ErrStopping = errors.New("the node is stopping")
)

// Written is what became of orders that are in the ledger.
type Written struct {
	Before Position   // that of the row before the first
	First  tags.Stamp // their sequences follow one another
	RowIDs []string   // of each
	Last   Position
	At     time.Time
	Live   []Alive // the nodes that were seen within the limit
}

// Alive is a node that lives.
type Alive struct {
	Name string
	Seen time.Time
}

// Append puts purges into the ledger, one after the other in one transaction. The lock on the
// ledger's one row lasts until the commit, so that sequences become visible in order. An error
// that is ErrUnsure leaves open whether they are there.
func (r *Database) Append(ctx context.Context, node string, orders []Order, limit time.Duration) (w Written, err error) {
	actors, reasons, modes, contents := make([]string, len(orders)), make([]string, len(orders)), make([]string, len(orders)), make([][]byte, len(orders))
	for i, o := range orders {
		if contents[i], err = json.Marshal(o.Purge); err != nil {
			return w, err
		}
		actors[i], reasons[i], modes[i] = o.Actor, o.Reason, o.Mode.String()
	}
	var last int64
	all := &pgx.Batch{} // one transaction, one round trip
	all.Queue(`update ledger set sequence = sequence + $1 returning sequence, now()`, len(orders)).QueryRow(func(row pgx.Row) error { return row.Scan(&last, &w.At) })
	all.Queue(`insert into purge (sequence, actor, reason, mode, selector)
		select (select sequence from ledger) - $1::bigint + n, a, r, m, s from unnest($2::text[], $3::text[], $4::text[], $5::jsonb[]) with ordinality o (a, r, m, s, n)`,
		len(orders), actors, reasons, modes, contents)
	all.Queue(`select coalesce((select mark::text from purge where sequence = ledger.sequence - $1), ''), (select array_agg(mark::text order by sequence) from purge where sequence > ledger.sequence - $1) from ledger`, len(orders)).
		QueryRow(func(row pgx.Row) error { return row.Scan(&w.Before.RowID, &w.RowIDs) })
	// A statement of its own, which sees who has arrived while the first waited for the row.
	all.Queue(`select name, seen from node where seen > clock_timestamp() - $1::interval`, limit).Query(func(rows pgx.Rows) (err error) {
		w.Live, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Alive])
		return err
	})
	all.Queue(`select pg_notify($1, $2)`, grew, node)
	if err := r.pool.SendBatch(ctx, all).Close(); err != nil {
		if !notWritten(err) {
			err = fmt.Errorf("%w: %w", ErrUnsure, err)
		}
		return w, fmt.Errorf("writing to the ledger: %w", err)
	}
	w.Last = Position{tags.Stamp(last), w.RowIDs[len(w.RowIDs)-1]}
	w.Before.Sequence = w.Last.Sequence - tags.Stamp(len(orders))
	w.First = w.Before.Sequence + 1
	return w, nil
}

// notWritten reports whether an error says that a transaction was not committed.
func notWritten(err error) bool {
	var connecting *pgconn.ConnectError
	return Refused(err) || pgconn.SafeToRetry(err) || errors.As(err, &connecting)
}

// Unwritable reports whether the database refused what was to be written, and would again.
func Unwritable(err error) bool {
	var answer *pgconn.PgError
	return errors.As(err, &answer) && slices.Contains([]string{"22", "23", "54"}, answer.Code[:min(2, len(answer.Code))])
}

// Presence is a node as it tells the others of itself.
type Presence struct {
	Name, Control string
	Started       time.Time // tells one process from another of the same name
	Trouble       string    // what it has to do without; "" if nothing
}

// ErrNameTaken says that another process lives under a node's name.
var ErrNameTaken = errors.New("another node lives under this name; give each node a name of its own, with --node")

// newest makes sure that the ledger's newest row is there, which older programs forgot with
// the others.
const newest = `insert into purge (sequence, actor, reason, mode, selector) select sequence, 'start', 'the newest purge, which had been forgotten', 'drop', '{}' from ledger
	where sequence > 0 and not exists (select from purge where purge.sequence = ledger.sequence)`

// Arrive registers a node, or one that may not have been waited for, and returns the
// ledger's newest place. It waits for purges that are being written: those that were
// not told to wait for this node are in the ledger when it returns. The name may be that of a
// process that began at before, which is known to have ended, or of one that was not seen for
// the limit; else the error is ErrNameTaken.
func (r *Database) Arrive(ctx context.Context, n Presence, applied tags.Stamp, before time.Time, limit time.Duration) (at Position, err error) {
	var sequence int64
	taken := false
	all := &pgx.Batch{}
	all.Queue(`select sequence from ledger for update`)
	all.Queue(newest)
	all.Queue(`select sequence, coalesce((select mark::text from purge where purge.sequence = ledger.sequence), '') from ledger`).QueryRow(func(row pgx.Row) error { return row.Scan(&sequence, &at.RowID) })
	all.Queue(`insert into node (name, started, applied, control) values ($1, $2, $3, $4)
		on conflict (name) do update set seen = clock_timestamp(), started = excluded.started, applied = excluded.applied, control = excluded.control
		where node.started in (excluded.started, $5) or node.seen < clock_timestamp() - $6::interval`,
		n.Name, n.Started, int64(applied), n.Control, before, limit).Exec(func(tag pgconn.CommandTag) error {
		taken = tag.RowsAffected() == 0
		return nil
	})
	if err = r.pool.SendBatch(ctx, all).Close(); err == nil && taken {
		err = ErrNameTaken
	}
	at.Sequence = tags.Stamp(sequence)
	return at, err
}

// Seen is when a node was seen last; the zero time if it is not known.
func (r *Database) Seen(ctx context.Context, name string) (seen time.Time, err error) {
	err = r.pool.QueryRow(ctx, `select seen from node where name = $1`, name).Scan(&seen)
	if one(err) == ErrNotFound {
		err = nil
	}
	return seen, err
}

// Newest is the ledger's newest place.
func (r *Database) Newest(ctx context.Context) (at Position, err error) {
	var sequence int64
	err = r.pool.QueryRow(ctx, `select sequence, coalesce((select mark::text from purge where purge.sequence = ledger.sequence), '') from ledger`).Scan(&sequence, &at.RowID)
	at.Sequence = tags.Stamp(sequence)
	return at, err
}

// Beat says that a node lives and how much of the ledger it has applied; ErrNotFound if
// the others do not know it (any more), or know another process by its name.
func (r *Database) Beat(ctx context.Context, n Presence, applied tags.Stamp) error {
	tag, err := r.pool.Exec(ctx, `update node set seen = clock_timestamp(), applied = $3, trouble = $4 where name = $1 and started = $2`, n.Name, n.Started, int64(applied), n.Trouble)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// Depart takes a node that stops off the list of those who are waited for.
func (r *Database) Depart(ctx context.Context, n Presence) error {
	_, err := r.pool.Exec(ctx, `delete from node where name = $1 and started = $2`, n.Name, n.Started)
	return err
}

// Node is a node as the others see it.
type Node struct {
	Name, Control string
	Seen, Started time.Time
	Applied       tags.Stamp
	Trouble       string // what it has to do without, as it said itself
}

// Nodes lists the nodes, by name; those that were not seen for a day are forgotten.
func (r *Database) Nodes(ctx context.Context) ([]Node, error) {
	rows, err := r.pool.Query(ctx, `select name, control, seen, started, applied, trouble from node where seen > now() - interval '1 day' order by name`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (Node, error) {
		var n Node
		var applied int64
		err := row.Scan(&n.Name, &n.Control, &n.Seen, &n.Started, &applied, &n.Trouble)
		n.Applied = tags.Stamp(applied)
		return n, err
	})
}

// keptPurges is how long the ledger is kept. A node that was away for longer finds the
// gap and counts everything as purged.
const keptPurges = 90 * 24 * time.Hour

// ForgetPurges drops what is older than anyone needs, but for the newest: see Place.
func (r *Database) ForgetPurges(ctx context.Context, now time.Time) error {
	_, err := r.pool.Exec(ctx, `delete from purge where at < $1 and sequence < (select sequence from ledger)`, now.Add(-keptPurges))
	return err
}

// Entry is a purge of the ledger with its place.
type Entry struct {
	Purge
	Mark string
}

// Since returns the purges after a place, in the ledger's order, without what came
// of them. Every reading checks that the place itself is still there: else it is
// ErrOtherHistory.
func (r *Database) Since(ctx context.Context, after Position, limit int) ([]Entry, error) {
	rows, err := r.pool.Query(ctx, `select sequence, at, mode, selector, mark::text from purge where sequence >= $1 order by sequence limit $2`, int64(after.Sequence), limit+1)
	if err != nil {
		return nil, fmt.Errorf("reading the ledger: %w", err)
	}
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (Entry, error) {
		var e Entry
		var sequence int64
		var mode string
		var named tags.Purge
		err := row.Scan(&sequence, &e.At, &mode, &named, &e.Mark)
		e.Purge.Purge = inLedger(named, sequence, mode)
		return e, err
	})
	switch {
	case err != nil:
		return nil, fmt.Errorf("reading the ledger: %w", err)
	case after.Sequence == 0 && (len(all) == 0 || all[0].Sequence == 1):
		return all, nil
	case len(all) == 0 || all[0].Sequence != after.Sequence || all[0].Mark != after.RowID:
		return nil, ErrOtherHistory
	}
	return all[1:], nil
}

// Follow calls ledger whenever another node made the ledger grow, and applied whenever a node noted what
// purges did there, until ctx ends or the connection fails.
func (r *Database) Follow(ctx context.Context, node string, ledger, applied func()) error {
	conn, err := r.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Hijack().Close(context.WithoutCancel(ctx)) }() // a listening connection does not go back
	if _, err := conn.Exec(ctx, `listen `+grew+`; listen `+noted); err != nil {
		return err
	}
	ledger() // what came before the listening began
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return err
		}
		switch {
		case n.Channel == noted:
			applied()
		case n.Payload != node: // it knows what it wrote itself
			ledger()
		}
	}
}

// Ack is what a purge did on a node.
type Ack struct {
	Position
	Applied
}

// Acknowledge records what purges did on a node.
func (r *Database) Acknowledge(ctx context.Context, all []Ack) error {
	n := len(all)
	marks := make([]string, n)
	sequences, nodes, took, sweep, entries, bytes, routes := make([]int64, n), make([]string, n), make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n), make([][]byte, n)
	for i, a := range all {
		content, err := json.Marshal(a.Matched.Routes)
		if err != nil {
			return err
		}
		marks[i] = a.RowID
		sequences[i], nodes[i], took[i], sweep[i], entries[i], bytes[i], routes[i] = int64(a.Sequence), a.Node, a.Took.Microseconds(), a.Sweep.Microseconds(), a.Matched.Entries, a.Matched.Bytes, content
	}
	_, err := r.pool.Exec(ctx, `with row as (insert into purge_applied (sequence, node, took_us, sweep_us, entries, bytes, routes)
		select u.sequence, u.node, took, sweep, entries, bytes, routes
		from unnest($1::bigint[], $2::text[], $3::bigint[], $4::bigint[], $5::bigint[], $6::bigint[], $7::jsonb[], $9::uuid[]) u (sequence, node, took, sweep, entries, bytes, routes, mark)
		join purge on purge.sequence = u.sequence and purge.mark = u.mark on conflict do nothing)
		select pg_notify($8, '')`, sequences, nodes, took, sweep, entries, bytes, routes, noted, marks)
	return err
}

// LastPurges returns the last purge that named each of some tags.
func (r *Database) LastPurges(ctx context.Context, names []string) (map[string]Purge, error) {
	rows, err := r.pool.Query(ctx, `select tag, sequence, at, actor from unnest($1::text[]) tag,
		lateral (select sequence, at, actor from purge where selector @> jsonb_build_object('tags', jsonb_build_array(tag)) order by sequence desc limit 1) p`, names)
	if err != nil {
		return nil, err
	}
	last := map[string]Purge{}
	var tag, actor string
	var sequence int64
	var at time.Time
	_, err = pgx.ForEachRow(rows, []any{&tag, &sequence, &at, &actor}, func() error {
		last[tag] = Purge{Purge: tags.Purge{Sequence: tags.Stamp(sequence)}, At: at, Actor: actor}
		return nil
	})
	return last, err
}

const purgeColumns = `select sequence, at, actor, reason, mode, selector,
	coalesce((select jsonb_agg(jsonb_build_object('node', node, 'at', a.at, 'took_us', took_us, 'sweep_us', sweep_us, 'entries', entries, 'bytes', bytes, 'routes', routes) order by node)
		from purge_applied a where a.sequence = purge.sequence), '[]') from purge`

func scanPurge(row pgx.CollectableRow) (Purge, error) {
	var sequence int64
	var p Purge
	var mode string
	var named tags.Purge
	var applied []struct {
		Node           string    `json:"node"`
		At             time.Time `json:"at"`
		TookUS         int64     `json:"took_us"`
		SweepUS        int64     `json:"sweep_us"`
		Entries, Bytes int64
		Routes         map[string]int64 `json:"routes"`
	}
	if err := row.Scan(&sequence, &p.At, &p.Actor, &p.Reason, &mode, &named, &applied); err != nil {
		return p, err
	}
	p.Purge = inLedger(named, sequence, mode)
	for _, a := range applied {
		p.Applied = append(p.Applied, Applied{
			Node: a.Node, At: a.At, Took: time.Duration(a.TookUS) * time.Microsecond, Sweep: time.Duration(a.SweepUS) * time.Microsecond,
			Matched: store.Matched{Entries: a.Entries, Bytes: a.Bytes, Routes: a.Routes},
		})
	}
	return p, nil
}

// Purges lists the ledger, newest first, before a sequence (0: from the end).
func (r *Database) Purges(ctx context.Context, before tags.Stamp, limit int) ([]Purge, error) {
	rows, err := r.pool.Query(ctx, purgeColumns+` where $1::bigint = 0 or sequence < $1 order by sequence desc limit $2`, int64(min(before, math.MaxInt64)), limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanPurge)
}

// At returns the purge at a position, or ErrNotFound if the ledger has another one there, or none.
func (r *Database) At(ctx context.Context, at Position) (Purge, error) {
	rows, err := r.pool.Query(ctx, purgeColumns+` where sequence = $1 and mark::text = $2`, int64(at.Sequence), at.RowID)
	if err != nil {
		return Purge{}, err
	}
	p, err := pgx.CollectExactlyOneRow(rows, scanPurge)
	return p, one(err)
}

// Purge returns one entry of the ledger.
func (r *Database) Purge(ctx context.Context, sequence tags.Stamp) (Purge, error) {
	rows, err := r.pool.Query(ctx, purgeColumns+` where sequence = $1`, int64(sequence))
	if err != nil {
		return Purge{}, err
	}
	p, err := pgx.CollectExactlyOneRow(rows, scanPurge)
	return p, one(err)
}
