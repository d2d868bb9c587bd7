package test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/client"
	"gerastic/internal/core/tags"
	"gerastic/internal/node"
	"gerastic/internal/records"
)

const ledgerToken = "a token for all nodes"

func connect(t *testing.T, url string) *pgx.Conn {
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close(ctx) })
	return conn
}

// changing is an origin whose pages show a content that POST changes.
func changing(t *testing.T) (url string, content *atomic.Value) {
	content = &atomic.Value{}
	content.Store("old")
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == "POST" {
			content.Store("new")
		}
		_, _ = w.Write([]byte(content.Load().(string)))
	}))
	t.Cleanup(s.Close)
	return s.URL, content
}

// ask asks a node for a page of the one site that all of them serve.
func ask(t *testing.T, n *node.Node, method, path string) page {
	return fetch(t, method, n.EdgeURL()+path, "", "Host: site.example")
}

// warm makes a page of a node's a hit, and returns it.
func warm(t *testing.T, n *node.Node, path string) page {
	ask(t, n, "GET", path)
	p := ask(t, n, "GET", path)
	require.True(t, p.hit(), "%s on %s: %s", path, n.Name(), p.header.Get("Cache-Status"))
	return p
}

// ready is what a node says of itself to those who ask for its health.
func ready(t *testing.T, n *node.Node) string {
	return fetch(t, "GET", n.ControlURL()+"/readyz", "").body
}

// TestPromise3ALedgerThatWasSetBack: after a failover or a restore that lost the last purges,
// nothing that a node stored before is used, and purges take what they name, on every node.
func TestPromise3ALedgerThatWasSetBack(t *testing.T) {
	for _, c := range []struct {
		name string
		sql  string
	}{
		{"by some purges", `delete from purge where sequence > 2; update ledger set sequence = 2`},
		{"to nothing", `delete from purge; update ledger set sequence = 0`},
		{"and others have come in their place", `delete from purge where sequence > 2; insert into purge (sequence, actor, reason, mode, selector) select n, 'x', 'x', 'drop', '{"tags": ["path:b"]}' from generate_series(3, 5) n`},
		{"and more than there were", `delete from purge where sequence > 4; insert into purge (sequence, actor, reason, mode, selector) select n, 'x', 'x', 'drop', '{"tags": ["path:b"]}' from generate_series(5, 9) n; update ledger set sequence = 9`},
	} {
		t.Run(c.name, func(t *testing.T) {
			site, content := changing(t)
			url := database(t, "setback")
			a := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Database: url, AdminToken: ledgerToken, PolicyFile: policyFile(t, site)})
			b := startNode(t, node.Settings{Name: "b", Data: t.TempDir(), Database: url, AdminToken: ledgerToken})
			api := client.New(a.ControlURL(), ledgerToken)
			for i := range 5 {
				_, err := api.Purge(ctx, client.PurgeRequest{Tags: []string{fmt.Sprint("other", i)}})
				require.NoError(t, err)
			}
			for _, n := range []*node.Node{a, b} {
				warm(t, n, "/a")
				warm(t, n, "/b")
			}
			content.Store("new")
			_, err := connect(t, url).Exec(ctx, c.sql)
			require.NoError(t, err)
			for range 3 {
				_, err := api.Purge(ctx, client.PurgeRequest{Tags: []string{"path:a"}})
				require.NoError(t, err)
				for _, n := range []*node.Node{a, b} {
					p := ask(t, n, "GET", "/a")
					assert.Equal(t, "new", p.body)
					assert.False(t, p.hit(), "on node %s", n.Name())
				}
			}
			eventually(t, "all that was stored before is gone", func() bool {
				return ask(t, a, "GET", "/b").body == "new" && ask(t, b, "GET", "/b").body == "new"
			})
			warm(t, a, "/a")
		})
	}
}

// cut is a node behind a cable of its own to the database.
func cut(t *testing.T, database string, s node.Settings) (*node.Node, *cable, node.Settings) {
	at, err := url.Parse(database)
	require.NoError(t, err)
	c := newCable(t, at.Host)
	at.Host = c.Addr().String()
	s.Database, s.AdminToken, s.SyncLimit = at.String(), ledgerToken, 2*time.Second
	return startNode(t, s), c, s
}

// TestPromise3AWriteWhileTheDatabaseIsAway: what visitors change while the ledger takes nothing
// is kept on disk, through a crash, and told to the other nodes before this one trusts what it
// has again. Nobody waits for a database that does not answer for longer than a moment.
func TestPromise3AWriteWhileTheDatabaseIsAway(t *testing.T) {
	for _, c := range []struct {
		name          string
		breaks, mends func(*cable)
		dies          bool
	}{
		{"cut off", func(c *cable) { c.sever(true) }, func(c *cable) { c.sever(false) }, false},
		{"cut off, and it dies before it is mended", func(c *cable) { c.sever(true) }, func(c *cable) { c.sever(false) }, true},
		{"frozen", func(c *cable) { c.freeze(true) }, func(c *cable) { c.freeze(false); c.sever(false) }, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			site, _ := changing(t)
			database := database(t, "away")
			a, cable, s := cut(t, database, node.Settings{Name: "a", Data: t.TempDir(), PolicyFile: policyFile(t, site)})
			b := startNode(t, node.Settings{Name: "b", Data: t.TempDir(), Database: database, AdminToken: ledgerToken})
			warm(t, a, "/a")
			warm(t, b, "/a")
			c.breaks(cable)
			for i := range 3 {
				began := time.Now()
				assert.Equal(t, 200, ask(t, a, "POST", "/a").status)
				assert.Less(t, time.Since(began), 3*time.Second/2, "POST %d", i)
			}
			assert.Equal(t, "new", ask(t, a, "GET", "/a").body, "the node that took it knows")
			assert.Contains(t, ready(t, a), "kept on disk (1)", "the same is kept once")
			if c.dies {
				kept, err := os.ReadFile(filepath.Join(s.Data, "invalidations.owed"))
				require.NoError(t, err)
				a.Stop(ctx)
				s.Data = t.TempDir() // as the disk is after a crash: a directory with what was synced
				require.NoError(t, os.WriteFile(filepath.Join(s.Data, "invalidations.owed"), kept, 0o600))
				c.mends(cable)
				a = startNode(t, s)
			} else {
				c.mends(cable)
			}
			eventually(t, "the other node hears of it", func() bool { return ask(t, b, "GET", "/a").body == "new" })
			eventually(t, "all is well", func() bool { return !strings.Contains(ready(t, a), "degraded") })
			purges, err := client.New(b.ControlURL(), ledgerToken).Purges(ctx, 0, 10)
			require.NoError(t, err)
			assert.Equal(t, "POST /a", purges[0].Reason)
		})
	}
}

// TestPromise3WhatWasStoredBeforeACutIsDoubted: a node that regains the ledger asks once about
// all that it stored before: another one that was cut off, too, may have taken a write.
func TestPromise3WhatWasStoredBeforeACutIsDoubted(t *testing.T) {
	site, _ := changing(t)
	database := database(t, "doubt")
	a, cableA, _ := cut(t, database, node.Settings{Name: "a", Data: t.TempDir(), PolicyFile: policyFile(t, site)})
	b, cableB, _ := cut(t, database, node.Settings{Name: "b", Data: t.TempDir(), PolicyFile: policyFile(t, site)})
	warm(t, b, "/a")
	cableA.sever(true)
	cableB.sever(true)
	eventually(t, "both have lost the ledger", func() bool {
		return strings.Contains(ready(t, a), "revalidated") && strings.Contains(ready(t, b), "revalidated")
	})
	ask(t, a, "POST", "/a") // a keeps it, and stays cut off
	cableB.sever(false)
	eventually(t, "b knows the ledger again", func() bool { return !strings.Contains(ready(t, b), "degraded") })
	assert.Equal(t, "new", ask(t, b, "GET", "/a").body)
	warm(t, b, "/a")
}

// TestADeadNodeIsNotWaitedFor: a node that died without a word costs one visitor a moment, not
// every one seconds.
func TestADeadNodeIsNotWaitedFor(t *testing.T) {
	site, _ := changing(t)
	url := database(t, "dead")
	a := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Database: url, AdminToken: ledgerToken, PolicyFile: policyFile(t, site)})
	rec, err := records.Open(ctx, url)
	require.NoError(t, err)
	defer rec.Close()
	_, err = rec.Arrive(ctx, records.Presence{Name: "dead", Started: time.Now().Truncate(time.Microsecond)}, 0, time.Time{}, time.Minute)
	require.NoError(t, err)
	took := func() time.Duration {
		began := time.Now()
		require.Equal(t, 200, ask(t, a, "POST", "/a").status)
		return time.Since(began)
	}
	assert.Less(t, took(), 3*time.Second/2)
	assert.Less(t, took(), time.Second/2, "it is known not to answer")
	assert.NotContains(t, ready(t, a), "kept on disk", "the ledger has it")
}

// TestOneBadOrderHarmsNoOther: what the ledger refuses, because of what one visitor or caller
// sent, makes no purge of others fail, and loses no invalidation.
func TestOneBadOrderHarmsNoOther(t *testing.T) {
	site, _ := changing(t)
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Database: database(t, "bad"), AdminToken: ledgerToken, PolicyFile: policyFile(t, site)})
	b := connect(t, n.DatabaseURL())
	_, err := b.Exec(ctx, `alter table purge add constraint no_bad check (selector::text not like '%bad%')`) // as the ledger may refuse what nobody has thought of
	require.NoError(t, err)
	api := client.New(n.ControlURL(), ledgerToken)
	var all sync.WaitGroup
	for i := range 40 {
		all.Go(func() {
			if i%4 == 0 {
				_, _, err := n.Purge(ctx, tags.Purge{Tags: []string{"bad"}}, "test", "")
				assert.ErrorContains(t, err, "no_bad")
				return
			}
			_, err := api.Purge(ctx, client.PurgeRequest{Tags: []string{"path:a"}})
			assert.NoError(t, err)
		})
	}
	all.Wait()
	_, _, err = n.Purge(ctx, tags.Purge{Tags: []string{"\xff"}}, "test", "")
	assert.ErrorContains(t, err, "no text")

	warm(t, n, "/bad")
	assert.Equal(t, 200, ask(t, n, "POST", "/bad").status)
	assert.Equal(t, "new", ask(t, n, "GET", "/bad").body)
	eventually(t, "what cannot be said exactly is said of everything", func() bool {
		purges, err := api.Purges(ctx, 0, 1)
		return err == nil && purges[0].All && strings.Contains(purges[0].Reason, "the ledger refuses")
	})
}

// TestWhatIsNotKnownIsSaidSo: a purge that the ledger did not answer in time may have come
// into it.
func TestWhatIsNotKnownIsSaidSo(t *testing.T) {
	site, _ := changing(t)
	a, cable, _ := cut(t, database(t, "unsure"), node.Settings{Name: "a", Data: t.TempDir(), PolicyFile: policyFile(t, site)})
	cable.freeze(true)
	_, err := client.New(a.ControlURL(), ledgerToken).Purge(ctx, client.PurgeRequest{Tags: []string{"path:a"}})
	assert.ErrorContains(t, err, "it is not known whether the purge is in the ledger")
	assert.NotContains(t, err.Error(), "nothing was purged")
	cable.freeze(false)
	cable.sever(true)
	_, err = client.New(a.ControlURL(), ledgerToken).Purge(ctx, client.PurgeRequest{Tags: []string{"path:a"}})
	assert.ErrorContains(t, err, "nothing was purged")
	nodes, err := client.New(a.ControlURL(), ledgerToken).Nodes(ctx)
	require.NoError(t, err, "a node answers from what it knows itself")
	assert.Len(t, nodes, 1)
}
