package bench

import (
	"context"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func init() {
	// pages answers /SIZE/NAME with so many bytes that are the same for the same name.
	roles["pages"] = func(context.Context) (string, func(), error) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return "", nil, err
		}
		s := &http.Server{Handler: http.HandlerFunc(servePage)}
		go func() { _ = s.Serve(l) }()
		return "http://" + l.Addr().String(), func() { _ = s.Close() }, nil
	}
}

func servePage(w http.ResponseWriter, r *http.Request) {
	first, name, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	size, _ := strconv.Atoi(first)
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "public, max-age=3600")
	h.Set("ETag", fmt.Sprintf("%q", name))
	h.Set("Cache-Groups", fmt.Sprintf("%q, \"sailings\"", "sailing:"+name))
	h.Set("X-Content-Type-Options", "nosniff")
	if many, err := strconv.Atoi(r.URL.Query().Get("tags")); err == nil {
		for i := range many {
			h.Add("Cache-Groups", fmt.Sprintf("\"row:%s:%d\"", name, i))
		}
	}
	if r.URL.Query().Has("vary") {
		h.Set("Vary", "X-Device")
	}
	h.Set("Content-Length", strconv.Itoa(size))
	body := make([]byte, size)
	seed := uint64(size)
	for _, c := range name {
		seed = seed*31 + uint64(c)
	}
	plain := r.URL.Query().Has("text")
	for i := range body { // letters that do not compress well, or hardly anything else than the same
		seed = seed*6364136223846793005 + 1442695040888963407
		if body[i] = 'a' + byte(seed>>60); plain && i > 64 {
			body[i] = body[i-64]
		}
	}
	_, _ = w.Write(body)
}

// residentOf is how much memory a process has, in bytes.
func residentOf(tb testing.TB, pid string) int64 {
	status, err := os.ReadFile("/proc/" + pid + "/status")
	require.NoError(tb, err)
	for line := range strings.Lines(string(status)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kib, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			require.NoError(tb, err)
			return kib << 10
		}
	}
	tb.Fatal("the process is gone")
	return 0
}

// askFor asks for so many URLs from sixteen connections, each once, and returns how many had
// another status than 200.
func askFor(tb testing.TB, count int, url func(i int) string) (failed int64) {
	return send(count, func(i int) *http.Request {
		r, err := http.NewRequest(http.MethodGet, url(i), nil)
		if err != nil {
			panic(err)
		}
		return r
	})
}

// send sends so many requests from sixteen connections, and returns how many had another answer
// than a whole 200.
func send(count int, request func(i int) *http.Request) (failed int64) {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 16, DisableCompression: true}}
	defer client.CloseIdleConnections()
	var next, bad atomic.Int64
	var all sync.WaitGroup
	for range 16 {
		all.Go(func() {
			for i := int(next.Add(1)) - 1; i < count; i = int(next.Add(1)) - 1 {
				resp, err := client.Do(request(i))
				if err != nil {
					bad.Add(1)
					continue
				}
				_, err = io.Copy(io.Discard, resp.Body)
				resp.Body.Close()
				if err != nil || resp.StatusCode != 200 {
					bad.Add(1)
				}
			}
		})
	}
	all.Wait()
	return bad.Load()
}

// BenchmarkLeanEntries is how much memory an entry takes beside its body: what the process has
// grown by, three seconds after so many were stored.
func BenchmarkLeanEntries(b *testing.B) {
	for _, c := range []struct{ entries, body int }{{300_000, 200}, {20_000, 16 << 10}} {
		b.Run(fmt.Sprintf("%d-of-%d", c.entries, c.body), func(b *testing.B) {
			origin := process(b, "pages")[0]
			b.Setenv("BENCH_MEMORY", strconv.Itoa(2<<30))
			pid, _, edge := nodeWithMemory(b, origin)
			askFor(b, 100, func(i int) string { return fmt.Sprintf("%s/%d/warm%d", edge, c.body, i) })
			time.Sleep(2 * time.Second)
			before := residentOf(b, pid)
			require.Zero(b, askFor(b, c.entries, func(i int) string { return fmt.Sprintf("%s/%d/n%d", edge, c.body, i) }))
			time.Sleep(3 * time.Second)
			each := float64(residentOf(b, pid)-before) / float64(c.entries)
			b.ReportMetric(each-float64(c.body), "beside-B")
			wanted := 600.0
			if c.body > 1024 {
				wanted += float64(c.body) / 2
			}
			if each-float64(c.body) > wanted {
				missed(b, "an entry takes %.0f bytes beside its body; at most %.0f are wanted", each-float64(c.body), wanted)
			}
		})
	}
}

// nodeWithMemory runs a node that keeps whatever an origin says may be kept.
func nodeWithMemory(tb testing.TB, origin string) (pid, control, edge string) {
	addresses := nodeAddresses(tb, "version: 1\norigins: [{ name: site, url: "+origin+" }]\nroutes: [{ name: pages, match: { path: \"/{x...}\" } }]\n")
	return addresses[0], addresses[1], addresses[2]
}

// workload is what a node is asked for; the i-th request of it.
type workload struct {
	name   string
	size   int
	query  string
	change func(i int, r *http.Request)
}

var workloads = []workload{
	{"small", 200, "", nil},
	{"pages", 16 << 10, "", nil},
	{"text", 16 << 10, "?text", func(_ int, r *http.Request) { r.Header.Set("Accept-Encoding", "br") }},
	{"large", 4 << 20, "", nil},
	{"tags", 2000, "?tags=990", nil},
	{"variants", 2000, "?vary", func(i int, r *http.Request) {
		r.URL.Path = fmt.Sprintf("/2000/v%d", i/64)
		r.Header.Set("X-Device", strconv.Itoa(i%64))
	}},
	{"cookies", 2000, "", func(i int, r *http.Request) {
		r.Header.Set("Cookie", fmt.Sprintf("seen%d=%s", i, strings.Repeat("x", 3000)))
	}},
	{"hosts", 2000, "", func(i int, r *http.Request) { r.Host = fmt.Sprintf("h%d.example", i) }},
	{"small again", 200, "", nil},
}

// BenchmarkResident is the most that a node's process takes, against 1.15 times its memory and
// 96 MiB, while one kind of traffic follows another.
func BenchmarkResident(b *testing.B) {
	for _, of := range []struct{ memory, disk int64 }{{16 << 20, 0}, {16 << 20, 256 << 20}, {128 << 20, 0}, {128 << 20, 1 << 30}} {
		memory := of.memory
		b.Run(fmt.Sprintf("memory=%dMiB/disk=%dMiB", memory>>20, of.disk>>20), func(b *testing.B) {
			origin := process(b, "pages")[0]
			b.Setenv("BENCH_MEMORY", strconv.FormatInt(memory, 10))
			b.Setenv("BENCH_DISK", strconv.FormatInt(of.disk, 10))
			pid, control, edge := nodeWithMemory(b, origin)
			bound := float64(memory)*1.15 + 96<<20
			for round, w := range workloads {
				if only := os.Getenv("BENCH_WORKLOAD"); only != "" && !slices.Contains(strings.Split(only, ","), w.name) {
					continue
				}
				var most atomic.Int64
				done := make(chan struct{})
				var watching sync.WaitGroup
				watching.Go(func() {
					for {
						most.Store(max(most.Load(), residentOf(b, pid)))
						select {
						case <-done:
							return
						case <-time.After(20 * time.Millisecond):
						}
					}
				})
				requests := int(min(20_000, 3*memory/int64(w.size)+2000))
				began := time.Now()
				failed := send(requests, func(i int) *http.Request {
					r, err := http.NewRequest(http.MethodGet, fmt.Sprintf("%s/%d/r%d-%d%s", edge, w.size, round, i, w.query), nil)
					if err != nil {
						panic(err)
					}
					if w.change != nil {
						w.change(i, r)
					}
					if w.query == "?text" && i%2 == 1 { // asked for twice
						r.URL.Path = fmt.Sprintf("/%d/r%d-%d", w.size, round, i-1)
					}
					return r
				})
				close(done)
				watching.Wait()
				before, classes, now := residentOf(b, pid), classesOf(b, control), residentOf(b, pid)
				off := float64(classes)/float64(now) - 1
				if other := float64(classes)/float64(before) - 1; math.Abs(other) < math.Abs(off) {
					off = other // it gave something back just now
				}
				share := float64(most.Load()) / bound
				b.Logf("%s: %d requests in %v, %d failed, at most %d MiB, %.2f of the bound, classes %+.1f %%", w.name, requests, time.Since(began).Round(time.Millisecond), failed, most.Load()>>20, share, 100*off)
				if off < -0.1 || off > 0.1 {
					missed(b, "%s: the classes add up to %d MiB of %d; within 10 %% is wanted", w.name, classes>>20, now>>20)
				}
				b.ReportMetric(share, strings.ReplaceAll(w.name, " ", "-")+"-share")
				if share > 1 {
					missed(b, "%s: the process took %d MiB; at most %.0f are wanted", w.name, most.Load()>>20, bound/(1<<20))
				}
			}
		})
	}
}

// classesOf adds up what a node says that its memory consists of.
func classesOf(tb testing.TB, control string) (sum int64) {
	r, err := http.NewRequest(http.MethodGet, control+"/metrics", nil)
	require.NoError(tb, err)
	r.Header.Set("Authorization", "Bearer "+benchToken)
	resp, err := http.DefaultClient.Do(r)
	require.NoError(tb, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(tb, err)
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "gerastic_memory_bytes{"); ok {
			_, value, _ := strings.Cut(strings.TrimSpace(rest), "} ")
			bytes, err := strconv.ParseFloat(value, 64)
			require.NoError(tb, err)
			sum += int64(bytes)
		}
	}
	return sum
}
