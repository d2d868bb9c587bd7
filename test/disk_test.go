package test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/node"
)

// pages is an application with many pages of 16 KiB, each with a tag of its own and one of ten.
func pages(t *testing.T, asked *atomic.Int64) string {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		time.Sleep(2 * time.Millisecond) // longer than a read from disk
		w.Header().Set("Content-Type", "image/png")
		_, _ = io.WriteString(w, pageOf(r.URL.Path))
	}))
	t.Cleanup(s.Close)
	path := filepath.Join(t.TempDir(), "policy.yaml")
	require.NoError(t, os.WriteFile(path, []byte("version: 1\norigins: [{ name: site, url: "+s.URL+" }]\nroutes: [{ name: all, match: { path: \"/{group}/{x}\" }, lifetime: { fresh: 1h }, compare: off, tags: [\"page:{x}\", \"group:{group}\"] }]\n"), 0o600))
	return path
}

// ofPages asks a node for one of them.
func ofPages(t *testing.T, edge, path string) page {
	return fetch(t, "GET", edge+path, "", "Host: pages.test")
}

func pageOf(path string) string { return path + strings.Repeat("#", 16<<10-len(path)) }

// TestTheStoreOutlivesItsProcess runs the real program with little memory and a disk, ends it in
// order and by force, and counts what its application is asked for.
func TestTheStoreOutlivesItsProcess(t *testing.T) {
	var asked atomic.Int64
	path, data := program(t), filepath.Join(t.TempDir(), "data")
	args := []string{"serve", "--private-database", "--data", data, "--policy", pages(t, &asked), "--edge", "127.0.0.1:0", "--control", "127.0.0.1:0", "--memory", "16MiB", "--disk", "256MiB"}
	p := begin(t, path, args...)
	token, err := os.ReadFile(filepath.Join(data, node.AdminTokenFile))
	require.NoError(t, err)
	c := client.New(p.control, strings.TrimSpace(string(token)))
	const n = 1000
	all := func() (misses int) {
		before := asked.Load()
		var wg sync.WaitGroup
		for first := range 8 {
			wg.Go(func() {
				for i := first; i < n; i += 8 {
					path := fmt.Sprintf("/g%d/%d", i%10, i)
					assert.Equal(t, pageOf(path), ofPages(t, p.edge, path).body)
				}
			})
		}
		wg.Wait()
		return int(asked.Load() - before)
	}
	require.Equal(t, n, all())
	assert.Zero(t, all(), "the disk has room for what memory gave up")
	purged, err := c.Purge(ctx, client.PurgeRequest{Tags: []string{"group:g3"}})
	require.NoError(t, err)
	assert.EqualValues(t, n/10, purged.Matched.Entries, "each is counted once, whichever tiers have it")
	nodes, err := c.Nodes(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, n*9/10, nodes[0].Entries+nodes[0].DiskEntries)
	assert.LessOrEqual(t, nodes[0].DiskUsed, nodes[0].DiskLimit)
	assert.Zero(t, nodes[0].DiskErrors)

	restart := func(signal os.Signal) time.Duration {
		require.NoError(t, p.Process.Signal(signal))
		_ = p.Wait()
		began := time.Now()
		p = begin(t, path, args...)
		c = client.New(p.control, strings.TrimSpace(string(token)))
		return time.Since(began)
	}
	restart(syscall.SIGTERM)
	assert.Equal(t, n/10, all(), "only what was purged")
	for range 2 {
		all()
	}
	purged, err = c.Purge(ctx, client.PurgeRequest{Tags: []string{"group:g4"}})
	require.NoError(t, err)
	assert.EqualValues(t, n/10, purged.Matched.Entries)
	restart(syscall.SIGKILL)
	for i := range n / 10 {
		assert.False(t, ofPages(t, p.edge, fmt.Sprintf("/g4/%d", i*10+4)).hit(), "it was purged before the crash")
	}
	assert.Less(t, all(), n/2, "what was on disk is still there")
}

// TestPurgesOfTheTimeAwayHold: what was purged while a node was down is not served from its disk.
func TestPurgesOfTheTimeAwayHold(t *testing.T) {
	var asked atomic.Int64
	url, data, policy := database(t, "away"), t.TempDir(), pages(t, &asked)
	const token = "a token for both nodes"
	start := func() *node.Node {
		return startNode(t, node.Settings{Name: "a", Data: data, Disk: 64 << 20, Database: url, AdminToken: token, PolicyFile: policy})
	}
	a, b := start(), startNode(t, node.Settings{Name: "b", Data: t.TempDir(), Database: url, AdminToken: token})
	for i := range 20 {
		ofPages(t, a.EdgeURL(), fmt.Sprintf("/g%d/%d", i%2, i))
	}
	a.Stop(ctx)
	_, err := client.New(b.ControlURL(), token).Purge(ctx, client.PurgeRequest{Tags: []string{"group:g1"}})
	require.NoError(t, err)
	a = start()
	for i := range 20 {
		assert.Equal(t, i%2 == 0, ofPages(t, a.EdgeURL(), fmt.Sprintf("/g%d/%d", i%2, i)).hit(), "page %d", i)
	}
}

// TestANodeGoesOnWithoutItsDisk, says so, and keeps in memory what it can.
func TestANodeGoesOnWithoutItsDisk(t *testing.T) {
	var asked atomic.Int64
	data := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(data, "store"), []byte("not a directory"), 0o600))
	n := startNode(t, node.Settings{Name: "a", Data: data, Disk: 64 << 20, Database: database(t, "diskless"), PolicyFile: pages(t, &asked)})
	assert.Contains(t, fetch(t, "GET", n.ControlURL()+"/readyz", "").body, "ready, degraded: the store's tier on disk cannot be used")
	ofPages(t, n.EdgeURL(), "/g1/1")
	assert.True(t, ofPages(t, n.EdgeURL(), "/g1/1").hit())
}

// TestLongBodiesComeFromTheirFile: whole, in parts, and to a visitor who knows them, without the origin
// and without that memory takes them.
func TestLongBodiesComeFromTheirFile(t *testing.T) {
	const n, long = 60, 1 << 20
	var asked atomic.Int64
	bodies := map[string]string{}
	for i := range n {
		path := fmt.Sprint("/", i)
		bodies[path] = strings.Repeat(path+";", long/(len(path)+1)+1)[:long]
	}
	body := func(path string) string { return bodies[path] }
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		time.Sleep(2 * time.Millisecond)
		w.Header()["Etag"], w.Header()["Content-Type"], w.Header()["Cache-Control"] = []string{`"v1"`}, []string{"application/octet-stream"}, []string{"max-age=3600"}
		_, _ = io.WriteString(w, body(r.URL.Path))
	}))
	defer site.Close()
	policy := filepath.Join(t.TempDir(), "policy.yaml")
	require.NoError(t, os.WriteFile(policy, []byte("version: 1\norigins: [{ name: site, url: "+site.URL+" }]\nroutes: [{ name: all, match: { path: \"/{x}\" }, compare: off }]\n"), 0o600))
	const token = "a token of this node"
	node := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Disk: 256 << 20, Database: database(t, "long"), AdminToken: token, PolicyFile: policy})
	each := func(visit func(path string)) {
		for i := range n {
			visit(fmt.Sprint("/", i))
		}
	}
	ask := func(method, path string, headers ...string) page {
		return fetch(t, method, node.EdgeURL()+path, "", append(headers, "Host: pages.test")...)
	}
	each(func(path string) { require.Equal(t, body(path), ask("GET", path).body) })
	require.EqualValues(t, n, asked.Load())
	for range 2 {
		each(func(path string) {
			require.Equal(t, body(path), ask("GET", path).body)
			p := ask("GET", path, "Range: bytes=70000-70999")
			require.Equal(t, []any{206, body(path)[70000:71000]}, []any{p.status, p.body})
			p = ask("GET", path, "Range: bytes=5-9,900000-900004")
			require.Equal(t, 206, p.status)
			require.Contains(t, p.body, body(path)[900000:900005])
			require.Equal(t, 304, ask("GET", path, `If-None-Match: "v1"`).status)
			require.Equal(t, fmt.Sprint(long), ask("HEAD", path).header.Get("Content-Length"))
		})
	}
	assert.EqualValues(t, n, asked.Load(), "all of it is on disk")
	var wg sync.WaitGroup
	for who := range 40 { // more than memory has room for, at once
		wg.Go(func() {
			for i := range n / 4 {
				path := fmt.Sprint("/", (who+4*i)%n)
				if p := ask("GET", path); p.body != body(path) {
					t.Errorf("%s: %d bytes", path, len(p.body))
				}
			}
		})
	}
	wg.Wait()
	assert.EqualValues(t, n, asked.Load(), "nor did these need it")
	nodes, err := client.New(node.ControlURL(), token).Nodes(ctx)
	require.NoError(t, err)
	assert.Zero(t, nodes[0].DiskErrors)
}

// TestEntriesOfBothTiers: each is listed once, in the faster tier that has it; figures agree; one
// that is dropped is gone from both, and no other.
func TestEntriesOfBothTiers(t *testing.T) {
	var asked atomic.Int64
	const token = "a token of this node"
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Disk: 64 << 20, Database: database(t, "tiers"), AdminToken: token, PolicyFile: pages(t, &asked)})
	c := client.New(n.ControlURL(), token)
	const pages = 1300
	for i := range pages {
		ofPages(t, n.EdgeURL(), fmt.Sprintf("/g%d/%d", i%10, i))
	}
	listed := map[string]client.Entry{}
	tiers := map[string]int64{}
	for after := ""; ; {
		list, err := c.Entries(ctx, client.EntryQuery{Sort: "worth", Limit: 400, After: after})
		require.NoError(t, err)
		assert.Equal(t, pages, list.Total)
		for _, e := range list.Entries {
			listed[e.URL] = e
			tiers[e.Tier]++
			tiers[e.Tier+" bytes"] += e.Bytes
		}
		if after = list.Next; after == "" {
			break
		}
	}
	assert.Len(t, listed, pages)
	require.Positive(t, tiers["disk"])
	metrics := fetch(t, "GET", n.ControlURL()+"/metrics", "", "Authorization: Bearer "+token).body
	for _, tier := range []string{"memory", "disk"} {
		assert.Contains(t, metrics, fmt.Sprintf("gerastic_store_entries{tier=%q} %d\n", tier, tiers[tier]))
	}
	size, err := c.Sizes(ctx, client.SizeQuery{Since: "5m"})
	require.NoError(t, err)
	sums := map[string]client.SizeRow{}
	for _, row := range size.Rows {
		sum := sums[row.Tier]
		sum.Entries, sum.Bytes, sum.Added, sum.Evicted = row.Entries, row.Bytes, sum.Added+row.Added, sum.Evicted+row.Evicted
		sums[row.Tier] = sum
	}
	for _, tier := range []string{"memory", "disk"} {
		assert.Equal(t, [2]int64{tiers[tier], tiers[tier+" bytes"]}, [2]int64{sums[tier].Entries, sums[tier].Bytes}, tier)
	}
	assert.EqualValues(t, pages, sums["memory"].Added)
	assert.EqualValues(t, tiers["disk"], sums["memory"].Evicted)
	curve, err := c.Curve(ctx)
	require.NoError(t, err)
	require.Len(t, curve.Points, 5)
	assert.EqualValues(t, 16<<20, curve.Points[2].MemoryBytes)
	assert.Zero(t, *curve.Now.HitRatio, "nothing was asked for twice")
	assert.Contains(t, curve.Says, "nothing was saved")
	var of client.Entry
	for _, e := range listed {
		if e.Tier == "disk" {
			of = e
		}
	}
	detail, err := c.EntryOf(ctx, of.ID)
	require.NoError(t, err)
	assert.Equal(t, "image/png", detail.Headers["Content-Type"][0])
	assert.Equal(t, client.Taken{Entries: 1, Bytes: of.Bytes}, detail.Purges[of.Tags[0].Tag])
	path := strings.TrimPrefix(of.URL, "http://pages.test")
	body, err := c.EntryBody(ctx, of.ID)
	require.NoError(t, err)
	assert.Equal(t, pageOf(path), string(body))
	group, err := c.Entries(ctx, client.EntryQuery{Tag: "group:g1", Tier: "disk"})
	require.NoError(t, err)
	assert.Positive(t, group.Total)
	tagged, err := c.Tags(ctx, "group:", 20)
	require.NoError(t, err)
	assert.Len(t, tagged, 10)
	assert.EqualValues(t, pages/10, tagged[0].Entries)

	preview, err := c.DropEntry(ctx, of.ID, "", true)
	require.NoError(t, err)
	assert.EqualValues(t, 1, preview.Matched.Entries)
	dropped, err := c.DropEntry(ctx, of.ID, "wrong price", false)
	require.NoError(t, err)
	assert.EqualValues(t, 1, dropped.Matched.Entries)
	_, err = c.DropEntry(ctx, of.ID, "", false)
	assert.Equal(t, 404, client.StatusOf(err))
	ledger, err := c.Purges(ctx, 0, 1)
	require.NoError(t, err)
	assert.Equal(t, of.URL, ledger[0].Entry)
	before := asked.Load()
	assert.False(t, ofPages(t, n.EdgeURL(), path).hit())
	for i := range 50 {
		ofPages(t, n.EdgeURL(), fmt.Sprintf("/g%d/%d", i%10, i))
	}
	assert.LessOrEqual(t, asked.Load()-before, int64(2))
}
