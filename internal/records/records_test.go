package records

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/localpg"
)

var (
	ctx     = context.Background()
	cluster *localpg.Cluster
)

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "gerastic-records-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		if cluster, err = localpg.Start(ctx, localpg.Options{Dir: dir, Throwaway: true}); err != nil {
			panic(err)
		}
		defer cluster.Stop()
		return m.Run()
	}())
}

func open(t *testing.T) (*Database, string) {
	url, err := cluster.CreateDatabase(ctx, "t"+NewSecret()[4:])
	require.NoError(t, err)
	r, err := Open(ctx, url)
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r, url
}

// inBoth runs a test with records in a database, and in memory.
func inBoth(t *testing.T, test func(t *testing.T, r Records)) {
	t.Run("database", func(t *testing.T) {
		r, _ := open(t)
		test(t, r)
	})
	t.Run("alone", func(t *testing.T) { test(t, NewAlone()) })
}

func TestNodesThatStartAtTheSameTimeMigrateOnce(t *testing.T) {
	url, err := cluster.CreateDatabase(ctx, "together")
	require.NoError(t, err)
	var all sync.WaitGroup
	for range 5 {
		all.Go(func() {
			r, err := Open(ctx, url)
			if assert.NoError(t, err) {
				r.Close()
			}
		})
	}
	all.Wait()
}

// TestPromise3LedgerOrderIsCommitOrder: with many writers, a reader that follows the
// ledger never finds a purge before the place that it has read to.
func TestPromise3LedgerOrderIsCommitOrder(t *testing.T) {
	r, url := open(t)
	const writers, each = 8, 25
	var all sync.WaitGroup
	for range writers {
		all.Go(func() {
			for range each {
				_, err := r.Append(ctx, "a", []Order{{Purge: tags.Purge{Tags: []string{"t"}}}}, time.Minute)
				assert.NoError(t, err)
			}
		})
	}
	var seen []tags.Stamp
	at := Position{}
	for len(seen) < writers*each {
		purges, err := r.Since(ctx, at, 10)
		require.NoError(t, err)
		for _, p := range purges {
			seen = append(seen, p.Sequence)
			at = Position{p.Sequence, p.Mark}
		}
	}
	all.Wait()
	for i, s := range seen {
		require.EqualValues(t, i+1, s, "a number was skipped when it was read, and came later")
	}

	// A writer that has taken its place but not committed holds up those behind it.
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer conn.Close(ctx)
	tx, err := conn.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, `update ledger set sequence = sequence + 1`)
	require.NoError(t, err)
	done := make(chan tags.Stamp)
	go func() {
		w, _ := r.Append(ctx, "a", []Order{{Purge: tags.Purge{All: true}}}, time.Minute)
		done <- w.First
	}()
	select {
	case <-done:
		t.Fatal("a later purge became visible before an earlier one")
	case <-time.After(200 * time.Millisecond):
	}
	require.NoError(t, tx.Rollback(ctx))
	assert.EqualValues(t, writers*each+1, <-done, "a place that was given up is given again")
}

func TestPurgesReadBackAsTheyWereOrdered(t *testing.T) { inBoth(t, purgesReadBack) }

func purgesReadBack(t *testing.T, r Records) {
	order := tags.Purge{Mode: tags.Soften, Tags: []string{`quote " and ø`, "port:tholm"}, Together: true, Routes: []string{"r"}, Hosts: []string{"h"},
		URLs: []tags.URL{{Host: "h", Path: "/p", Query: "q=1"}, {AnyHost: true, Path: "/x", AnyQuery: true}}, Below: []tags.Below{{Host: "h", Path: "/p/"}, {AnyHost: true, Path: "/"}}}
	heard, noted := make(chan struct{}, 10), make(chan struct{}, 10)
	a := Presence{Name: "a", Control: "http://a", Started: time.Now().Truncate(time.Microsecond)}
	at, err := r.Arrive(ctx, a, 0, time.Time{}, time.Minute)
	require.NoError(t, err)
	assert.Zero(t, at)
	follow, stop := context.WithCancel(ctx)
	defer stop()
	go func() { _ = r.Follow(follow, "b", func() { heard <- struct{}{} }, func() { noted <- struct{}{} }) }()
	<-heard // listening has begun
	w, err := r.Append(ctx, "a", []Order{{Purge: order, Actor: "desk", Reason: "pier closed"}}, time.Minute)
	require.NoError(t, err)
	<-heard
	sequence := w.First
	require.Len(t, w.Live, 1)
	assert.Equal(t, "a", w.Live[0].Name)
	require.NoError(t, r.Acknowledge(ctx, []Ack{{Position: w.Last, Applied: Applied{Node: "a", Took: 1500 * time.Microsecond, Matched: store.Matched{Entries: 3, Bytes: 300, Routes: map[string]int64{"r": 3}}}}}))
	<-noted
	got, err := r.Purge(ctx, sequence)
	require.NoError(t, err)
	order.Sequence = sequence
	assert.Equal(t, order, got.Purge)
	assert.Equal(t, "desk", got.Actor)
	assert.Equal(t, "pier closed", got.Reason)
	require.Len(t, got.Applied, 1)
	assert.Equal(t, 1500*time.Microsecond, got.Applied[0].Took)
	assert.Equal(t, map[string]int64{"r": 3}, got.Applied[0].Matched.Routes)
	list, err := r.Purges(ctx, 0, 10)
	require.NoError(t, err)
	assert.Equal(t, []Purge{got}, list)
	last, err := r.LastPurges(ctx, []string{"port:tholm", `quote " and ø`, "none"})
	require.NoError(t, err)
	assert.Len(t, last, 2)
	assert.Equal(t, sequence, last[`quote " and ø`].Sequence)
	w, err = r.Append(ctx, "a", []Order{{Purge: order}, {Purge: order}}, time.Nanosecond)
	require.NoError(t, err)
	assert.Empty(t, w.Live, "who was not seen within the limit is not waited for")
	require.NoError(t, r.Beat(ctx, a, 3))
	nodes, err := r.Nodes(ctx)
	require.NoError(t, err)
	require.Len(t, nodes, 1)
	assert.EqualValues(t, 3, nodes[0].Applied)
	other := a
	other.Started = a.Started.Add(time.Second)
	require.NoError(t, r.Depart(ctx, other), "another process of that name is not taken off the list")
	assert.ErrorIs(t, r.Beat(ctx, other, 3), ErrNotFound, "nor does it live through it")
	require.NoError(t, r.Beat(ctx, a, 3))
	require.NoError(t, r.Depart(ctx, a))
	assert.ErrorIs(t, r.Beat(ctx, a, 3), ErrNotFound)
	_, err = r.Purge(ctx, 99)
	assert.ErrorIs(t, err, ErrNotFound)
}

func TestFiguresSumToWhatWasCountedAlsoWhenMerged(t *testing.T) { inBoth(t, figuresSum) }

func figuresSum(t *testing.T, r Records) {
	now := time.Date(2026, 5, 17, 12, 0, 0, 0, time.UTC)
	key := meter.Key{Route: "port", Outcome: meter.Hit, Status: 200}
	for i := range 600 { // 100 minutes, of which the first 40 are old
		c := &meter.Cell{Requests: 2, Bytes: 10, OriginRequests: 1, OriginTime: time.Second, Saved: time.Millisecond}
		c.Latency.Observe(time.Duration(i+1) * time.Millisecond)
		at := now.Add(-FineFor - 40*time.Minute + time.Duration(i)*10*time.Second)
		require.NoError(t, r.SaveFigures(ctx, "a", at, meter.Cells{key: c}, false))
	}
	sum := func(step time.Duration) (rows int, cell meter.Cell) {
		found, err := r.Figures(ctx, now.Add(-24*time.Hour), now, step, "")
		require.NoError(t, err)
		for i := range found {
			assert.Equal(t, key.Route, found[i].Key.Route)
			assert.Equal(t, key.Outcome, found[i].Key.Outcome)
			cell.Add(&found[i].Cell)
		}
		return len(found), cell
	}
	rows, before := sum(0)
	assert.Equal(t, 1, rows)
	assert.EqualValues(t, 1200, before.Requests)
	assert.EqualValues(t, 600, before.Latency.Count())
	require.NoError(t, r.CompactFigures(ctx, now))
	_, after := sum(5 * time.Minute)
	assert.Equal(t, before, after)
	kept := 0
	switch r := r.(type) {
	case *Database:
		require.NoError(t, r.pool.QueryRow(ctx, `select count(*) from figure`).Scan(&kept))
	case *Alone:
		kept = len(r.figures)
	}
	assert.Less(t, kept, 400, "old buckets were merged")
	route := "other"
	found, err := r.Figures(ctx, now.Add(-24*time.Hour), now, 0, route)
	require.NoError(t, err)
	assert.Empty(t, found)
}

func TestTokensAreKeptHashedAndCanBeRevoked(t *testing.T) { inBoth(t, tokens) }

func tokens(t *testing.T, r Records) {
	secret := NewSecret()
	made, err := r.AddToken(ctx, Token{Name: "deploy", Rights: []Right{Read, Purging}}, secret)
	require.NoError(t, err)
	listed, err := r.Tokens(ctx)
	require.NoError(t, err)
	require.Len(t, listed, 1)
	assert.Equal(t, HashToken(secret), listed[0].Hash)
	assert.True(t, listed[0].May(Purging))
	assert.False(t, listed[0].May(Admin))
	if database, ok := r.(*Database); ok {
		var leaks int
		require.NoError(t, database.pool.QueryRow(ctx, `select count(*) from token where token::text like '%' || $1 || '%'`, secret).Scan(&leaks))
		assert.Zero(t, leaks)
	}
	require.NoError(t, r.RevokeToken(ctx, made.ID))
	assert.ErrorIs(t, r.RevokeToken(ctx, made.ID), ErrNotFound)
	again, err := r.AddToken(ctx, Token{Name: "deploy", Rights: []Right{Admin}, Namespace: "site", AtMost: 1 << 20}, secret)
	require.NoError(t, err)
	assert.Equal(t, made.ID, again.ID, "the same secret is the same token")
}

func TestPoliciesAndSwitches(t *testing.T) { inBoth(t, policiesAndSwitches) }

func policiesAndSwitches(t *testing.T, r Records) {
	_, err := r.LastRevision(ctx)
	assert.ErrorIs(t, err, ErrNotFound)
	for _, source := range []string{"one", "two"} {
		_, err := r.AddRevision(ctx, source, "admin", "note")
		require.NoError(t, err)
	}
	last, err := r.LastRevision(ctx)
	require.NoError(t, err)
	assert.Equal(t, "two", last.Source)
	require.NoError(t, r.Switch(ctx, "port", true, "admin"))
	require.NoError(t, r.Switch(ctx, Everything, true, "admin"))
	require.NoError(t, r.Switch(ctx, "port", false, "admin"))
	off, err := r.Switches(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{Everything: true}, off)
}

// TestTheTablesOfBefore: what a program before this one left is brought up to date with all its
// rows; and that program goes on beside this one, which takes what it writes.
func TestTheTablesOfBefore(t *testing.T) {
	url, err := cluster.CreateDatabase(ctx, "before_marks")
	require.NoError(t, err)
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer conn.Close(ctx)
	dump, err := os.ReadFile("testdata/before_marks.sql")
	require.NoError(t, err)
	_, err = conn.PgConn().Exec(ctx, string(dump)).ReadAll()
	require.NoError(t, err)
	r, err := Open(ctx, url)
	require.NoError(t, err)
	defer r.Close()
	all, err := r.Since(ctx, Position{}, 10)
	require.NoError(t, err)
	require.Len(t, all, 3)
	assert.Equal(t, []string{"port:tholm"}, all[0].Tags)
	assert.NotEqual(t, all[0].Mark, all[1].Mark, "each row has a mark of its own")
	off, err := r.Switches(ctx)
	require.NoError(t, err)
	assert.True(t, off["all"])
	tokens, err := r.Tokens(ctx)
	require.NoError(t, err)
	assert.Len(t, tokens, 2)
	last, err := r.LastRevision(ctx)
	require.NoError(t, err)
	assert.Contains(t, last.Source, "version: 1")
	runs, err := r.Runs(ctx, "partners", 0, 10)
	require.NoError(t, err)
	assert.Len(t, runs, 1)

	// As the program of before writes.
	_, err = conn.Exec(ctx, `with l as (update ledger set sequence = sequence + 1 returning sequence) insert into purge (sequence, actor, reason, mode, selector) select sequence, 'old', '', 'drop', '{"tags": ["x"]}' from l`)
	require.NoError(t, err)
	more, err := r.Since(ctx, Position{all[2].Sequence, all[2].Mark}, 10)
	require.NoError(t, err)
	require.Len(t, more, 1)
	assert.NotEmpty(t, more[0].Mark)

	// A newer program has added tables: that is none of this one's business.
	_, err = conn.Exec(ctx, `update public.gerastic_schema set version = version + 1`)
	require.NoError(t, err)
	newer, err := Open(ctx, url)
	require.NoError(t, err)
	newer.Close()
}

// TestTheNewestPlaceIsNeverForgotten: it is what every node checks; where a program of before
// forgot it, it is there again.
func TestTheNewestPlaceIsNeverForgotten(t *testing.T) {
	r, url := open(t)
	order := []Order{{Purge: tags.Purge{Tags: []string{"t"}}}}
	var last Position
	for range 3 {
		w, err := r.Append(ctx, "a", order, time.Minute)
		require.NoError(t, err)
		assert.Equal(t, last, w.Before)
		last = w.Last
	}
	require.NoError(t, r.ForgetPurges(ctx, time.Now().Add(2*keptPurges)))
	_, err := r.Since(ctx, last, 10)
	require.NoError(t, err)
	_, err = r.Since(ctx, Position{1, "x"}, 10)
	assert.ErrorIs(t, err, ErrOtherHistory, "it does not reach back")
	_, err = r.Since(ctx, Position{last.Sequence, "x"}, 10)
	assert.ErrorIs(t, err, ErrOtherHistory, "another history")
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, `delete from purge`)
	require.NoError(t, err)
	at, err := r.Arrive(ctx, Presence{Name: "a", Started: time.Now()}, 0, time.Time{}, time.Minute)
	require.NoError(t, err)
	assert.EqualValues(t, 3, at.Sequence)
	_, err = r.Since(ctx, at, 10)
	assert.NoError(t, err)
}

// TestAloneRemembersTheNewest of each kind, and says so where somebody asks for what was before.
func TestAloneRemembersTheNewest(t *testing.T) {
	r := NewAlone()
	first, err := r.Append(ctx, "a", []Order{{Purge: tags.Purge{Tags: []string{"t"}}}}, time.Minute)
	require.NoError(t, err)
	for range alonePurges/500 + 1 {
		_, err := r.Append(ctx, "a", make([]Order, 500), time.Minute)
		require.NoError(t, err)
	}
	assert.Len(t, r.purges, alonePurges)
	_, err = r.Since(ctx, first.Last, 1)
	assert.ErrorIs(t, err, ErrOtherHistory)
	at, err := r.Newest(ctx)
	require.NoError(t, err)
	later, err := r.Since(ctx, at, 1)
	assert.Empty(t, later)
	require.NoError(t, err)
	for i := range 3 {
		require.NoError(t, r.NoteSent(ctx, "feed", many(aloneSent/2, i)))
		require.NoError(t, r.SaveFigures(ctx, "a", time.Now().Add(time.Duration(i-3)*time.Hour), figuresOf(aloneFigures/2, i), false))
	}
	assert.LessOrEqual(t, len(r.sent["feed"]), aloneSent)
	assert.LessOrEqual(t, len(r.figures), aloneFigures)
}

func many(n, of int) []string {
	all := make([]string, n)
	for i := range all {
		all[i] = fmt.Sprint(of, "/", i)
	}
	return all
}

func figuresOf(n, of int) meter.Cells {
	cells := meter.Cells{}
	for _, name := range many(n, of) {
		cells[meter.Key{Route: name}] = &meter.Cell{Requests: 1}
	}
	return cells
}

func TestWhatHappenedStandsOnTheTimeLine(t *testing.T) { inBoth(t, timeLine) }

func timeLine(t *testing.T, r Records) {
	rev, err := r.AddRevision(ctx, "one", "admin", "a note")
	require.NoError(t, err)
	require.NoError(t, r.Switch(ctx, "port", true, "admin"))
	written, err := r.Append(ctx, "a", []Order{{Purge: tags.Purge{Tags: []string{"x"}}, Actor: "desk", Reason: "late"}}, time.Minute)
	require.NoError(t, err)
	at := time.Now().Add(-time.Hour).Truncate(time.Microsecond).UTC()
	for _, name := range []string{"release 1", "release 2"} { // at one moment
		_, err = r.AddMark(ctx, TimeMark{At: at, Kind: MarkOwn, Name: name, Actor: "ci"})
		require.NoError(t, err)
	}
	whole := MarkQuery{Since: at, Until: time.Now().Add(time.Minute), Limit: 10}
	all, err := r.Marks(ctx, whole)
	require.NoError(t, err)
	said := []string{}
	for _, m := range all {
		said = append(said, strings.Join([]string{m.Kind, m.Name, m.Actor, m.Detail}, "|"))
	}
	assert.Equal(t, []string{fmt.Sprintf("purge|%d|desk|late", written.First), "switch|port|admin|off", fmt.Sprintf("revision|%d|admin|a note", rev.Number), "mark|release 2|ci|", "mark|release 1|ci|"}, said)

	paged := []TimeMark{}
	for q := (MarkQuery{Since: whole.Since, Until: whole.Until, Limit: 1}); ; q.After = &paged[len(paged)-1] {
		part, err := r.Marks(ctx, q)
		require.NoError(t, err)
		if len(part) == 0 {
			break
		}
		paged = append(paged, part...)
	}
	assert.Equal(t, all, paged)
	part, err := r.Marks(ctx, MarkQuery{Since: at.Add(time.Minute), Until: whole.Until, Kinds: []string{MarkOwn, MarkSwitch}, Limit: 10})
	require.NoError(t, err)
	require.Len(t, part, 1)
	assert.Equal(t, MarkSwitch, part[0].Kind)
	require.NoError(t, r.ForgetMarks(ctx, at.Add(CoarseFor+time.Minute)))
	part, err = r.Marks(ctx, MarkQuery{Since: at, Until: whole.Until, Kinds: []string{MarkOwn}, Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, part)
}

// TestFindingsOfEveryKindAreKept: the program knows the kinds, the table does not.
func TestFindingsOfEveryKindAreKept(t *testing.T) {
	inBoth(t, func(t *testing.T, r Records) {
		require.NoError(t, r.AddFinding(ctx, Finding{At: time.Now(), Kind: "unread-write", Route: "write:people"}))
		found, err := r.Findings(ctx, time.Now().Add(-time.Minute), 10)
		require.NoError(t, err)
		assert.Len(t, found, 1)
	})
}
