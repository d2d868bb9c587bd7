package bench

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"gerastic/internal/core/policy"
	"gerastic/internal/edge"
)

// edgeFor returns an edge that stores for a minute what h answers.
func edgeFor(tb testing.TB, h http.HandlerFunc) *edge.Edge {
	return edgeOf(tb, `  - { name: all, match: { path: "/{x...}" }, lifetime: { fresh: 1m } }`, h)
}

// edgeOf returns an edge with routes before an origin.
func edgeOf(tb testing.TB, routes string, h http.HandlerFunc) *edge.Edge {
	origin := httptest.NewServer(h)
	tb.Cleanup(origin.Close)
	p, err := policy.Outside{}.Parse("bench.yaml", fmt.Appendf(nil, "version: 1\norigins: [{ name: site, url: %q }]\nroutes:\n%s\n", origin.URL, routes))
	require.NoError(tb, err)
	e := edge.New(config(256 << 20))
	e.Apply(&policy.InForce{Policy: p})
	return e
}

// BenchmarkJoinedFill lets a thousand visitors ask at once for a cold page whose origin
// takes 200 ms, over loopback, and compares the last with a visitor who is
// alone: in turns, by the medians of nine rounds.
func BenchmarkJoinedFill(b *testing.B) {
	const visitors, size = 1000, 100 << 10
	var asked atomic.Int64
	e := edgeFor(b, func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		time.Sleep(200 * time.Millisecond)
		_, _ = w.Write(make([]byte, size))
	})
	address := serve(b, e)
	// Connections stand before, as visitors' do; what is measured is the answer.
	visit := func(c net.Conn, path string) (time.Duration, error) {
		began := time.Now()
		if _, err := fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n", path); err != nil {
			return 0, err
		}
		n, err := io.Copy(io.Discard, c)
		if n < size {
			err = fmt.Errorf("%d bytes: %v", n, err)
		}
		return time.Since(began), err
	}
	dial := func() net.Conn {
		c, err := net.Dial("tcp", address)
		require.NoError(b, err)
		return c
	}
	together := func(round int) (last time.Duration) {
		connections := make([]net.Conn, visitors)
		for i := range connections {
			connections[i] = dial()
		}
		before := asked.Load()
		took := make([]time.Duration, visitors)
		failed := make([]error, visitors)
		var all sync.WaitGroup
		start := make(chan struct{})
		for i, c := range connections {
			all.Go(func() {
				defer c.Close()
				<-start
				took[i], failed[i] = visit(c, fmt.Sprintf("/together/%d", round))
			})
		}
		close(start)
		all.Wait()
		for i := range visitors {
			require.NoError(b, failed[i])
			last = max(last, took[i])
		}
		require.EqualValues(b, 1, asked.Load()-before, "one origin request")
		return last
	}
	const rounds = 9
	for b.Loop() {
		var singles, lasts []time.Duration
		for range rounds {
			c := dial()
			single, err := visit(c, fmt.Sprintf("/alone/%d", asked.Load()))
			require.NoError(b, err)
			c.Close()
			singles = append(singles, single)
			lasts = append(lasts, together(int(asked.Load())))
		}
		slices.Sort(singles)
		slices.Sort(lasts)
		single, last := singles[rounds/2], lasts[rounds/2]
		b.ReportMetric(float64(single.Milliseconds()), "single-ms")
		b.ReportMetric(float64(last.Milliseconds()), "last-ms")
		b.ReportMetric(float64(lasts[0].Milliseconds()), "last-least-ms")
		b.ReportMetric(float64(lasts[rounds-1].Milliseconds()), "last-most-ms")
		b.ReportMetric(float64(last)/float64(single), "times-single")
		if last > single*3/2 {
			missed(b, "the last of %d visitors waited %v, a single one %v; at most 1.5 times that is wanted", visitors, last, single)
		}
	}
}

// BenchmarkLargeBody streams a body of 1 GiB, too large to store, and reports by how much
// memory grew and how long the first byte took from the origin's to the visitor.
func BenchmarkLargeBody(b *testing.B) {
	const size = 1 << 30
	var sent atomic.Int64
	e := edgeFor(b, func(w http.ResponseWriter, _ *http.Request) {
		piece := make([]byte, 256<<10)
		sent.Store(time.Now().UnixNano())
		for n := 0; n < size; n += len(piece) {
			if _, err := w.Write(piece); err != nil {
				return
			}
			if n == 0 {
				_ = http.NewResponseController(w).Flush()
			}
		}
	})
	address := serve(b, e)
	memory := func() int64 {
		var s runtime.MemStats
		runtime.ReadMemStats(&s)
		return int64(s.HeapInuse + s.StackInuse)
	}
	for b.Loop() {
		runtime.GC()
		before := memory()
		resp, err := http.Get("http://" + address + "/large")
		require.NoError(b, err)
		room := make([]byte, 64<<10)
		n, err := resp.Body.Read(room)
		require.NoError(b, err)
		firsts := []time.Duration{time.Since(time.Unix(0, sent.Load()))}
		total, most := int64(n), int64(0)
		for i := 0; err == nil; i++ {
			n, err = resp.Body.Read(room)
			total += int64(n)
			if i%512 == 0 {
				most = max(most, memory()-before)
			}
		}
		require.ErrorIs(b, err, io.EOF)
		resp.Body.Close()
		require.EqualValues(b, size, total)
		for i := range 8 { // once more, each for its first byte only
			again, err := http.Get(fmt.Sprintf("http://%s/large/%d", address, i))
			require.NoError(b, err)
			_, err = again.Body.Read(room)
			require.NoError(b, err)
			firsts = append(firsts, time.Since(time.Unix(0, sent.Load())))
			again.Body.Close()
		}
		slices.Sort(firsts)
		first := firsts[len(firsts)/2]
		b.ReportMetric(float64(most)/(1<<20), "extra-MiB")
		b.ReportMetric(float64(first.Microseconds())/1000, "first-byte-ms")
		if most > 16<<20 {
			missed(b, "a body of 1 GiB took %d MiB; under 16 MiB is wanted", most>>20)
		}
		if first > 5*time.Millisecond {
			missed(b, "the first byte took %v; 5 ms is wanted", first)
		}
	}
}
