package aftercommit

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"gerastic.example/client"
)

// Outbox sends what transactions changed.
type Outbox struct {
	pool *pgxpool.Pool
	to   *client.Client
	log  *slog.Logger
	end  context.CancelFunc
	done chan struct{}
}

// schema is the table of what is not purged yet.
const schema = `create table if not exists purge_outbox (
	id bigint generated always as identity primary key,
	at timestamptz not null default clock_timestamp(),
	request jsonb not null)`

// aside is what a table from before there was anything to set aside lacks. A message that
// Gerastic refuses waits until next, and says why.
const aside = `alter table purge_outbox add column if not exists refused text, add column if not exists tries int not null default 0,
	add column if not exists next timestamptz not null default '-infinity'`

// Pauses between tries to send what is left over.
const (
	firstPause = time.Second
	lastPause  = time.Minute
)

// Open makes the table, if it is not there, and begins to send what an earlier process left in
// it. Close ends that. The error is that of making the table.
func Open(ctx context.Context, pool *pgxpool.Pool, to *client.Client, log *slog.Logger) (*Outbox, error) {
	for _, statement := range []string{schema, aside} {
		if _, err := pool.Exec(ctx, statement); err != nil {
			return nil, fmt.Errorf("making the table purge_outbox: %w", err)
		}
	}
	life, end := context.WithCancel(context.WithoutCancel(ctx))
	o := &Outbox{pool: pool, to: to, log: log, end: end, done: make(chan struct{})}
	go o.sendLeftOver(life)
	return o, nil
}

// Close stops sending; what is left stays in the table for the next Open.
func (o *Outbox) Close() {
	o.end()
	<-o.done
}

// Tx is a transaction that knows what it changes.
type Tx struct {
	pgx.Tx
	sent []message
	ids  []int64
}

// message is what is to be told: a purge, or changes for the rules.
type message struct {
	Purge   *client.PurgeRequest `json:"purge,omitempty"`
	Changes []client.Change      `json:"changes,omitempty"`
}

// Purge orders that tags be purged if the transaction is committed.
func (tx *Tx) Purge(reason string, tags ...string) {
	if len(tags) > 0 {
		tx.sent = append(tx.sent, message{Purge: &client.PurgeRequest{Tags: tags, Reason: reason}})
	}
}

// Changed tells the rules of changes, if the transaction is committed: before nil is a
// create, after nil a delete.
func (tx *Tx) Changed(kind string, before, after any) {
	c := client.ChangeOf(kind, before, after)
	c.ID = rand.Text() // sent twice, it counts once
	tx.sent = append(tx.sent, message{Changes: []client.Change{c}})
}

// Run carries out do in a transaction, commits, and purges what it ordered. It returns
// an error only when the transaction failed, and nothing was changed; purged reports whether
// everything has been purged by now. If not, it will be as soon as Gerastic answers.
func (o *Outbox) Run(ctx context.Context, do func(tx *Tx) error) (purged bool, err error) {
	tx := &Tx{}
	err = pgx.BeginFunc(ctx, o.pool, func(inner pgx.Tx) error {
		tx.Tx = inner
		if err := do(tx); err != nil {
			return err
		}
		for _, m := range tx.sent {
			content, err := json.Marshal(m)
			if err != nil {
				return err
			}
			var id int64
			if err := inner.QueryRow(ctx, `insert into purge_outbox (request) values ($1) returning id`, content).Scan(&id); err != nil {
				return err
			}
			tx.ids = append(tx.ids, id)
		}
		return nil
	})
	if err != nil {
		return false, err
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	purged = true
	for i, m := range tx.sent {
		taken, err := o.send(ctx, tx.ids[i], m)
		if err != nil {
			o.log.Warn("a change is committed but not purged yet; it is tried again", "id", tx.ids[i], "error", err)
			return false, nil
		}
		purged = purged && taken
	}
	return purged, nil
}

// send tells one message, and forgets it when it was taken. One that is refused is set aside:
// it must not hold up those behind it. The error says that none can be told now.
func (o *Outbox) send(ctx context.Context, id int64, m message) (taken bool, err error) {
	if m.Purge != nil {
		_, err = o.to.Purge(ctx, *m.Purge)
	} else {
		_, err = o.to.SendChanges(ctx, "", m.Changes...)
	}
	if refused(err) {
		o.log.Error("Gerastic refuses a change that is committed; it is set aside, and tried again now and then", "id", id, "error", err)
		_, err = o.pool.Exec(ctx, `update purge_outbox set refused = $2, tries = tries + 1, next = clock_timestamp() + least(interval '1 minute' * 2 ^ least(tries, 10), interval '1 hour') where id = $1`, id, err.Error())
		return false, err
	}
	if err != nil {
		return false, err
	}
	_, err = o.pool.Exec(ctx, `delete from purge_outbox where id = $1`, id)
	return err == nil, err
}

// refused reports whether an error is about the message, and not about reaching Gerastic or
// the right to call it.
func refused(err error) bool {
	switch client.StatusOf(err) {
	case http.StatusBadRequest, http.StatusRequestEntityTooLarge, http.StatusUnprocessableEntity:
		return true
	}
	return false
}

// Left is a message that is committed and not purged.
type Left struct {
	ID      int64
	At      time.Time
	Request json.RawMessage // the purge or the changes
	Refused string          // why Gerastic refused it; "" if it was not reached yet
	Tries   int             // so often it was refused
	Next    time.Time       // of the next try, if it was refused
}

// Left returns what is committed and not purged, the oldest first, at most limit. The error is
// that of the database.
func (o *Outbox) Left(ctx context.Context, limit int) ([]Left, error) {
	rows, err := o.pool.Query(ctx, `select id, at, request::text::bytea, coalesce(refused, ''), tries, case when tries = 0 then at else next end from purge_outbox order by id limit $1`, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Left])
}

// Drop gives up a message that is left. The error is that of the database.
func (o *Outbox) Drop(ctx context.Context, id int64) error {
	_, err := o.pool.Exec(ctx, `delete from purge_outbox where id = $1`, id)
	return err
}

// sendLeftOver tries what could not be sent at once, with growing pauses.
func (o *Outbox) sendLeftOver(ctx context.Context) {
	defer close(o.done)
	pause := firstPause
	for {
		switch left, err := o.sendOld(ctx); {
		case ctx.Err() != nil:
			return
		case err != nil:
			o.log.Warn("changes that are committed are not purged yet; they are tried again", "in", pause, "error", err)
			pause = min(2*pause, lastPause)
		case left == 0:
			pause = firstPause
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
	}
}

// sendOld sends what is older than any process needs to send it itself.
func (o *Outbox) sendOld(ctx context.Context) (left int, err error) {
	rows, err := o.pool.Query(ctx, `select id, request from purge_outbox where at < clock_timestamp() - interval '1 second' and next <= clock_timestamp() order by id limit 100`)
	if err != nil {
		return 0, err
	}
	type row struct {
		ID      int64
		Request message
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[row])
	for i := 0; i < len(all) && (err == nil || client.StatusOf(err) >= 500); i++ { // one that fails holds up no other, as long as there is an answer
		_, failed := o.send(ctx, all[i].ID, all[i].Request)
		err = cmp.Or(failed, err)
	}
	return len(all), err
}
