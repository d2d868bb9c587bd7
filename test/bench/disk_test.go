package bench

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"gerastic/internal/core/barrier"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	core "gerastic/internal/core/store/disk"
	"gerastic/internal/core/tags"
	"gerastic/internal/disk"
	"gerastic/internal/edge"
)

// openTier opens a tier in a directory, for a memory of so many bytes.
func openTier(b *testing.B, dir string, memory int64, marks *tags.Marks, epoch time.Time) (*core.Tier, core.Judged) {
	t, at, err := disk.Open(dir, core.Options{Limit: 8 << 30, Index: memory / 4, Marks: marks, Epoch: epoch, Now: time.Now}, slog.New(slog.DiscardHandler))
	require.NoError(b, err)
	return t, at
}

// BenchmarkDiskHit compares hits of 16 KiB from disk, in the page cache, with hits from memory, each
// of a page of its own among many, over loopback.
func BenchmarkDiskHit(b *testing.B) {
	const pages, size = 8000, 16 << 10
	body := []byte(strings.Repeat("#", size))
	origin := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		time.Sleep(time.Millisecond) // longer than a read from disk
		w.Header().Set("Cache-Control", "max-age=3600")
		w.Header().Set("Content-Type", "image/png")
		_, _ = w.Write(body)
	}))
	b.Cleanup(origin.Close)
	p, err := policy.Outside{}.Parse("bench.yaml", []byte("version: 1\norigins: [{ name: site, url: "+origin.URL+" }]\nroutes: [{ name: ports, match: { path: \"/ports/{port}\" } }]\n"))
	require.NoError(b, err)
	addrs := map[string]string{}
	for name, memory := range map[string]int64{"memory": 256 << 20, "disk": 16 << 20} {
		epoch, marks := time.Now(), tags.NewMarks(0, tags.DefaultLimit)
		stored := store.NewMemory(memory, epoch)
		if name == "disk" {
			tier, _ := openTier(b, filepath.Join(b.TempDir(), "store"), memory, marks, epoch)
			stored.Over(tier, time.Now)
			ctx, cancel := context.WithCancel(context.Background())
			done := make(chan struct{})
			go func() { defer close(done); stored.Descend(ctx) }()
			b.Cleanup(func() { cancel(); <-done; tier.Close() })
		}
		e := edge.New(edge.Config{Store: stored, Barrier: barrier.New(marks, stored), Meter: &meter.Meter{}, Log: slog.New(slog.DiscardHandler), Now: time.Now})
		e.Apply(&policy.InForce{Policy: p})
		addrs[name] = serve(b, e)
		for i := range pages {
			loadPage(b, addrs[name], i, size)
		}
		require.Eventually(b, func() bool { return stored.Descending() == 0 }, 10*time.Second, time.Millisecond)
	}
	var ratio float64
	for b.Loop() {
		rates := map[string][]float64{}
		for range 7 {
			for name, addr := range addrs {
				began, n := time.Now(), 0
				for time.Since(began) < 400*time.Millisecond {
					loadPage(b, addr, rand.IntN(pages), size)
					n++
				}
				rates[name] = append(rates[name], float64(n)/time.Since(began).Seconds())
			}
		}
		for name := range rates {
			slices.Sort(rates[name])
		}
		ratio = rates["disk"][3] / rates["memory"][3]
		b.ReportMetric(rates["memory"][3], "memory-req/s")
		b.ReportMetric(rates["disk"][3], "disk-req/s")
		b.ReportMetric(ratio, "share")
	}
	if ratio < 0.5 {
		missed(b, "a hit from disk reaches %.2f of one from memory; 0.5 is wanted", ratio)
	}
}

// pageClient keeps a connection for each address.
var pageClient = &http.Client{}

func loadPage(b *testing.B, addr string, i, size int) {
	resp, err := pageClient.Get("http://" + addr + fmt.Sprintf("/ports/p%d", i))
	require.NoError(b, err)
	defer resp.Body.Close()
	got := make([]byte, size+1)
	n := 0
	for err == nil {
		var some int
		some, err = resp.Body.Read(got[n:])
		n += some
	}
	require.Equal(b, size, n)
}

// BenchmarkDiskMillion has a million entries on disk, and measures how long a start takes after a
// clean end and after none, and until a purge of all of them by a tag is in force and counted.
func BenchmarkDiskMillion(b *testing.B) {
	for b.Loop() {
		dir, epoch, marks := filepath.Join(b.TempDir(), "store"), time.Now(), tags.NewMarks(0, tags.DefaultLimit)
		tier, _ := openTier(b, dir, 256<<20, marks, epoch)
		memory := store.NewMemory(256<<20, epoch)
		memory.Over(tier, time.Now)
		ctx, cancel := context.WithCancel(context.Background())
		done := make(chan struct{})
		go func() { defer close(done); memory.Descend(ctx) }()
		body := []byte(strings.Repeat("~", 1024))
		for i := range million + million/8 {
			path := portPath(i)
			e := &store.Entry{
				Key: "bench\x00" + path, Method: "GET", Scheme: "http", Status: 200, Header: httprules.Header{"Content-Type": {"text/html"}}, Body: body, Received: epoch,
				Subject: tags.Subject{Host: benchHost, Path: path, Route: "ports", Tags: []string{"port:" + path, "all"}}, RouteTags: 2, Fill: store.Fill{Began: epoch},
				Freshness: httprules.Freshness{Born: epoch, Lifetime: time.Hour}, Browser: httprules.Unset, Idle: httprules.Unset, LifeLimit: httprules.Unset,
			}
			e.Filled(nil, 50*time.Millisecond)
			e.Prepare()
			require.NoError(b, memory.Put(e, epoch))
		}
		cancel()
		<-done
		require.NoError(b, tier.Confirm(core.Judged{}))
		f, _ := memory.LowerFigures()
		b.ReportMetric(float64(f.Entries), "entries")
		b.ReportMetric(float64(tier.Bytes())/float64(f.Entries), "index-B/entry")
		start := func() (*core.Tier, time.Duration) {
			began := time.Now()
			again, at := openTier(b, dir, 256<<20, marks, epoch)
			require.True(b, at.Known)
			require.InDelta(b, f.Entries, again.Figures().Entries, 10_000)
			return again, time.Since(began)
		}
		killed, took := start() // the first one was not closed
		b.ReportMetric(took.Seconds(), "start-killed-s")
		killed.Close()
		clean, took := start()
		b.ReportMetric(took.Seconds(), "start-clean-s")
		p := tags.Purge{Sequence: 1, Tags: []string{"all"}}
		began := time.Now()
		marks.Apply(p)
		inForce := time.Since(began)
		matched := clean.Sweep(p)
		b.ReportMetric(float64(inForce.Microseconds())/1000, "in-force-ms")
		b.ReportMetric(time.Since(began).Seconds(), "counted-s")
		require.Greater(b, matched.Entries, f.Entries-10_000)
		clean.Close()
	}
}
