package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/detect"
	"gerastic/internal/node"
	"gerastic/internal/records"
)

// watched is a node that finds changes in a content database of its own.
type watched struct {
	t        *testing.T
	node     *node.Node
	api      *client.Client
	settings node.Settings
	content  *pgx.Conn
	url      string // of the content database
	seen     uint64 // last purge that was looked at
}

const secret = "a secret between two programs"

// watch starts a node with sources, in YAML with two blanks before each; $DB is the
// content database, in which a table item exists.
func watch(t *testing.T, sources string) *watched {
	w := &watched{t: t, url: database(t, "content")}
	var err error
	w.content, err = pgx.Connect(ctx, w.url)
	require.NoError(t, err)
	t.Cleanup(func() { w.content.Close(ctx) })
	w.sql(`create table item (id int primary key, grp text, note text, at timestamptz not null default clock_timestamp(), n bigint);
		create table gone (kind text, id int, was jsonb, at timestamptz default clock_timestamp());
		create table place (name text, item int);
		insert into item (id, grp) select i, 'old' from generate_series(1, 50) i`)
	w.settings = node.Settings{Name: "w", Data: t.TempDir(), Database: database(t, "watch"), AdminToken: "a token of the test", PolicyFile: w.policy(sources)}
	w.start()
	return w
}

func (w *watched) policy(sources string) string {
	var asked atomic.Int64
	path := filepath.Join(w.t.TempDir(), "policy.yaml")
	text := "version: 1\norigins: [{ name: site, url: " + origin(w.t, &asked) + " }]\nroutes: [{ name: all, match: { path: \"/{x...}\" }, lifetime: { fresh: 1h }, tags: [\"item:{x}\"] }]\n"
	if sources != "" {
		text += "changes:\n  sources:\n" + strings.ReplaceAll(sources, "$DB", w.url) + `
  rules:
    - { kind: item, only_if_changed: [grp, note], tags: ["item:{id}", "group:{grp}"] }
    - { kind: item, when: "after.note = 'soft'", mode: stale, tags: ["soft:{id}"] }
    - kind: item
      when: op = 'delete' or after.note = 'everywhere'
      also: { database: "` + w.url + `", query: "select name from place where item = $1::bigint", with: [id], tags: ["place:{name}"] }
`
	}
	require.NoError(w.t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

func (w *watched) start() {
	w.node = startNode(w.t, w.settings)
	w.api = client.New(w.node.ControlURL(), w.settings.AdminToken)
	w.settings.PolicyFile = ""
}

func (w *watched) sql(statement string, args ...any) {
	_, err := w.content.Exec(ctx, statement, args...)
	require.NoError(w.t, err, statement)
}

// purged returns what was purged since it was last asked: tags, with ~ before those
// marked stale, and "everything".
func (w *watched) purged() []string {
	purges, err := w.api.Purges(ctx, 0, 100)
	require.NoError(w.t, err)
	names := []string{}
	for _, p := range purges {
		if p.Sequence <= w.seen {
			break
		}
		if p.All {
			names = append(names, "everything")
		}
		for _, tag := range p.Tags {
			if p.Mode == "stale" {
				tag = "~" + tag
			}
			names = append(names, tag)
		}
	}
	if len(purges) > 0 {
		w.seen = purges[0].Sequence
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// expect waits until these have been purged since it was last asked, and no others.
func (w *watched) expect(what string, want ...string) {
	w.t.Helper()
	slices.Sort(want)
	var got []string
	for until := time.Now().Add(15 * time.Second); time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
		got = append(got, w.purged()...)
		slices.Sort(got)
		if got = slices.Compact(got); len(got) >= len(want) && (len(want) > 0 || time.Until(until) < 14*time.Second) {
			break
		}
	}
	require.Equal(w.t, append([]string{}, want...), append([]string{}, got...), what)
}

// run reads a source once, after whoever reads it already.
func (w *watched) run(source string) (run client.ChangeRun) {
	require.Eventually(w.t, func() bool {
		var err error
		run, err = w.api.RunChanges(ctx, source)
		if client.StatusOf(err) == http.StatusConflict {
			return false
		}
		require.NoError(w.t, err)
		return true
	}, 10*time.Second, time.Millisecond)
	return run
}

const tableSource = `
    - { name: items, kind: table, database: "$DB", every: 1h, overlap: 1m, query: "select 'item' as kind, id, at as cursor, to_jsonb(i) as after from item i where at > $1 order by at",
        deleted: "select kind, id, at as cursor, was as before from gone where at > $1" }
    - { name: numbered, kind: table, database: "$DB", every: 1h, query: "select 'item' as kind, id, n as cursor, to_jsonb(i) as after from item i where n > $1 order by n" }`

func TestChangesInATable(t *testing.T) {
	w := watch(t, tableSource)
	eventually(t, "both sources have begun", func() bool {
		runs, err := w.api.ChangeRuns(ctx, "", 0, 10)
		return err == nil && len(runs) == 2
	})
	assert.Empty(t, w.purged(), "what was there before the first run is no news")

	w.sql(`update item set grp = 'a', at = now() where id in (1, 2, 3)`) // one time for all three
	run := w.run("items")
	assert.EqualValues(t, 3, run.Changes)
	w.expect("rows with an equal cursor", "group:a", "item:1", "item:2", "item:3")
	assert.Zero(t, w.run("items").Changes, "nothing is read twice")

	// A row that is committed late, behind one that was read already.
	other, err := pgx.Connect(ctx, w.url)
	require.NoError(t, err)
	defer other.Close(ctx)
	late, err := other.Begin(ctx)
	require.NoError(t, err)
	_, err = late.Exec(ctx, `update item set grp = 'late', at = now() where id = 4`)
	require.NoError(t, err)
	w.sql(`update item set grp = 'b', at = clock_timestamp() where id = 5`)
	assert.EqualValues(t, 1, w.run("items").Changes)
	require.NoError(t, late.Commit(ctx))
	assert.EqualValues(t, 1, w.run("items").Changes, "it is found all the same, and what was found before is not found again")
	w.expect("both", "group:b", "item:5", "group:late", "item:4")

	// A clock that is ahead does not hide what comes later by the right clock.
	w.sql(`update item set grp = 'ahead', at = now() + interval '1 hour' where id = 6`)
	assert.EqualValues(t, 1, w.run("items").Changes)
	w.sql(`update item set grp = 'after', at = clock_timestamp() where id = 7`)
	assert.EqualValues(t, 1, w.run("items").Changes)
	w.expect("both", "group:ahead", "item:6", "group:after", "item:7")

	w.sql(`insert into place values ('quay', 8)`)
	w.sql(`with d as (delete from item where id = 8 returning *) insert into gone (kind, id, was) select 'item', id, to_jsonb(d) from d`)
	run = w.run("items")
	assert.EqualValues(t, 1, run.Changes)
	w.expect("a delete, and what a query says of it; a fan-out asks the source's database", "item:8", "group:old", "place:quay")

	w.sql(`update item set n = 7 where id in (10, 11)`)
	assert.EqualValues(t, 2, w.run("numbered").Changes)
	w.sql(`update item set n = 7 where id = 12`)
	assert.EqualValues(t, 1, w.run("numbered").Changes, "the same number, committed later")
	assert.EqualValues(t, 3, w.run("items").Changes, "other content at the same time is a change")
	w.purged()

	// A row that makes no sense holds up no other, and is not passed over.
	w.sql(`insert into gone (kind, id, was) values ('item', 20, '{"id": 20, "grp": "x"}'), (null, 21, '{}')`)
	_, err = w.api.RunChanges(ctx, "items")
	assert.ErrorContains(t, err, "a row has no kind")
	w.expect("the other row", "item:20", "group:x")
	status, err := w.api.ChangesStatus(ctx)
	require.NoError(t, err)
	assert.False(t, status.Well)
	assert.Contains(t, status.Why, "items: source items, deleted: a row has no kind")
	answer := fetch(t, "GET", w.node.ControlURL()+"/v1/changes/status", "", "Authorization: Bearer "+w.settings.AdminToken)
	assert.Equal(t, 503, answer.status)
	w.sql(`delete from gone where kind is null`)
	w.run("items")
	status, err = w.api.ChangesStatus(ctx)
	require.NoError(t, err)
	assert.True(t, status.Well, status.Why)

	rec, err := records.Open(ctx, w.settings.Database)
	require.NoError(t, err)
	defer rec.Close()
	lead, err := rec.TakeLead(ctx, "items")
	require.NoError(t, err)
	_, err = w.api.RunChanges(ctx, "items")
	assert.Equal(t, 409, client.StatusOf(err), "never two of one source at a time, on any number of nodes")
	lead.Close()
	_, err = w.api.RunChanges(ctx, "")
	assert.ErrorContains(t, err, "name one: items, numbered")
}

// TestTablesLoseNoChange: a row may change twice within the resolution of its time, also back to
// what it was, and a number may be committed behind later ones.
func TestTablesLoseNoChange(t *testing.T) {
	w := watch(t, `
    - { name: seconds, kind: table, database: "$DB", every: 1h, overlap: 1m, query: "select 'item' as kind, id, date_trunc('second', at) as cursor, to_jsonb(i) - 'at' as after from item i where date_trunc('second', at) > $1" }
    - { name: numbers, kind: table, database: "$DB", every: 1h, overlap: 1s, query: "select 'item' as kind, id, n as cursor, to_jsonb(i) - 'at' as after from item i where n > $1" }`)
	eventually(t, "both sources have begun", func() bool {
		runs, err := w.api.ChangeRuns(ctx, "", 0, 10)
		return err == nil && len(runs) == 2
	})
	w.purged()
	for i := range 3 {
		w.sql(`update item set grp = 'a' || $1, at = clock_timestamp() where id = 1`, strconv.Itoa(i))
		w.run("seconds")
		w.sql(`update item set grp = 'b' || $1, at = clock_timestamp() where id = 1`, strconv.Itoa(i))
		w.run("seconds")
		got := w.purged()
		assert.Contains(t, got, fmt.Sprint("group:a", i))
		assert.Contains(t, got, fmt.Sprint("group:b", i), "the second within a second")
	}
	eventually(t, "a second has begun", func() bool { return time.Now().Nanosecond() < 200_000_000 })
	w.sql(`update item set grp = 'there', at = clock_timestamp() where id = 2`)
	w.run("seconds")
	w.purged()
	w.sql(`update item set grp = 'and', at = clock_timestamp() where id = 2`)
	w.sql(`update item set grp = 'there', at = clock_timestamp() where id = 2`)
	w.run("seconds")
	assert.Contains(t, w.purged(), "item:2", "there and back again, unseen")
	time.Sleep(time.Second)
	w.run("seconds")
	w.purged()
	assert.Zero(t, w.run("seconds").Changes, "what has come to rest is not taken again")

	w.sql(`create sequence s start 10`)
	slow := connect(t, w.url)
	tx, err := slow.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, `update item set grp = 'slow', n = nextval('s') where id = 3`)
	require.NoError(t, err)
	for i := range 3 {
		w.sql(`update item set grp = 'quick', n = nextval('s') where id = $1`, i+4)
		assert.EqualValues(t, 1, w.run("numbers").Changes)
	}
	time.Sleep(1100 * time.Millisecond) // longer than the overlap
	w.run("numbers")
	w.run("numbers")
	require.NoError(t, tx.Commit(ctx))
	w.purged()
	assert.EqualValues(t, 1, w.run("numbers").Changes)
	assert.Contains(t, w.purged(), "item:3", "numbered before the others, committed behind them")
	assert.Zero(t, w.run("numbers").Changes)
}

// TestFanOutQueriesShareConnections: many changes cost queries, not connections.
func TestFanOutQueriesShareConnections(t *testing.T) {
	w := watch(t, `
    - { name: hook, kind: webhook, secret: "`+secret+`" }`)
	sessions := func() (n int64) {
		require.NoError(t, w.content.QueryRow(ctx, `select count(*) from pg_stat_activity where datname = current_database() and application_name = 'gerastic changes'`).Scan(&n))
		return n
	}
	var all []client.Change
	for i := range 500 {
		all = append(all, client.ChangeOf("item", map[string]any{"id": i, "grp": "g"}, nil))
	}
	began := time.Now()
	run, err := w.api.SendChanges(ctx, "hook", all...)
	require.NoError(t, err)
	assert.EqualValues(t, 501, run.Tags)
	took := time.Since(began)
	t.Logf("500 changes with a query each: %v", took.Round(time.Millisecond))
	assert.Less(t, took, 6*time.Second)
	assert.LessOrEqual(t, sessions(), int64(1))
}

func TestChangesOnAChannel(t *testing.T) {
	w := watch(t, `
    - { name: said, kind: notify, database: "$DB", channel: items }
    - { name: items, kind: table, database: "$DB", every: 1h, query: "select 'item' as kind, id, at as cursor, to_jsonb(i) as after from item i where at > $1" }`)
	listening := func() (pid int32) {
		_ = w.content.QueryRow(ctx, `select pid from pg_stat_activity where query like 'listen "items"%' and datname = current_database()`).Scan(&pid)
		return pid
	}
	eventually(t, "it listens, and the table has begun", func() bool {
		runs, err := w.api.ChangeRuns(ctx, "items", 0, 10)
		return listening() != 0 && err == nil && len(runs) > 0
	})
	w.purged()
	w.sql(`select pg_notify('items', '{"kind":"item","op":"update","before":{"id":1,"grp":"a","note":null},"after":{"id":1,"grp":"b","note":"soft"}}')`)
	w.expect("old and new groups", "item:1", "group:a", "group:b", "~soft:1")
	w.sql(`select pg_notify('items', '[{"kind":"item","op":"create","after":{"id":2,"grp":"c"}},{"kind":"item","op":"delete","before":{"id":3,"grp":"d"}}]')`)
	w.expect("a list", "item:2", "group:c", "item:3", "group:d", "~soft:2")
	w.sql(`select pg_notify('items', 'item 4')`)
	w.sql(`select pg_notify('items', '{"kind":"item","op":"update","before":{"id":5,"grp":"a","note":"x"},"after":{"id":5,"grp":"a","note":"x","at":"later"}}')`)
	eventually(t, "what makes no sense is in the log, and what comes after it is heard", func() bool {
		runs, err := w.api.ChangeRuns(ctx, "said", 0, 10)
		require.NoError(t, err)
		return slices.ContainsFunc(runs, func(r client.ChangeRun) bool { return strings.Contains(r.Error, "makes no sense") }) &&
			slices.ContainsFunc(runs, func(r client.ChangeRun) bool { return r.Skipped == 1 })
	})
	assert.Empty(t, w.purged(), "an update of nothing that matters")

	w.sql(`select pg_terminate_backend($1)`, listening())
	w.sql(`update item set grp = 'missed', at = clock_timestamp() where id = 9`)
	w.expect("what was missed is found in the table when it listens again", "item:9", "group:missed")
}

func TestChangesByCall(t *testing.T) {
	w := watch(t, `
    - { name: partners, kind: webhook, secret: "`+secret+`" }`)
	path := w.node.ControlURL() + "/v1/changes"
	send := func(body string, headers ...string) page {
		return fetch(t, http.MethodPost, path, body, append(headers, "Content-Type: application/json")...)
	}
	token := "Authorization: Bearer " + w.settings.AdminToken
	move := `{"id":"m1","kind":"item","op":"update","before":{"id":9007199254740993,"grp":"a"},"after":{"id":9007199254740993,"grp":"b"}}`
	p := send(`{"changes":[`+move+`]}`, token)
	require.Equal(t, 200, p.status, p.body)
	w.expect("numbers are not rounded", "item:9007199254740993", "group:a", "group:b", "~soft:9007199254740993")
	send(`[`+move+`,`+move+`]`, token)
	w.expect("what was sent before counts once")
	p = send(`{"kind":"item","op":"delete","before":{"id":7,"grp":"x"}}`, token)
	require.Equal(t, 200, p.status, p.body)
	w.expect("one alone", "item:7", "group:x")

	now := strconv.FormatInt(time.Now().Unix(), 10)
	body := `{"kind":"item","op":"create","after":{"id":8,"grp":"y","note":"n"}}`
	p = send(body, "Gerastic-Time: "+now, "Gerastic-Signature: "+detect.Sign(secret, now, []byte(body)))
	require.Equal(t, 200, p.status, p.body)
	w.expect("a signature instead of a token", "item:8", "group:y")
	old := strconv.FormatInt(time.Now().Add(-time.Hour).Unix(), 10)
	reader, err := w.api.CreateToken(ctx, "reader", []string{"read"}, "")
	require.NoError(t, err)
	for _, c := range []struct {
		name, body string
		headers    []string
		status     int
		says       string
	}{
		{"neither", body, nil, 401, "or a signature"},
		{"another body", body + " ", []string{"Gerastic-Time: " + now, "Gerastic-Signature: " + detect.Sign(secret, now, []byte(body))}, 401, "not that of this body"},
		{"another secret", body, []string{"Gerastic-Time: " + now, "Gerastic-Signature: " + detect.Sign("x", now, []byte(body))}, 401, "not that of this body"},
		{"too old", body, []string{"Gerastic-Time: " + old, "Gerastic-Signature: " + detect.Sign(secret, old, []byte(body))}, 401, "look at the clocks"},
		{"no time", body, []string{"Gerastic-Signature: " + detect.Sign(secret, "", []byte(body))}, 401, "Unix seconds"},
		{"a token that may not", body, []string{"Authorization: Bearer " + reader.Secret}, 403, "purge"},
		{"no kind", `{"op":"delete","before":{"id":7}}`, []string{token}, 422, "has no kind"},
		{"a misspelt member", `{"kind":"item","befor":{"id":7}}`, []string{token}, 422, "befor"},
		{"no values", `{"kind":"item","op":"update"}`, []string{token}, 422, "neither before nor after"},
		{"an unknown op", `{"kind":"item","op":"upsert","after":{}}`, []string{token}, 422, "create, update or delete"},
		{"values that are none", `{"kind":"item","after":[1]}`, []string{token}, 422, "JSON object"},
		{"the second of two", `[` + body + `,{"kind":"item"}]`, []string{token}, 422, "change 2 of 2"},
		{"no JSON", `item 7`, []string{token}, 422, "a change is JSON like"},
		{"nothing", `[]`, []string{token}, 422, "at least one"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := send(c.body, c.headers...)
			assert.Equal(t, c.status, p.status, p.body)
			assert.Contains(t, p.body, c.says)
		})
	}
	assert.Empty(t, w.purged(), "none of them purged anything")
	p = fetch(t, http.MethodPost, path+"?source=none", body, token, "Content-Type: application/json")
	assert.Contains(t, p.body, "there is partners")
	run, err := w.api.Changed(ctx, "item", map[string]any{"id": 1, "grp": "p"}, nil)
	require.NoError(t, err)
	assert.EqualValues(t, 2, run.Tags)
	_, err = w.api.Changed(ctx, "item", map[string]any{"id": "no number", "grp": "r"}, nil)
	assert.ErrorContains(t, err, "the query of a rule's also")
	w.expect("a query that fails keeps nothing else from being purged", "item:1", "group:p", "item:no number", "group:r")
	trial, err := w.api.TryChange(ctx, client.ChangeOf("item", nil, map[string]any{"id": 2, "grp": "q", "note": "soft"}))
	require.NoError(t, err)
	var tags []string
	for _, e := range trial.Effects {
		tags = append(tags, e.Tags...)
	}
	assert.Equal(t, []string{"item:2", "group:q", "soft:2"}, tags)
	w.expect("a trial purges nothing")
	_, err = json.Marshal(trial)
	require.NoError(t, err)
	assert.Equal(t, "1", fmt.Sprint(len(trial.Kinds)))
}
