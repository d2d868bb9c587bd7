package test

import (
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

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
	t.Parallel()
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
			t.Parallel()
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

// cut is a node behind a proxy of its own to the database.
func cut(t *testing.T, database string, s node.Settings) (*node.Node, *proxy, node.Settings) {
	at, err := url.Parse(database)
	require.NoError(t, err)
	c := newProxy(t, at.Host)
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
		breaks, mends func(*proxy)
		dies          bool
	}{
		{"cut off", func(c *proxy) { c.sever(true) }, func(c *proxy) { c.sever(false) }, false},
		{"cut off, and it dies before it is mended", func(c *proxy) { c.sever(true) }, func(c *proxy) { c.sever(false) }, true},
		{"frozen", func(c *proxy) { c.freeze(true) }, func(c *proxy) { c.freeze(false); c.sever(false) }, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			site, _ := changing(t)
			database := database(t, "away")
			a, proxy, s := cut(t, database, node.Settings{Name: "a", Data: t.TempDir(), PolicyFile: policyFile(t, site)})
			b := startNode(t, node.Settings{Name: "b", Data: t.TempDir(), Database: database, AdminToken: ledgerToken})
			warm(t, a, "/a")
			warm(t, b, "/a")
			c.breaks(proxy)
			for i := range 3 {
				began := time.Now()
				assert.Equal(t, 200, ask(t, a, "POST", "/a").status)
				t.Logf("write %d: %v", i+1, time.Since(began).Round(time.Millisecond))
				assert.Less(t, time.Since(began), 3*time.Second, "POST %d", i)
			}
			assert.Equal(t, "new", ask(t, a, "GET", "/a").body, "the node that took it knows")
			assert.Contains(t, ready(t, a), "kept on disk (1)", "the same is kept once")
			if c.dies {
				kept, err := os.ReadFile(filepath.Join(s.Data, "invalidations.owed"))
				require.NoError(t, err)
				a.Stop(ctx)
				s.Data = t.TempDir() // as the disk is after a crash: a directory with what was synced
				require.NoError(t, os.WriteFile(filepath.Join(s.Data, "invalidations.owed"), kept, 0o600))
				c.mends(proxy)
				a = startNode(t, s)
			} else {
				c.mends(proxy)
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
	first, second := took(), took()
	t.Logf("a write beside a node that died: %v, and the next: %v", first.Round(time.Millisecond), second.Round(time.Millisecond))
	assert.Less(t, first, 3*time.Second)
	assert.Less(t, second, 900*time.Millisecond, "it is known not to answer")
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
	assert.ErrorContains(t, err, "is not text")

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
	t.Parallel()
	site, _ := changing(t)
	a, proxy, _ := cut(t, database(t, "unsure"), node.Settings{Name: "a", Data: t.TempDir(), PolicyFile: policyFile(t, site)})
	proxy.freeze(true)
	_, err := client.New(a.ControlURL(), ledgerToken).Purge(ctx, client.PurgeRequest{Tags: []string{"path:a"}})
	assert.ErrorContains(t, err, "it is not known whether the purge is in the ledger")
	assert.NotContains(t, err.Error(), "nothing was purged")
	proxy.freeze(false)
	proxy.sever(true)
	_, err = client.New(a.ControlURL(), ledgerToken).Purge(ctx, client.PurgeRequest{Tags: []string{"path:a"}})
	assert.ErrorContains(t, err, "nothing was purged")
	nodes, err := client.New(a.ControlURL(), ledgerToken).Nodes(ctx)
	require.NoError(t, err, "a node answers from what it knows itself")
	assert.Len(t, nodes, 1)
}

// TestOneNodeOneName: a second node of a live one's name does not start, one that died without
// a word frees it, and a directory has one node.
func TestOneNodeOneName(t *testing.T) {
	site, _ := changing(t)
	url := database(t, "names")
	s := node.Settings{Name: "a", Data: t.TempDir(), Database: url, AdminToken: ledgerToken, PolicyFile: policyFile(t, site), SyncLimit: 2 * time.Second}
	a := startNode(t, s)
	other := s
	other.Data = t.TempDir()
	_, err := node.Start(ctx, settings(other))
	assert.ErrorContains(t, err, `give each node a name of its own, with --node; "a" is taken`)
	other.Name, other.Data = "b", s.Data
	_, err = node.Start(ctx, settings(other))
	assert.ErrorContains(t, err, "in use by another node")
	a.Stop(ctx)
	rec, err := records.Open(ctx, url)
	require.NoError(t, err)
	defer rec.Close()
	_, err = rec.Arrive(ctx, records.Presence{Name: "a", Started: time.Now().Truncate(time.Microsecond)}, 0, time.Time{}, time.Minute)
	require.NoError(t, err) // and is never seen again
	other = s
	other.Data = t.TempDir()
	began := time.Now()
	startNode(t, other)
	assert.Less(t, time.Since(began), 8*time.Second)
}

// TestADirectoryOfAnotherVersionIsSetAside: loudly, and nothing of it is lost.
func TestADirectoryOfAnotherVersionIsSetAside(t *testing.T) {
	site, _ := changing(t)
	data := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(data, "layout"), []byte("99\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(data, "policy.kept.yaml"), []byte("from the future"), 0o600))
	var log strings.Builder
	s := settings(node.Settings{Name: "a", Data: data, Database: database(t, "layout"), AdminToken: ledgerToken, PolicyFile: policyFile(t, site)})
	s.Log = slog.New(slog.NewTextHandler(&log, nil))
	n, err := node.Start(ctx, s)
	require.NoError(t, err)
	n.Stop(ctx)
	assert.Contains(t, log.String(), "set aside")
	aside, err := filepath.Glob(filepath.Join(data, "aside-*", "policy.kept.yaml"))
	require.NoError(t, err)
	require.Len(t, aside, 1)
	kept, err := os.ReadFile(aside[0])
	require.NoError(t, err)
	assert.Equal(t, "from the future", string(kept))
	n = startNode(t, s)
	warm(t, n, "/a")
}

// TestSwitchesWithoutTheDatabase: what was switched off stays off in a start without it, also
// when what is kept cannot be read; and the policy is kept whole or not at all.
func TestSwitchesWithoutTheDatabase(t *testing.T) {
	site, _ := changing(t)
	url := database(t, "switches")
	s := node.Settings{Name: "a", Data: t.TempDir(), Database: url, AdminToken: ledgerToken, PolicyFile: policyFile(t, site)}
	n := startNode(t, s)
	require.NoError(t, client.New(n.ControlURL(), ledgerToken).SwitchRoute(ctx, "all", false))
	n.Stop(ctx)
	s.Database, s.PolicyFile, s.ServeOn = url[:strings.LastIndex(url, "/")+1]+"not_there?sslmode=disable", "", true
	for _, kept := range []string{"", "{"} {
		if kept != "" {
			require.NoError(t, os.WriteFile(filepath.Join(s.Data, "switches.kept.json"), []byte(kept), 0o600))
		}
		n = startNode(t, s)
		for range 2 {
			assert.Equal(t, "gerastic; fwd=bypass", ask(t, n, "GET", "/a").header.Get("Cache-Status"))
		}
		assert.Contains(t, ready(t, n), "ready, degraded: ", "although it serves on")
		n.Stop(ctx)
	}
	halves, err := filepath.Glob(filepath.Join(s.Data, "*half*"))
	require.NoError(t, err)
	assert.Empty(t, halves)
}

// TestARevisionThatANodeCannotRead is named in its health and in the list of nodes, and what was
// in force before stays, with the switches of now.
func TestARevisionThatANodeCannotRead(t *testing.T) {
	site, _ := changing(t)
	url := database(t, "unread")
	s := node.Settings{Name: "a", Data: t.TempDir(), Database: url, AdminToken: ledgerToken, PolicyFile: policyFile(t, site)}
	a := startNode(t, s)
	b := startNode(t, node.Settings{Name: "b", Data: t.TempDir(), Database: url, AdminToken: ledgerToken})
	rec, err := records.Open(ctx, url)
	require.NoError(t, err)
	defer rec.Close()
	_, err = rec.AddRevision(ctx, "version: 1\nfrom_the_future: true\n", "a newer program", "")
	require.NoError(t, err)
	api := client.New(a.ControlURL(), ledgerToken)
	for _, n := range []*node.Node{a, b} {
		eventually(t, "it says so", func() bool { return strings.Contains(ready(t, n), "revision 2 does not hold on this node") })
		warm(t, n, "/a")
	}
	eventually(t, "in the list of nodes too", func() bool {
		nodes, err := api.Nodes(ctx)
		return err == nil && len(nodes) == 2 && strings.Contains(nodes[1].Degraded, "revision 2")
	})
	require.NoError(t, api.SwitchRoute(ctx, "all", false))
	eventually(t, "switches count all the same", func() bool { return !ask(t, b, "GET", "/a").hit() })
	a.Stop(ctx)
	a = startNode(t, s) // serves by what it kept
	assert.Contains(t, ready(t, a), "revision 2 does not hold")
	source, err := os.ReadFile(s.PolicyFile)
	require.NoError(t, err)
	_, err = client.New(a.ControlURL(), ledgerToken).ApplyPolicy(ctx, string(source), "back")
	require.NoError(t, err)
	eventually(t, "it is well again", func() bool { return !strings.Contains(ready(t, b), "degraded") })
}

// TestAPrivateDatabaseIsStartedAgain by its owner, at the same address.
func TestAPrivateDatabaseIsStartedAgain(t *testing.T) {
	t.Parallel()
	site, _ := changing(t)
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), PrivateDatabase: true, Throwaway: true, AdminToken: ledgerToken, PolicyFile: policyFile(t, site)})
	var pid int
	require.NoError(t, connect(t, n.DatabaseURL()).QueryRow(ctx, `select pid from pg_stat_activity where backend_type = 'checkpointer'`).Scan(&pid))
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	require.NoError(t, err)
	_, err = fmt.Sscanf(string(stat[strings.LastIndexByte(string(stat), ')')+1:]), " %1s %d", new(string), &pid) // its parent
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	eventually(t, "it is said", func() bool { return strings.Contains(ready(t, n), "the private database has ended") })
	eventually(t, "all is well again", func() bool { return ready(t, n) == "ready\n" })
	_, err = client.New(n.ControlURL(), ledgerToken).Purge(ctx, client.PurgeRequest{All: true})
	assert.NoError(t, err)
}

// TestTheStartSaysWhatIsWrong with the files that it is given.
func TestTheStartSaysWhatIsWrong(t *testing.T) {
	s := settings(node.Settings{Name: "a", Data: t.TempDir(), Database: database(t, "start"), AdminToken: ledgerToken, PolicyFile: "/none.yaml"})
	_, err := node.Start(ctx, s)
	assert.ErrorContains(t, err, "reading --policy: open /none.yaml")
	s.PolicyFile, s.Data = filepath.Join(t.TempDir(), "p.yaml"), t.TempDir()
	require.NoError(t, os.WriteFile(s.PolicyFile, []byte("version: 2\n"), 0o600))
	_, err = node.Start(ctx, s)
	assert.ErrorContains(t, err, "p.yaml:1:10")
}
