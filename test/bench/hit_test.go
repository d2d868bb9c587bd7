// Package bench measures speed as ratios against a bare net/http handler that writes
// the same bytes and headers, side by side in one run. Run by make bench.
package bench

import (
	"bufio"
	"bytes"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"sort"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"gerastic/internal/core/barrier"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/edge"
)

const bodySize = 8 << 10

// page is the response that both sides serve.
var page = bytes.Repeat([]byte("Ostrel Isles Ferries sail. "), bodySize/27+1)[:bodySize]

// config is that of an edge with nothing stored.
func config(memory int64) edge.Config {
	stored := store.NewMemory(memory, time.Now())
	return edge.Config{Store: stored, Barrier: barrier.New(tags.NewMarks(0, tags.DefaultLimit), stored), Meter: &meter.Meter{}, Log: slog.New(slog.DiscardHandler), Now: time.Now}
}

// newEdge returns an edge in front of an origin that serves page, with the page stored.
func newEdge(tb testing.TB, memory int64) *edge.Edge { return storedEdge(tb, config(memory)) }

func storedEdge(tb testing.TB, c edge.Config) *edge.Edge {
	origin := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		h := w.Header()
		h.Set("Content-Type", "text/html; charset=utf-8")
		h.Set("Cache-Control", "max-age=3600")
		h.Set("Cache-Groups", `"port:tholm", "notices"`)
		h.Set("ETag", `"one"`)
		_, _ = w.Write(page)
	}))
	tb.Cleanup(origin.Close)
	source := fmt.Sprintf(`
version: 1
origins: [{ name: site, url: %s }]
routes:
  - name: departures
    match: { path: "/ports/{port}/departures" }
    key: { query: { only: [date, page] }, headers: [Accept-Language] }
    tags: ["port:{port}"]
`, origin.URL)
	p, err := policy.Outside{}.Parse("bench.yaml", []byte(source))
	require.NoError(tb, err)
	e := edge.New(c)
	e.Apply(&policy.InForce{Policy: p})
	for range 2 {
		w := httptest.NewRecorder()
		e.ServeHTTP(w, request())
		require.Equal(tb, 200, w.Code)
		if strings.Contains(w.Header().Get("Cache-Status"), "hit") {
			return e
		}
	}
	tb.Fatal("the page was not stored")
	return nil
}

const target = "/ports/tholm/departures?page=2&date=2026-05-17"

func request() *http.Request {
	r := httptest.NewRequest(http.MethodGet, "http://127.0.0.1"+target, nil)
	r.RequestURI = target
	r.Header.Set("Accept-Language", "nb")
	r.Header.Set("User-Agent", "bench")
	return r
}

// bare writes the same bytes and headers as a hit does.
func bare(tb testing.TB, e http.Handler) http.Handler {
	w := httptest.NewRecorder()
	e.ServeHTTP(w, request())
	names := w.Header()
	return http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		h := w.Header()
		for name := range names {
			h.Set(name, names[name][0])
		}
		_, _ = w.Write(page)
	})
}

// discard is a ResponseWriter that costs next to nothing.
type discard struct{ header http.Header }

func (d *discard) Header() http.Header         { return d.header }
func (d *discard) Write(p []byte) (int, error) { return len(p), nil }
func (d *discard) WriteHeader(int)             {}

func BenchmarkHandlerHit(b *testing.B) {
	e := newEdge(b, 256<<20)
	allocations := func(h http.Handler) float64 {
		r, w := request(), &discard{http.Header{}}
		return testing.AllocsPerRun(1000, func() {
			clear(w.header)
			h.ServeHTTP(w, r)
		})
	}
	if more := allocations(e) - allocations(bare(b, e)); more > 4 {
		missed(b, "a hit makes %.0f allocations more than a bare handler; at most 4 are wanted", more)
	}
	for _, side := range []struct {
		name    string
		handler http.Handler
	}{{"bare", bare(b, e)}, {"edge", e}} {
		b.Run(side.name, func(b *testing.B) {
			r := request()
			w := &discard{http.Header{}}
			b.ReportAllocs()
			for b.Loop() {
				clear(w.header)
				side.handler.ServeHTTP(w, r)
			}
		})
	}
}

// BenchmarkLoopbackHit asks both sides over loopback on 32 connections, in turns, and
// reports the ratio of the medians of their rates.
func BenchmarkLoopbackHit(b *testing.B) {
	e := newEdge(b, 256<<20)
	edgeAddr, bareAddr := serve(b, e), serve(b, bare(b, e))
	const connections, turns, turn = 32, 9, 400 * time.Millisecond
	var ratio float64
	for b.Loop() {
		load(b, bareAddr, connections, turn/2) // warm
		load(b, edgeAddr, connections, turn/2)
		var bares, edges []float64
		for range turns {
			bares = append(bares, load(b, bareAddr, connections, turn))
			edges = append(edges, load(b, edgeAddr, connections, turn))
		}
		sort.Float64s(bares)
		sort.Float64s(edges)
		ratio = edges[turns/2] / bares[turns/2]
		b.ReportMetric(bares[turns/2], "bare-req/s")
		b.ReportMetric(edges[turns/2], "edge-req/s")
		b.ReportMetric(ratio, "share")
	}
	if ratio < 0.80 {
		missed(b, "a hit reaches %.2f of a bare handler's rate; 0.80 is wanted", ratio)
	}
}

func serve(tb testing.TB, h http.Handler) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(tb, err)
	s := &http.Server{Handler: h}
	go func() { _ = s.Serve(l) }()
	tb.Cleanup(func() { _ = s.Close() })
	return l.Addr().String()
}

// load asks an address for the page on so many connections for so long, and returns
// the requests per second. Every answer is read whole and its length checked.
func load(tb testing.TB, addr string, connections int, length time.Duration) float64 {
	return loadOf(tb, addr, target, bodySize, connections, length)
}

// loadOf is load for another page, of another size.
func loadOf(tb testing.TB, addr, target string, size, connections int, length time.Duration) float64 {
	var done atomic.Int64
	var failed atomic.Value
	var all sync.WaitGroup
	began := time.Now()
	deadline := began.Add(length)
	for range connections {
		all.Go(func() {
			n, err := ask(addr, target, size, deadline)
			done.Add(n)
			if err != nil {
				failed.Store(err)
			}
		})
	}
	all.Wait()
	if err, _ := failed.Load().(error); err != nil {
		tb.Fatal(err)
	}
	return float64(done.Load()) / time.Since(began).Seconds()
}

func ask(addr, target string, size int, deadline time.Time) (n int64, err error) {
	c, err := net.Dial("tcp", addr)
	if err != nil {
		return 0, err
	}
	defer c.Close()
	wire := []byte("GET " + target + " HTTP/1.1\r\nHost: 127.0.0.1\r\nAccept-Language: nb\r\nUser-Agent: bench\r\n\r\n")
	in := bufio.NewReaderSize(c, 32<<10)
	for time.Now().Before(deadline) {
		if _, err := c.Write(wire); err != nil {
			return n, err
		}
		length, hit := -1, false
		for {
			line, err := in.ReadSlice('\n')
			if err != nil {
				return n, err
			}
			if len(line) <= 2 {
				break
			}
			if value, ok := bytes.CutPrefix(line, []byte("Content-Length: ")); ok {
				length, _ = strconv.Atoi(string(bytes.TrimSpace(value)))
			}
			hit = hit || bytes.HasPrefix(line, []byte("Cache-Status: gerastic; hit"))
		}
		if length != size || !hit { // the bare handler writes the header of a hit, too
			return n, fmt.Errorf("an answer of %d bytes, hit: %v", length, hit)
		}
		if _, err := in.Discard(length); err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}
