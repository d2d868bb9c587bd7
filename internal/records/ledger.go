package records

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

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
}

// selector is the JSON form of what a purge names.
type selector struct {
	Tags   []string `json:"tags,omitempty"`
	Routes []string `json:"routes,omitempty"`
	URLs   []url    `json:"urls,omitempty"`
	All    bool     `json:"all,omitempty"`
	Host   string   `json:"host,omitempty"`
}

type url struct {
	Host     string `json:"host,omitempty"`
	Path     string `json:"path"`
	Query    string `json:"query,omitempty"`
	AnyHost  bool   `json:"any_host,omitempty"`
	AnyQuery bool   `json:"any_query,omitempty"`
}

func selectorOf(p tags.Purge) selector {
	s := selector{Tags: p.Tags, Routes: p.Routes, All: p.All, Host: p.Host}
	for _, u := range p.URLs {
		s.URLs = append(s.URLs, url(u))
	}
	return s
}

func (s selector) purge(sequence int64, mode string) tags.Purge {
	p := tags.Purge{Sequence: tags.Stamp(sequence), Tags: s.Tags, Routes: s.Routes, All: s.All, Host: s.Host}
	if mode == tags.Soften.String() {
		p.Mode = tags.Soften
	}
	for _, u := range s.URLs {
		p.URLs = append(p.URLs, tags.URL(u))
	}
	return p
}

// channel is where nodes hear that the ledger grew. The table is the truth; a missed
// notice costs a moment, never a purge.
const channel = "gerastic_ledger"

// Append puts a purge into the ledger and returns its sequence. The lock on the
// ledger's one row lasts until the commit, so that sequences become visible in order.
func (r *Records) Append(ctx context.Context, p tags.Purge, actor, reason string) (tags.Stamp, error) {
	content, err := json.Marshal(selectorOf(p))
	if err != nil {
		return 0, err
	}
	var sequence int64
	err = pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, `update ledger set sequence = sequence + 1 returning sequence`).Scan(&sequence); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into purge (sequence, actor, reason, mode, selector) values ($1, $2, $3, $4, $5)`,
			sequence, actor, reason, p.Mode.String(), content); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `select pg_notify($1, $2)`, channel, strconv.FormatInt(sequence, 10))
		return err
	})
	if err != nil {
		return 0, fmt.Errorf("writing the purge to the ledger: %w", err)
	}
	return tags.Stamp(sequence), nil
}

// Sequence is the ledger's last.
func (r *Records) Sequence(ctx context.Context) (tags.Stamp, error) {
	var sequence int64
	err := r.pool.QueryRow(ctx, `select sequence from ledger`).Scan(&sequence)
	return tags.Stamp(sequence), err
}

// Since returns the purges after a sequence, in the ledger's order, without what came
// of them.
func (r *Records) Since(ctx context.Context, after tags.Stamp, limit int) ([]Purge, error) {
	rows, err := r.pool.Query(ctx, `select sequence, at, mode, selector from purge where sequence > $1 order by sequence limit $2`, int64(after), limit)
	if err != nil {
		return nil, fmt.Errorf("reading the ledger: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (Purge, error) {
		var p Purge
		var sequence int64
		var mode string
		var s selector
		err := row.Scan(&sequence, &p.At, &mode, &s)
		p.Purge = s.purge(sequence, mode)
		return p, err
	})
}

// Follow calls heard whenever the ledger grew, until ctx ends or the connection fails.
func (r *Records) Follow(ctx context.Context, heard func()) error {
	conn, err := r.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Hijack().Close(context.WithoutCancel(ctx)) }() // a listening connection does not go back
	if _, err := conn.Exec(ctx, `listen `+channel); err != nil {
		return err
	}
	heard() // what came before the listening began
	for {
		if _, err := conn.Conn().WaitForNotification(ctx); err != nil {
			return err
		}
		heard()
	}
}

// Note records what a purge did on a node.
func (r *Records) Note(ctx context.Context, sequence tags.Stamp, a Applied) error {
	routes, err := json.Marshal(a.Matched.Routes)
	if err != nil {
		return err
	}
	_, err = r.pool.Exec(ctx, `insert into purge_applied (sequence, node, took_us, sweep_us, entries, bytes, routes) values ($1, $2, $3, $4, $5, $6, $7)
		on conflict do nothing`,
		int64(sequence), a.Node, a.Took.Microseconds(), a.Sweep.Microseconds(), a.Matched.Entries, a.Matched.Bytes, routes)
	return err
}

const purgeColumns = `select sequence, at, actor, reason, mode, selector,
	coalesce((select jsonb_agg(jsonb_build_object('node', node, 'at', a.at, 'took_us', took_us, 'sweep_us', sweep_us, 'entries', entries, 'bytes', bytes, 'routes', routes) order by node)
		from purge_applied a where a.sequence = purge.sequence), '[]') from purge`

func scanPurge(row pgx.CollectableRow) (Purge, error) {
	var sequence int64
	var p Purge
	var mode string
	var s selector
	var applied []struct {
		Node           string    `json:"node"`
		At             time.Time `json:"at"`
		TookUS         int64     `json:"took_us"`
		SweepUS        int64     `json:"sweep_us"`
		Entries, Bytes int64
		Routes         map[string]int64 `json:"routes"`
	}
	if err := row.Scan(&sequence, &p.At, &p.Actor, &p.Reason, &mode, &s, &applied); err != nil {
		return p, err
	}
	p.Purge = s.purge(sequence, mode)
	for _, a := range applied {
		p.Applied = append(p.Applied, Applied{
			Node: a.Node, At: a.At, Took: time.Duration(a.TookUS) * time.Microsecond, Sweep: time.Duration(a.SweepUS) * time.Microsecond,
			Matched: store.Matched{Entries: a.Entries, Bytes: a.Bytes, Routes: a.Routes},
		})
	}
	return p, nil
}

// Purges lists the ledger, newest first, before a sequence (0: from the end).
func (r *Records) Purges(ctx context.Context, before tags.Stamp, limit int) ([]Purge, error) {
	rows, err := r.pool.Query(ctx, purgeColumns+` where $1 = 0 or sequence < $1 order by sequence desc limit $2`, int64(before), limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanPurge)
}

// Purge returns one entry of the ledger.
func (r *Records) Purge(ctx context.Context, sequence tags.Stamp) (Purge, error) {
	rows, err := r.pool.Query(ctx, purgeColumns+` where sequence = $1`, int64(sequence))
	if err != nil {
		return Purge{}, err
	}
	p, err := pgx.CollectExactlyOneRow(rows, scanPurge)
	return p, one(err)
}
