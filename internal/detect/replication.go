package detect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pglogrepl"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"

	"gerastic/internal/core/changes"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// replicate reads the content database's log through a slot of its own (logical
// decoding, output plugin pgoutput) until something fails. The slot is the place: the
// database keeps its log from there on, and moves it when we confirm.
func (w *watcher) replicate(ctx context.Context, rec records.Records, lead records.Lead, state *records.Source) error {
	pool, err := w.pools.postgres(ctx, w.source.Database)
	if err != nil {
		return err
	}
	state.Detail = ""
	if err := w.prepareSlot(ctx, rec, state); err != nil {
		return err
	}
	if err := rec.SaveSource(ctx, *state); err != nil {
		return err
	}
	if state.Detail, err = withoutOldValues(ctx, pool, w.source.Tables); err != nil {
		return err
	}
	stream, err := w.stream(ctx)
	if err != nil {
		return err
	}
	failed := make(chan error, 1)
	reading, stop := context.WithCancel(ctx)
	go func() {
		failed <- stream.read(reading)
		close(failed)
		close(stream.events)
	}()
	defer func() {
		stop()
		for range stream.events { // until nobody uses the connection any more
		}
		stream.close()
	}()
	look := time.NewTicker(idle)
	defer look.Stop()
	for {
		select {
		case <-look.C:
			if !lead.Held(ctx) {
				return errors.New("the connection to the ledger was lost")
			}
			if err := w.look(ctx, rec, pool, state, stream); err != nil {
				return err
			}
		case first, ok := <-stream.events:
			if !ok {
				return <-failed
			}
			if err := w.purgeLog(ctx, rec, pool, stream, first); err != nil {
				return err
			}
		}
	}
}

// purgeLog purges what a transaction changed, and those that wait behind it, and confirms.
func (w *watcher) purgeLog(ctx context.Context, rec records.Records, pool *pgxpool.Pool, stream *logStream, e logEvent) error {
	r := w.begin(w.source.Name, "log", w.source, postgres{pool})
	var confirm pglogrepl.LSN
	for more := true; more; {
		switch {
		case e.emptied != "":
			// Nobody knows what the table held.
			err := r.purge(ctx, tags.Purge{All: true}, fmt.Sprintf("%s: table %s was truncated", w.source.Name, e.emptied))
			if err != nil {
				return err
			}
			r.record.Changes++
		case e.end != 0:
			confirm = e.end
		default:
			if err := r.take(ctx, &e.change); err != nil {
				_, err = r.close(ctx, rec, err)
				return err
			}
		}
		if e.end == 0 { // the rest of the transaction comes at once: one purge for all of it
			e, more = <-stream.events
			continue
		}
		select {
		case e, more = <-stream.events:
		default:
			more = false
		}
	}
	err := r.flush(ctx)
	if err == nil && confirm != 0 {
		stream.confirmed.Store(uint64(confirm))
	}
	if r.record.Changes == 0 {
		return err
	}
	_, err = r.close(ctx, rec, err)
	w.complaint = r.record.Error
	return err
}

// look sees how far behind the slot is, and how much log it holds back.
func (w *watcher) look(ctx context.Context, rec records.Records, pool *pgxpool.Pool, state *records.Source, stream *logStream) error {
	err := pool.QueryRow(ctx, `select pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn)::bigint, pg_wal_lsn_diff(pg_current_wal_lsn(), confirmed_flush_lsn)::bigint
		from pg_replication_slots where slot_name = $1`, w.source.Slot).Scan(&state.Retained, &state.Behind)
	if err != nil {
		return fmt.Errorf("looking after the slot %s: %w", w.source.Slot, err)
	}
	if at := stream.caughtUp.Load(); at != 0 {
		until := time.Unix(0, at)
		state.Checked = &until
	}
	if state.Detail, err = withoutOldValues(ctx, pool, w.source.Tables); err != nil { // somebody may have changed it
		return err
	}
	state.Error, state.Failures = w.complaint, 0
	if state.Retained != nil && *state.Retained > w.source.KeepAtMost {
		state.Error = fmt.Sprintf("the slot %s holds back %d MiB of the database's log, more than keep_at_most allows; if it does not catch up, drop it with: select pg_drop_replication_slot('%s')", w.source.Slot, *state.Retained>>20, w.source.Slot)
		w.Log.Error("a replication slot holds back too much log", "source", w.source.Name, "slot", w.source.Slot, "bytes", *state.Retained, "limit", w.source.KeepAtMost)
	}
	return rec.SaveSource(ctx, *state)
}

// prepareSlot makes publication and slot, where they are not there. A slot that was
// there and is not any more took changes with it: then everything counts as purged.
func (w *watcher) prepareSlot(ctx context.Context, rec records.Records, state *records.Source) error {
	conn, err := pgx.Connect(ctx, w.source.Database)
	if err != nil {
		return fmt.Errorf("connecting to the content database: %w", err)
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	var level string
	if err := conn.QueryRow(ctx, `show wal_level`).Scan(&level); err != nil {
		return err
	}
	if level != "logical" {
		return fmt.Errorf("the database's log has no content in it (wal_level is %s); set wal_level = logical and restart it, or use a source of kind table", level)
	}
	tables := make([]string, len(w.source.Tables))
	for i, t := range w.source.Tables {
		tables[i] = pgx.Identifier(strings.Split(t, ".")).Sanitize()
	}
	list, publication := strings.Join(tables, ", "), pgx.Identifier{w.source.Publication}.Sanitize()
	var published, slot, lost bool
	err = conn.QueryRow(ctx, `select exists (select from pg_publication where pubname = $1), exists (select from pg_replication_slots where slot_name = $2),
		exists (select from pg_replication_slots where slot_name = $2 and wal_status = 'lost')`, w.source.Publication, w.source.Slot).Scan(&published, &slot, &lost)
	if err != nil {
		return err
	}
	statement := `create publication ` + publication + ` for table ` + list
	if published {
		statement = `alter publication ` + publication + ` set table ` + list
	}
	if _, err := conn.Exec(ctx, statement); err != nil {
		return fmt.Errorf("publishing %s: %w", list, err)
	}
	if slot && !lost {
		state.Cursor = &w.source.Slot
		return w.payDebt(ctx, rec, state)
	}
	if state.Cursor != nil {
		// Noted before the slot is there: who finds the slot, finds the debt, whatever happens
		// in between.
		w.Log.Error("the slot of a source was lost, and with it changes; everything is purged", "source", w.source.Name, "slot", w.source.Slot)
		state.Owed = w.source.Name + ": the slot " + w.source.Slot + " was lost, so nobody knows what changed"
		if err := rec.SaveSource(ctx, *state); err != nil {
			return err
		}
	}
	if lost {
		if _, err := conn.Exec(ctx, `select pg_drop_replication_slot($1)`, w.source.Slot); err != nil {
			return err
		}
	}
	if _, err := conn.Exec(ctx, `select pg_create_logical_replication_slot($1, 'pgoutput')`, w.source.Slot); err != nil {
		return fmt.Errorf("making the slot %s (its user needs the right REPLICATION): %w", w.source.Slot, err)
	}
	state.Cursor = &w.source.Slot
	return w.payDebt(ctx, rec, state)
}

// payDebt purges everything, if that is owed, and notes that it is not any more.
func (w *watcher) payDebt(ctx context.Context, rec records.Records, state *records.Source) error {
	if state.Owed == "" {
		return nil
	}
	if _, _, err := w.Purge(ctx, tags.Purge{All: true}, "changes", state.Owed); err != nil {
		return err
	}
	state.Owed = ""
	return rec.SaveSource(ctx, *state)
}

// PostgreSQL's codes for what another session holds, and for what is not there.
const (
	objectInUse     = "55006"
	undefinedObject = "42704"
)

// dropSlot drops the slot of a source, if it is there.
func dropSlot(ctx context.Context, s *policy.Source) error {
	conn, err := pgx.Connect(ctx, s.Database)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	for {
		_, err := conn.Exec(ctx, `select pg_drop_replication_slot(slot_name) from pg_replication_slots where slot_name = $1`, s.Slot)
		var refused *pgconn.PgError
		switch {
		case err == nil:
			return nil
		case !errors.As(err, &refused):
			return err
		case refused.Code == undefinedObject: // another node was quicker
			return nil
		case refused.Code != objectInUse: // the server notices only after a moment that the slot's reader has gone
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// dropPublication drops the publication of a source, if it is there.
func dropPublication(ctx context.Context, s *policy.Source) error {
	conn, err := pgx.Connect(ctx, s.Database)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	_, err = conn.Exec(ctx, `drop publication if exists `+pgx.Identifier{s.Publication}.Sanitize())
	return err
}

// withoutOldValues says which tables do not log the values that were.
func withoutOldValues(ctx context.Context, pool *pgxpool.Pool, tables []string) (string, error) {
	rows, err := pool.Query(ctx, `select t from unnest($1::text[]) t join pg_class c on c.oid = t::regclass where relreplident <> 'f'`, tables)
	if err != nil {
		return "", err
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if len(names) == 0 || err != nil {
		return "", err
	}
	return "the log has no old values of " + strings.Join(names, ", ") + "; alter table " + names[0] + " replica identity full", nil
}

// logEvent is one change, the end of a transaction, or the emptying of a table.
type logEvent struct {
	change  changes.Change
	end     pglogrepl.LSN
	emptied string
}

// logStream reads the log. One goroutine owns the connection: it reads, and tells the
// database what is confirmed.
type logStream struct {
	conn      *pgconn.PgConn
	events    chan logEvent
	tables    map[uint32]*pglogrepl.RelationMessage
	open      bool          // a transaction is being read
	commit    time.Time     // of that transaction
	pending   pglogrepl.LSN // end of the last transaction passed on
	confirmed atomic.Uint64 // LSN up to which everything is purged
	caughtUp  atomic.Int64  // unix ns of the database's clock when nothing was left to read
}

func (w *watcher) stream(ctx context.Context) (*logStream, error) {
	config, err := pgconn.ParseConfig(w.source.Database)
	if err != nil {
		return nil, err
	}
	config.RuntimeParams["replication"] = "database"
	config.RuntimeParams["application_name"] = "gerastic " + w.source.Name
	config.ConnectTimeout = 5 * time.Second
	conn, err := pgconn.ConnectConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connecting to the content database's log: %w", err)
	}
	s := &logStream{conn: conn, events: make(chan logEvent, 1024), tables: map[uint32]*pglogrepl.RelationMessage{}}
	err = pglogrepl.StartReplication(ctx, conn, w.source.Slot, 0, pglogrepl.StartReplicationOptions{
		PluginArgs: []string{"proto_version '1'", "publication_names '" + w.source.Publication + "'"},
	})
	if err != nil {
		s.close()
		return nil, fmt.Errorf("reading from the slot %s: %w", w.source.Slot, err)
	}
	return s, nil
}

func (s *logStream) close() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = s.tell(ctx) // so that the next reader begins where this one ends
	_ = s.conn.Close(ctx)
}

// read passes on what the log says until something fails.
func (s *logStream) read(ctx context.Context) error {
	tell := time.Now()
	for {
		if time.Since(tell) > time.Second {
			if err := s.tell(ctx); err != nil {
				return err
			}
			tell = time.Now()
		}
		waiting, cancel := context.WithDeadline(ctx, tell.Add(time.Second+time.Millisecond))
		message, err := s.conn.ReceiveMessage(waiting)
		cancel()
		if err != nil {
			if pgconn.Timeout(err) && ctx.Err() == nil {
				continue
			}
			return fmt.Errorf("reading the content database's log: %w", err)
		}
		switch m := message.(type) {
		case *pgproto3.ErrorResponse:
			return fmt.Errorf("reading the content database's log: %w", pgconn.ErrorResponseToPgError(m))
		case *pgproto3.CopyData:
			if err := s.data(ctx, m.Data); err != nil {
				return err
			}
		}
	}
}

func (s *logStream) data(ctx context.Context, data []byte) error {
	switch data[0] {
	case pglogrepl.PrimaryKeepaliveMessageByteID:
		alive, err := pglogrepl.ParsePrimaryKeepaliveMessage(data[1:])
		if err != nil {
			return err
		}
		if !s.open && s.pending <= pglogrepl.LSN(s.confirmed.Load()) { // nothing is left to purge
			s.confirmed.Store(max(s.confirmed.Load(), uint64(alive.ServerWALEnd)))
			s.caughtUp.Store(alive.ServerTime.UnixNano())
		}
		if alive.ReplyRequested {
			return s.tell(ctx)
		}
		return nil
	case pglogrepl.XLogDataByteID:
		log, err := pglogrepl.ParseXLogData(data[1:])
		if err != nil {
			return err
		}
		message, err := pglogrepl.Parse(log.WALData)
		if err != nil {
			return err
		}
		return s.message(ctx, message)
	}
	return nil
}

func (s *logStream) message(ctx context.Context, message pglogrepl.Message) error {
	switch m := message.(type) {
	case *pglogrepl.RelationMessage:
		s.tables[m.RelationID] = m
	case *pglogrepl.BeginMessage:
		s.open, s.commit = true, m.CommitTime
	case *pglogrepl.CommitMessage:
		s.open, s.pending = false, m.TransactionEndLSN
		return s.pass(ctx, logEvent{end: m.TransactionEndLSN})
	case *pglogrepl.InsertMessage:
		return s.change(ctx, m.RelationID, changes.Create, nil, m.Tuple, 0)
	case *pglogrepl.UpdateMessage:
		return s.change(ctx, m.RelationID, changes.Update, m.OldTuple, m.NewTuple, m.OldTupleType)
	case *pglogrepl.DeleteMessage:
		return s.change(ctx, m.RelationID, changes.Delete, m.OldTuple, nil, m.OldTupleType)
	case *pglogrepl.TruncateMessage:
		for _, id := range m.RelationIDs {
			if t := s.tables[id]; t != nil {
				if err := s.pass(ctx, logEvent{emptied: t.RelationName}); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// change passes a change on. Of an old tuple that is the key only (kind K), the other
// values are not known.
func (s *logStream) change(ctx context.Context, id uint32, op changes.Op, before, after *pglogrepl.TupleData, old uint8) error {
	t := s.tables[id]
	if t == nil {
		return fmt.Errorf("the log names a table that it has not described")
	}
	c := changes.Change{Kind: t.RelationName, Op: op, At: s.commit}
	c.Before = fieldsOf(t, before, old == pglogrepl.UpdateMessageTupleTypeKey)
	c.After = fieldsOf(t, after, false)
	for name := range c.Before { // long values that did not change are not sent again
		if _, has := c.After[name]; c.After != nil && !has {
			c.After[name] = c.Before[name]
		}
	}
	return s.pass(ctx, logEvent{change: c})
}

// pass hands an event over; while that waits, the database hears that we live.
func (s *logStream) pass(ctx context.Context, e logEvent) error {
	for {
		select {
		case s.events <- e:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
			if err := s.tell(ctx); err != nil {
				return err
			}
		}
	}
}

// tell says how far the log is not needed any more, and asks for an answer: a database in which
// nothing happens says nothing by itself, and that nothing is left to read is worth knowing.
// Nothing confirmed since the start leaves the slot where it is.
func (s *logStream) tell(ctx context.Context) error {
	return pglogrepl.SendStandbyStatusUpdate(ctx, s.conn, pglogrepl.StandbyStatusUpdate{WALWritePosition: pglogrepl.LSN(s.confirmed.Load()), ReplyRequested: true})
}

// fieldsOf reads a row of the log as JSON has its values.
func fieldsOf(t *pglogrepl.RelationMessage, row *pglogrepl.TupleData, keyOnly bool) changes.Fields {
	if row == nil {
		return nil
	}
	f := changes.Fields{}
	for i, column := range row.Columns {
		if i >= len(t.Columns) || keyOnly && t.Columns[i].Flags&1 == 0 {
			continue
		}
		switch column.DataType {
		case pglogrepl.TupleDataTypeNull:
			f[t.Columns[i].Name] = nil
		case pglogrepl.TupleDataTypeText:
			f[t.Columns[i].Name] = valueOf(t.Columns[i].DataType, string(column.Data))
		}
	}
	return f
}

var numbers = []uint32{pgtype.Int2OID, pgtype.Int4OID, pgtype.Int8OID, pgtype.Float4OID, pgtype.Float8OID, pgtype.NumericOID}

// valueOf reads a value in PostgreSQL's text form as to_jsonb would write it.
func valueOf(kind uint32, text string) any {
	switch {
	case slices.Contains(numbers, kind) && !strings.ContainsAny(text, "NI"): // NaN, Infinity
		return json.Number(text)
	case kind == pgtype.BoolOID:
		return text == "t"
	case kind == pgtype.TimestamptzOID || kind == pgtype.TimestampOID:
		text = strings.Replace(text, " ", "T", 1)
		if at := strings.LastIndexAny(text, "+-"); kind == pgtype.TimestamptzOID && len(text)-at == 3 {
			text += ":00"
		}
	case kind == pgtype.JSONOID || kind == pgtype.JSONBOID:
		d := json.NewDecoder(strings.NewReader(text))
		d.UseNumber()
		var v any
		if d.Decode(&v) == nil {
			return v
		}
	case kind == pgtype.TextArrayOID || kind == pgtype.VarcharArrayOID || kind == pgtype.Int4ArrayOID || kind == pgtype.Int8ArrayOID:
		var items []string
		if pgtype.NewMap().Scan(pgtype.TextArrayOID, pgtype.TextFormatCode, []byte(text), &items) == nil {
			all := make([]any, len(items))
			for i := range items {
				all[i] = items[i]
			}
			return all
		}
	}
	return text
}
