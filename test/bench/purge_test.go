package bench

import (
	"fmt"
	"net/http"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

const million = 1_000_000

// fillStore puts n small entries that all carry one tag into the store.
func fillStore(tb testing.TB, m *store.Memory, n int) {
	now := time.Now()
	header := httprules.Header{"Content-Type": {"text/plain"}}
	for i := range n {
		e := &store.Entry{
			Key: fmt.Sprintf("key %d", i), Scheme: "http", Status: 200, Header: header, Body: []byte("x"), Received: now, Browser: httprules.Unset, Idle: httprules.Unset,
			Subject:   tags.Subject{Tags: []string{"all of them"}, Route: "some", Host: "h", Path: fmt.Sprintf("/%d", i%1000)},
			Freshness: httprules.Freshness{Born: now, Lifetime: time.Hour},
		}
		e.Prepare()
		require.NoError(tb, m.Put(e, now))
	}
}

// BenchmarkPurgeMillion purges a tag of a million entries while visitors ask for pages
// that are stored (hits) and for pages that are not (misses, which need room in the
// store). It reports how long the mark took and the longest that a visitor waited.
func BenchmarkPurgeMillion(b *testing.B) {
	for b.Loop() {
		c := config(8 << 30)
		e, m := storedEdge(b, c), c.Store
		fillStore(b, m, million)
		runtime.GC()
		purge := tags.Purge{Sequence: 1, Tags: []string{"all of them"}}

		began := time.Now()
		c.Barrier.Apply(purge)
		mark := time.Since(began)

		stop := make(chan struct{})
		var longestHit, longestMiss time.Duration
		var visits int
		var all sync.WaitGroup
		all.Go(func() {
			w, r := &discard{http.Header{}}, request()
			for i := 0; ; i++ {
				select {
				case <-stop:
					visits = i
					return
				default:
				}
				clear(w.header)
				began := time.Now()
				e.ServeHTTP(w, r)
				longestHit = max(longestHit, time.Since(began))
				if i%64 == 0 { // what a miss needs: room, and its place in store and index
					began = time.Now()
					now := time.Now()
					entry := &store.Entry{Key: fmt.Sprintf("new %d", i), Status: 200, Header: httprules.Header{}, Browser: httprules.Unset, Idle: httprules.Unset,
						Subject: tags.Subject{Tags: []string{"fresh"}, Route: "some", Path: "/new", Stamp: 1}}
					entry.Prepare()
					_ = m.Put(entry, now)
					longestMiss = max(longestMiss, time.Since(began))
				}
				time.Sleep(20 * time.Microsecond) // visitors come and go; the sweeper has a core to share
			}
		})
		began = time.Now()
		matched := m.Sweep(purge)
		sweep := time.Since(began)
		close(stop)
		all.Wait()

		require.EqualValues(b, million, matched.Entries)
		b.ReportMetric(float64(mark.Nanoseconds())/1000, "mark-µs")
		b.ReportMetric(float64(sweep.Milliseconds()), "sweep-ms")
		b.ReportMetric(float64(longestHit.Microseconds())/1000, "longest-hit-ms")
		b.ReportMetric(float64(longestMiss.Microseconds())/1000, "longest-put-ms")
		b.ReportMetric(float64(visits), "visits")
		if mark > time.Millisecond {
			missed(b, "the mark took %v; under 1 ms is wanted", mark)
		}
		if longestHit > 5*time.Millisecond || longestMiss > 5*time.Millisecond {
			missed(b, "a visitor waited %v (hit) or %v (miss) while the sweeper worked; at most 5 ms is wanted", longestHit, longestMiss)
		}
	}
}
