package test

import (
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// dropSlot drops a slot whose reader has gone, once the server has noticed that.
func (w *watched) dropSlot(name string) {
	eventually(w.t, "the server has noticed that the slot's reader has gone", func() bool {
		var active bool
		require.NoError(w.t, w.content.QueryRow(ctx, `select active from pg_replication_slots where slot_name = $1`, name).Scan(&active))
		return !active
	})
	w.sql(`select pg_drop_replication_slot($1)`, name)
}

// TestADebtIsNotForgotten: with a slot changes were lost, and the ledger takes the purge of
// everything only after the node was started again.
func TestADebtIsNotForgotten(t *testing.T) {
	w := watch(t, `
    - { name: log, kind: replication, database: "$DB", tables: [item], slot: debt_`+strconv.FormatInt(time.Now().UnixNano(), 10)+` }`)
	ledger := connect(t, w.settings.Database)
	var slot string
	eventually(t, "the slot is there, and the ledger knows", func() bool {
		return ledger.QueryRow(ctx, `select cursor from change_source where cursor is not null`).Scan(&slot) == nil
	})
	w.node.Stop(ctx)
	w.dropSlot(slot)
	_, err := ledger.Exec(ctx, `alter table purge add constraint refuses check (not coalesce((selector->>'all')::boolean, false))`)
	require.NoError(t, err)
	w.start()
	eventually(t, "the slot is there, and the purge was refused", func() bool {
		s, err := w.api.ChangesStatus(ctx)
		return err == nil && strings.Contains(s.Why, "refuses") && w.content.QueryRow(ctx, `select slot_name from pg_replication_slots where slot_name = $1`, slot).Scan(&slot) == nil
	})
	w.node.Stop(ctx)
	_, err = ledger.Exec(ctx, `alter table purge drop constraint refuses`)
	require.NoError(t, err)
	w.start()
	w.expect("what was owed", "everything")
	text, err := os.ReadFile(w.policy(""))
	require.NoError(t, err)
	_, err = w.api.ApplyPolicy(ctx, string(text), "no sources")
	require.NoError(t, err)
}

// TestAQuietLogIsWell: a database in which nothing happens says nothing by itself; that nothing
// is left to read is known all the same, as is what somebody changed of a table's log.
func TestAQuietLogIsWell(t *testing.T) {
	t.Parallel()
	w := watch(t, `
    - { name: log, kind: replication, database: "$DB", tables: [item], slot: quiet_`+strconv.FormatInt(time.Now().UnixNano(), 10)+` }`)
	w.sql(`alter table item replica identity full`)
	checked := func() time.Time {
		s, err := w.api.ChangesStatus(ctx)
		if err != nil || s.Sources[0].Checked == nil {
			return time.Time{}
		}
		return *s.Sources[0].Checked
	}
	eventually(t, "it was looked at", func() bool { return !checked().IsZero() })
	first := checked()
	eventually(t, "and is looked at again, although nothing happened", func() bool { return checked().After(first) })
	w.sql(`alter table item replica identity default`)
	eventually(t, "it is said that old values are missing from now on", func() bool {
		s, err := w.api.ChangesStatus(ctx)
		return err == nil && strings.Contains(s.Sources[0].Note, "replica identity full")
	})
	text, err := os.ReadFile(w.policy(""))
	require.NoError(t, err)
	_, err = w.api.ApplyPolicy(ctx, string(text), "no sources")
	require.NoError(t, err)
}

func TestChangesInTheLog(t *testing.T) {
	w := watch(t, `
    - { name: log, kind: replication, database: "$DB", tables: [item], slot: slot_`+strconv.FormatInt(time.Now().UnixNano(), 10)+` }`)
	slot := func() (name string, retained int64) {
		_ = w.content.QueryRow(ctx, `select slot_name, pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn)::bigint from pg_replication_slots where database = current_database()`).Scan(&name, &retained)
		return name, retained
	}
	ready := func() {
		eventually(t, "the log is read", func() bool {
			var active bool
			_ = w.content.QueryRow(ctx, `select active from pg_replication_slots where database = current_database()`).Scan(&active)
			return active
		})
	}
	ready()
	status, err := w.api.ChangesStatus(ctx)
	require.NoError(t, err)
	eventually(t, "it is said that old values are missing", func() bool {
		status, err = w.api.ChangesStatus(ctx)
		return err == nil && strings.Contains(status.Sources[0].Note, "alter table item replica identity full")
	})
	w.sql(`alter table item replica identity full`)
	w.sql(`update item set grp = 'new' where id = 1`)
	w.expect("old and new", "item:1", "group:old", "group:new")
	w.sql(`update item set at = now() where id = 1`)
	w.sql(`insert into item (id, grp, note) values (100, 'made', 'soft')`)
	w.expect("an update of nothing that matters, and a create", "item:100", "group:made", "~soft:100")
	w.sql(`delete from item where id = 2`)
	w.expect("a delete", "item:2", "group:old")
	tx, err := w.content.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, `update item set grp = 'never' where id = 3`)
	require.NoError(t, err)
	require.NoError(t, tx.Rollback(ctx))
	var before string
	require.NoError(t, w.content.QueryRow(ctx, `select pg_current_wal_lsn()::text`).Scan(&before))
	w.sql(`begin; update item set grp = 'x1' where id = 4; update item set grp = 'x2' where id = 4; commit`)
	w.expect("one transaction, and none that was rolled back", "item:4", "group:old", "group:x1", "group:x2")

	eventually(t, "it need not be read again", func() bool {
		var past bool
		_ = w.content.QueryRow(ctx, `select confirmed_flush_lsn > $1::pg_lsn from pg_replication_slots where database = current_database()`, before).Scan(&past)
		return past
	})
	w.node.Stop(ctx)
	w.sql(`update item set grp = 'while away' where id = 5`)
	w.start()
	w.expect("what came while nobody read", "item:5", "group:old", "group:while away")
	eventually(t, "how far behind it is, is known", func() bool {
		status, err = w.api.ChangesStatus(ctx)
		return err == nil && status.Well && status.Sources[0].Retained != nil && status.Sources[0].DelayP50MS != nil
	})
	// Another node takes the lead when the one that had it stops.
	first := w.node
	w.settings.Name, w.settings.Data = "w2", t.TempDir()
	w.start()
	first.Stop(ctx)
	w.sql(`update item set grp = 'taken over' where id = 6`)
	w.expect("by the other", "item:6", "group:old", "group:taken over")
	status, err = w.api.ChangesStatus(ctx)
	require.NoError(t, err)
	assert.Equal(t, "w2", status.Sources[0].Node)
	w.sql(`truncate item`)
	w.expect("nobody knows what a truncated table held", "everything")

	// A slot that is gone took changes with it.
	name, _ := slot()
	w.node.Stop(ctx)
	w.dropSlot(name)
	w.start()
	w.expect("so everything counts as changed", "everything")
	ready()

	text, err := os.ReadFile(w.policy(""))
	require.NoError(t, err)
	_, err = w.api.ApplyPolicy(ctx, string(text), "no sources")
	require.NoError(t, err)
	eventually(t, "a source that is no more leaves no slot that holds back the log", func() bool {
		name, _ := slot()
		return name == ""
	})
}

// TestASlotGoesWithItsSource: one that no source reads from would hold back the log for ever; one
// that a source of another name goes on with loses nothing.
func TestASlotGoesWithItsSource(t *testing.T) {
	stamp := strconv.FormatInt(time.Now().UnixNano(), 10)
	source := func(name, slot string) string {
		return "\n    - { name: " + name + ", kind: replication, database: \"$DB\", tables: [item], publication: shown_" + stamp + ", slot: " + slot + stamp + " }"
	}
	w := watch(t, source("log", "one_"))
	w.sql(`alter table item replica identity full`)
	slots := func() (names []string) {
		rows, err := w.content.Query(ctx, `select slot_name from pg_replication_slots where database = current_database() and active order by 1`)
		require.NoError(t, err)
		names, err = pgx.CollectRows(rows, pgx.RowTo[string])
		require.NoError(t, err)
		return names
	}
	apply := func(sources string) {
		text, err := os.ReadFile(w.policy(sources))
		require.NoError(t, err)
		_, err = w.api.ApplyPolicy(ctx, string(text), "another source")
		require.NoError(t, err)
	}
	one, two := []string{"one_" + stamp}, []string{"two_" + stamp}
	eventually(t, "the first slot is read", func() bool { return slices.Equal(slots(), one) })
	apply(source("log", "two_"))
	eventually(t, "the second is read, and the first is gone", func() bool {
		var left int
		require.NoError(t, w.content.QueryRow(ctx, `select count(*) from pg_replication_slots where database = current_database()`).Scan(&left))
		return left == 1 && slices.Equal(slots(), two)
	})
	w.sql(`update item set grp = 'second' where id = 1`)
	w.expect("what a new slot missed is not known", "everything", "item:1", "group:old", "group:second")
	apply(source("other", "two_"))
	w.sql(`update item set grp = 'third' where id = 1`)
	w.expect("a source of another name goes on", "item:1", "group:second", "group:third")
	assert.Equal(t, two, slots())
	apply("")
	eventually(t, "neither slot nor publication is left", func() bool {
		var left int
		require.NoError(t, w.content.QueryRow(ctx, `select (select count(*) from pg_replication_slots where database = current_database()) + (select count(*) from pg_publication)`).Scan(&left))
		return left == 0
	})
}

func TestASlotThatHoldsBackTooMuchIsSaid(t *testing.T) {
	t.Parallel()
	w := watch(t, `
    - { name: log, kind: replication, database: "$DB", tables: [item], keep_at_most: 1B, slot: tight_`+strconv.FormatInt(time.Now().UnixNano(), 10)+` }`)
	eventually(t, "more than a byte of log is held back", func() bool {
		s, err := w.api.ChangesStatus(ctx)
		return err == nil && strings.Contains(s.Why, "more than keep_at_most allows")
	})
	w.sql(`alter table item replica identity full`)
	w.sql(`update item set grp = 'x' where id = 1`)
	w.expect("it reads on all the same", "item:1", "group:old", "group:x")
	text, err := os.ReadFile(w.policy(""))
	require.NoError(t, err)
	_, err = w.api.ApplyPolicy(ctx, string(text), "no sources")
	require.NoError(t, err)
}
