package detect

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"gerastic/internal/core/changes"
	"gerastic/internal/records"
)

// item is a change as it is sent: by call, or on a channel.
type item struct {
	ID     string          `json:"id"`
	Kind   string          `json:"kind"`
	Op     changes.Op      `json:"op"`
	Before json.RawMessage `json:"before"`
	After  json.RawMessage `json:"after"`
	At     time.Time       `json:"at"`
}

func (i *item) change() (c changes.Change, err error) {
	c = changes.Change{ID: i.ID, Kind: i.Kind, Op: i.Op, At: i.At}
	if c.Before, err = changes.ParseFields(i.Before); err == nil {
		c.After, err = changes.ParseFields(i.After)
	}
	if err == nil {
		err = c.Check()
	}
	return c, err
}

// idle is how often a source that follows shows that it still does.
const idle = 5 * time.Second

// listen hears changes on a channel until something fails. What was said before it
// listened is lost to it: the tables of the same database are read again.
func (w *watcher) listen(ctx context.Context, rec records.Records, lead records.Lead, state *records.Source) error {
	conn, err := pgx.Connect(ctx, w.source.Database)
	if err != nil {
		return fmt.Errorf("connecting to the content database: %w", err)
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if _, err := conn.Exec(ctx, `listen `+pgx.Identifier{w.source.Channel}.Sanitize()); err != nil {
		return err
	}
	w.lookAgain(w.source.Database)
	pool, err := w.pools.postgres(ctx, w.source.Database)
	if err != nil {
		return err
	}
	heard := make(chan string, mostChanges)
	failed := make(chan error, 1)
	hearing, stop := context.WithCancel(ctx)
	var ears sync.WaitGroup
	ears.Go(func() { failed <- hear(hearing, conn, heard) })
	defer ears.Wait() // nobody uses the connection afterwards
	defer stop()
	for {
		var first string
		select {
		case first = <-heard:
		case err := <-failed:
			return err
		case <-time.After(idle):
			if !lead.Held(ctx) {
				return errors.New("the connection to the ledger was lost")
			}
			if err := w.well(ctx, rec, state, time.Now()); err != nil {
				return err
			}
			continue
		}
		began := time.Now()
		r := w.begin(w.source.Name, "notice", w.source, postgres{pool})
		err := r.said(ctx, first, heard)
		if err == nil {
			err = r.flush(ctx)
		}
		if _, err = r.close(ctx, rec, err); err != nil {
			return err
		}
		w.complaint = r.record.Error
		if err := w.well(ctx, rec, state, began); err != nil {
			return err
		}
	}
}

// hear passes on what is said, and makes sure now and then that the connection stands.
func hear(ctx context.Context, conn *pgx.Conn, heard chan<- string) error {
	for {
		waiting, cancel := context.WithTimeout(ctx, idle)
		n, err := conn.WaitForNotification(waiting)
		cancel()
		switch {
		case err == nil:
			select {
			case heard <- n.Payload:
			case <-ctx.Done():
				return ctx.Err()
			}
		case ctx.Err() != nil:
			return ctx.Err()
		case conn.IsClosed():
			return fmt.Errorf("listening to the content database: %w", err)
		default: // nothing was said
			if err := conn.Ping(ctx); err != nil {
				return fmt.Errorf("listening to the content database: %w", err)
			}
		}
	}
}

// said takes a notice, and all that wait behind it.
func (r *run) said(ctx context.Context, payload string, more <-chan string) error {
	var bad error
	for {
		all, err := ParseChanges([]byte(payload))
		if err != nil {
			bad = fmt.Errorf("a notice on %s makes no sense: %w", r.source.Channel, err)
		}
		for i := range all {
			if err := r.take(ctx, &all[i]); err != nil {
				return err
			}
		}
		select {
		case payload = <-more:
		default:
			if bad != nil { // the others count all the same; a table finds what it meant
				r.lookAgain(r.source.Database)
				r.refused = cmp.Or(r.refused, bad)
				r.Log.Warn("a notice was not understood", "source", r.source.Name, "error", bad)
			}
			return nil
		}
	}
}

// ParseChanges reads one change, or a list of changes.
func ParseChanges(text []byte) (all []changes.Change, err error) {
	var items []item
	into := any(&items)
	if text = bytes.TrimSpace(text); len(text) == 0 || text[0] != '[' {
		items = make([]item, 1)
		into = &items[0]
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return nil, fmt.Errorf("a change is JSON like {\"kind\": \"sailing\", \"op\": \"update\", \"before\": {…}, \"after\": {…}}: %w", err)
	}
	for i := range items {
		c, err := items[i].change()
		if err != nil {
			return nil, fmt.Errorf("change %d of %d: %w", i+1, len(items), err)
		}
		all = append(all, c)
	}
	return all, nil
}

// well notes that all that was committed until a time has been purged.
func (w *watcher) well(ctx context.Context, rec records.Records, state *records.Source, until time.Time) error {
	state.Checked, state.Error, state.Failures = &until, w.complaint, 0
	return rec.SaveSource(ctx, *state)
}
