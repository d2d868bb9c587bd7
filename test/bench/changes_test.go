package bench

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/demo"
	"gerastic/internal/localpg"
	"gerastic/internal/node"
)

var quiet = slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError}))

// BenchmarkChangeDelay measures the time from the commit of a change to the purge in
// force, by the database's log and by a channel, under the demo's load.
func BenchmarkChangeDelay(b *testing.B) {
	ctx := context.Background()
	for b.Loop() {
		d, err := demo.Start(ctx, demo.Options{
			Node:   node.Settings{Data: b.TempDir(), Edge: "127.0.0.1:0", Control: "127.0.0.1:0", Memory: 64 << 20, Log: quiet},
			Origin: "127.0.0.1:0", Visitors: 30, Editors: 6 * time.Second, Slow: 1, Command: "gerastic",
		})
		require.NoError(b, err)
		defer d.Stop(ctx)
		c := client.New(d.Node.ControlURL(), d.Token)
		p, err := c.Policy(ctx)
		require.NoError(b, err)
		source := strings.Replace(p.Source, "    - name: partners\n", "    - { name: said, kind: notify, database: \"${OSTREL_DATABASE}\", channel: bench }\n    - name: partners\n", 1)
		source = strings.Replace(source, "\n  rules:\n", "\n  rules:\n    - { kind: said, tags: [\"said:{id}\"] }\n", 1)
		_, err = c.ApplyPolicy(ctx, source, "for the benchmark")
		require.NoError(b, err)
		content, err := pgx.Connect(ctx, d.Cluster.URL("ostrel"))
		require.NoError(b, err)
		defer content.Close(ctx)
		rec, err := pgx.Connect(ctx, d.Cluster.URL("gerastic"))
		require.NoError(b, err)
		defer rec.Close(ctx)
		time.Sleep(4 * time.Second) // the visitors have warmed the cache, the sources are read

		for _, way := range []struct{ name, statement, tag string }{
			{"log", `update sailing set status = case status when 'delayed' then 'on time' else 'delayed' end, updated_at = now() where id = $1`, "sailing:%d"},
			{"channel", `select pg_notify('bench', json_build_object('kind', 'said', 'op', 'create', 'after', json_build_object('id', $1::int))::text)`, "said:%d"},
		} {
			const changes = 200
			began := make([]time.Time, changes)
			for i := range changes {
				began[i] = time.Now()
				_, err := content.Exec(ctx, way.statement, 2000+i)
				require.NoError(b, err)
				time.Sleep(20 * time.Millisecond)
			}
			time.Sleep(time.Second)
			var delays []time.Duration
			for i := range changes {
				var inForce time.Time
				err := rec.QueryRow(ctx, `select p.at + took_us * interval '1 microsecond' from purge p join purge_applied using (sequence)
					where selector @> jsonb_build_object('tags', jsonb_build_array($1::text)) and p.at > $2 order by sequence limit 1`, fmt.Sprintf(way.tag, 2000+i), began[i]).Scan(&inForce)
				require.NoError(b, err, "change %d by the %s was not purged", i, way.name)
				delays = append(delays, inForce.Sub(began[i]))
			}
			slices.Sort(delays)
			median, late := delays[changes/2], delays[changes*99/100]
			b.ReportMetric(float64(median.Microseconds())/1000, way.name+"-median-ms")
			b.ReportMetric(float64(late.Microseconds())/1000, way.name+"-99%-ms")
			if median > 20*time.Millisecond {
				missed(b, "by the %s, half of the changes took longer than %v from commit to purged; 20 ms are allowed", way.name, median)
			}
		}
	}
}

// standingNode is a node on a database server of its own, whose content database has a
// table item.
func standingNode(b *testing.B, policy string) (n *node.Node, c *client.Client, content *pgx.Conn) {
	ctx := context.Background()
	cluster, err := localpg.Start(ctx, localpg.Options{Dir: b.TempDir(), Throwaway: true})
	require.NoError(b, err)
	b.Cleanup(cluster.Stop)
	own, err := cluster.CreateDatabase(ctx, "gerastic")
	require.NoError(b, err)
	url, err := cluster.CreateDatabase(ctx, "content")
	require.NoError(b, err)
	content, err = pgx.Connect(ctx, url)
	require.NoError(b, err)
	b.Cleanup(func() { content.Close(ctx) })
	_, err = content.Exec(ctx, `create table item (id int primary key, grp int, text text, at timestamptz not null default now() - interval '1 day')`)
	require.NoError(b, err)
	dir := b.TempDir()
	file := filepath.Join(dir, "policy.yaml")
	require.NoError(b, os.WriteFile(file, []byte(strings.ReplaceAll(policy, "$DB", url)), 0o600))
	n, err = node.Start(ctx, node.Settings{Name: "bench", Data: dir, Database: own, PolicyFile: file, AdminToken: "a token of the bench", Edge: "127.0.0.1:0", Control: "127.0.0.1:0", Memory: 64 << 20, Log: quiet})
	require.NoError(b, err)
	b.Cleanup(func() { n.Stop(ctx) })
	return n, client.New(n.ControlURL(), "a token of the bench"), content
}

// ownDatabase makes a database on a server of its own, and returns its connection string.
func ownDatabase(tb testing.TB) string {
	ctx := context.Background()
	cluster, err := localpg.Start(ctx, localpg.Options{Dir: tb.TempDir(), Throwaway: true})
	require.NoError(tb, err)
	tb.Cleanup(cluster.Stop)
	url, err := cluster.CreateDatabase(ctx, "gerastic")
	require.NoError(tb, err)
	return url
}

// BenchmarkChangesInBulk reads a hundred thousand changed rows of a table in one run.
func BenchmarkChangesInBulk(b *testing.B) {
	ctx := context.Background()
	for b.Loop() {
		_, c, content := standingNode(b, `version: 1
origins: [{ name: site, url: "http://127.0.0.1:1" }]
changes:
  sources:
    - { name: items, kind: table, database: "$DB", every: 1h, query: "select 'item' as kind, id, at as cursor, to_jsonb(i) as after from item i where at > $1 order by at, id" }
  rules:
    - { kind: item, tags: ["item:{id}", "group:{grp}"] }
`)
		_, err := content.Exec(ctx, `insert into item (id, grp, text) select i, i % 1000, repeat('x', 200) from generate_series(1, 100000) i`)
		require.NoError(b, err)
		require.Eventually(b, func() bool {
			runs, err := c.ChangeRuns(ctx, "items", 0, 1)
			return err == nil && len(runs) == 1
		}, 10*time.Second, 20*time.Millisecond)
		_, err = content.Exec(ctx, `update item set at = clock_timestamp()`)
		require.NoError(b, err)
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		before, peak := m.HeapAlloc, m.HeapAlloc
		stop, watched := make(chan struct{}), make(chan struct{})
		go func() {
			defer close(watched)
			for {
				select {
				case <-stop:
					return
				case <-time.After(10 * time.Millisecond):
				}
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				peak = max(peak, m.HeapAlloc)
			}
		}()
		began := time.Now()
		run, err := c.RunChanges(ctx, "items")
		took := time.Since(began)
		close(stop)
		<-watched
		require.NoError(b, err)
		require.EqualValues(b, 100_000, run.Changes)
		extra := float64(peak-before) / (1 << 20)
		b.ReportMetric(took.Seconds(), "run-s")
		b.ReportMetric(extra, "extra-MiB")
		b.ReportMetric(float64(len(run.Purges)), "purges")
		if took > 15*time.Second || extra > 64 {
			missed(b, "the run took %v and %.1f MiB; under 15 s and 64 MiB are wanted", took, extra)
		}
	}
}

// BenchmarkPurgesSustained orders 500 purges a second for 30 s, in spells, while visitors
// are served, and holds every answer against what was acknowledged; and compares the
// latency of hits with that in the calm spells between.
func BenchmarkPurgesSustained(b *testing.B) {
	const pages, rate, spells, length = 400, 500, 10, 30 * time.Second
	for b.Loop() {
		var content, acked [pages]atomic.Int64
		origin := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			var k int
			_, _ = fmt.Sscanf(r.URL.Path, "/%d", &k)
			fmt.Fprintf(w, "%d %s", content[k].Load(), page)
		}))
		defer origin.Close()
		n, c, _ := standingNode(b, `version: 1
origins: [{ name: site, url: "`+origin.URL+`" }]
routes: [{ name: all, match: { path: "/{k}" }, lifetime: { fresh: 1h }, tags: ["page:{k}"] }]
`)
		var stale, visits, purges atomic.Int64
		// Visitors at a steady pace: what is compared is latency, not who gets the cores.
		visit := func(ctx context.Context) (hits []time.Duration) {
			var mu sync.Mutex
			var all sync.WaitGroup
			for v := range 4 {
				all.Go(func() {
					visitor := http.Client{Transport: &http.Transport{}}
					defer visitor.CloseIdleConnections()
					tick := time.NewTicker(10 * time.Millisecond)
					defer tick.Stop()
					for i := v; ctx.Err() == nil; i++ {
						<-tick.C
						k := i * 7 % pages
						least := acked[k].Load()
						began := time.Now()
						resp, err := visitor.Get(fmt.Sprintf("%s/%d", n.EdgeURL(), k))
						require.NoError(b, err)
						body, err := io.ReadAll(resp.Body)
						took := time.Since(began)
						resp.Body.Close()
						require.NoError(b, err)
						var version int64
						_, err = fmt.Sscan(string(body[:min(20, len(body))]), &version)
						require.NoError(b, err)
						visits.Add(1)
						if version < least {
							stale.Add(1)
						}
						if strings.Contains(resp.Header.Get("Cache-Status"), "gerastic; hit") {
							mu.Lock()
							hits = append(hits, took)
							mu.Unlock()
						}
					}
				})
			}
			all.Wait()
			return hits
		}
		purge := func(ctx context.Context, writers *sync.WaitGroup) {
			orders := make(chan int, rate)
			writers.Go(func() {
				defer close(orders)
				began := time.Now()
				for i := 0; ctx.Err() == nil; i++ {
					time.Sleep(time.Until(began.Add(time.Duration(i) * time.Second / rate)))
					orders <- i * 13 % pages
				}
			})
			for range 8 {
				writers.Go(func() {
					for k := range orders {
						version := content[k].Add(1)
						_, err := c.Purge(context.Background(), client.PurgeRequest{Tags: []string{fmt.Sprintf("page:%d", k)}})
						require.NoError(b, err)
						for old := acked[k].Load(); old < version && !acked[k].CompareAndSwap(old, version); old = acked[k].Load() {
						}
						purges.Add(1)
					}
				})
			}
		}
		spell := func(length time.Duration, purging bool) time.Duration {
			ctx, cancel := context.WithTimeout(context.Background(), length)
			defer cancel()
			var writers sync.WaitGroup
			if purging {
				purge(ctx, &writers)
			}
			hits := visit(ctx)
			writers.Wait()
			slices.Sort(hits)
			return hits[len(hits)*99/100]
		}
		// Calm and busy spells in turns, each busy one compared with the calm one before it:
		// the cores of a virtual machine are now there, now not.
		spell(2*time.Second, false)
		var calm, busy []time.Duration
		var ratios []float64
		for range spells {
			calm = append(calm, spell(length/spells, false))
			busy = append(busy, spell(length/spells, true))
			ratios = append(ratios, float64(busy[len(busy)-1])/float64(calm[len(calm)-1]))
		}
		slices.Sort(calm)
		slices.Sort(busy)
		slices.Sort(ratios)
		perSecond := float64(purges.Load()) / length.Seconds()
		calmly, busily, ratio := calm[spells/2], busy[spells/2], ratios[spells/2]
		b.ReportMetric(perSecond, "purges/s")
		b.ReportMetric(float64(stale.Load()), "stale")
		b.ReportMetric(float64(visits.Load()), "visits")
		b.ReportMetric(float64(calmly.Microseconds())/1000, "hit-99%-calm-ms")
		b.ReportMetric(float64(busily.Microseconds())/1000, "hit-99%-busy-ms")
		b.ReportMetric(ratio, "hit-99%-ratio")
		if stale.Load() > 0 || perSecond < rate*0.95 || ratio > 2 {
			missed(b, "%d stale answers at %.0f purges a second, hits at the 99th percentile %.2f times as long; none, 500 and 2 are wanted", stale.Load(), perSecond, ratio)
		}
	}
}
