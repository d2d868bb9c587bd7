package bench

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"gerastic.example/client"
)

const fragmentSize = 2 << 10

var fragmentBody = bytes.Repeat([]byte("Ostrel Isles Ferries sail. "), fragmentSize/27+1)[:fragmentSize]

func rows(n int) (all []client.Fragment) {
	for i := range n {
		all = append(all, client.Fragment{Name: "row", Parts: []any{i}, Lifetime: time.Hour, Tags: []string{fmt.Sprintf("sailing:%d", i), "vessel:3"}})
	}
	return all
}

// recorder is a proxy for one exchange: it keeps the bytes that a real one carries.
type recorder struct {
	to             string
	request, reply []byte
	path           string
}

func (rec *recorder) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	rec.request, _ = io.ReadAll(r.Body)
	rec.path = r.URL.Path
	req, _ := http.NewRequest(r.Method, rec.to+r.URL.Path, bytes.NewReader(rec.request))
	req.Header = r.Header
	resp, err := http.DefaultTransport.RoundTrip(req)
	if err != nil {
		w.WriteHeader(http.StatusBadGateway)
		return
	}
	defer resp.Body.Close()
	rec.reply, _ = io.ReadAll(resp.Body)
	maps.Copy(w.Header(), resp.Header)
	w.WriteHeader(resp.StatusCode)
	_, _ = w.Write(rec.reply)
}

// noOrigin is a policy without routes: fragments need none.
const noOrigin = "version: 1\norigins: [{ name: site, url: \"http://127.0.0.1:1\" }]\n"

// fragmentsOf returns the fragments of an application of its own at a node.
func fragmentsOf(tb testing.TB, control string, o client.FragmentOptions) (s *client.Fragments, token string) {
	made, err := client.New(control, benchToken).CreateToken(context.Background(), "bench", []string{"fragments"}, "site")
	require.NoError(tb, err)
	return client.New(control, made.Secret).Fragments(o), made.Secret
}

var patient = client.FragmentOptions{Log: slog.New(slog.DiscardHandler), Timeout: 5 * time.Second, Wait: 20 * time.Second}

// BenchmarkFragmentLoopback finds fragments with the Go client over loopback, one at a time,
// in turns with a bare net/http exchange of the same bytes each way. Both servers are
// processes of their own.
func BenchmarkFragmentLoopback(b *testing.B) {
	control, _ := nodeProcess(b, noOrigin)
	fragments, token := fragmentsOf(b, control, patient)
	all := rows(100)
	ctx := context.Background()
	load := func(s *client.Fragments, wanted []client.Fragment, may func(i int) ([]byte, error)) {
		got, err := s.LoadOrFillAll(ctx, wanted, func(_ context.Context, i int) ([]byte, error) { return may(i) })
		require.NoError(b, err)
		for _, body := range got {
			if len(body) != fragmentSize {
				b.Fatalf("%d bytes", len(body))
			}
		}
	}
	load(fragments, all, func(int) ([]byte, error) { return fragmentBody, nil })
	never := func(int) ([]byte, error) { return nil, fmt.Errorf("it was not found") }

	// What one exchange carries, each way, and a bare server and client that carry the same.
	bareOf := func(wanted []client.Fragment) func() {
		rec := &recorder{to: control}
		recorded := client.New("http://"+serve(b, rec), token).Fragments(patient)
		for range 2 { // the second time the bodies are at hand
			load(recorded, wanted, never)
		}
		size := len(rec.reply)
		file := filepath.Join(b.TempDir(), "reply")
		require.NoError(b, os.WriteFile(file, rec.reply, 0o600))
		url := process(b, "bare", "BENCH_REPLY="+file)[0] + rec.path
		plain := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 4, DisableCompression: true}}
		return func() {
			req, _ := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(rec.request))
			req.Header.Set("Authorization", "Bearer "+token)
			req.Header.Set("Content-Type", "application/cbor-seq")
			resp, err := plain.Do(req)
			require.NoError(b, err)
			got, err := io.ReadAll(resp.Body)
			resp.Body.Close()
			if err != nil || len(got) != size {
				b.Fatalf("%d bytes: %v", len(got), err)
			}
		}
	}
	one, hundred := all[:1], all
	sides := []struct {
		name string
		do   func()
		took []time.Duration
	}{
		{"one", func() { load(fragments, one, never) }, nil},
		{"one-bare", bareOf(one), nil},
		{"hundred", func() { load(fragments, hundred, never) }, nil},
		{"hundred-bare", bareOf(hundred), nil},
		{"hundred-singly", func() {
			for i := range all {
				load(fragments, all[i:i+1], never)
			}
		}, nil},
	}
	for b.Loop() {
		for turn := range 41 {
			for i := range sides {
				times := 50
				if i == len(sides)-1 {
					times = 1
				}
				for range times {
					began := time.Now()
					sides[i].do()
					if turn > 0 { // the first warms up
						sides[i].took = append(sides[i].took, time.Since(began))
					}
				}
			}
		}
	}
	median := map[string]float64{}
	for _, s := range sides {
		slices.Sort(s.took)
		median[s.name] = float64(s.took[len(s.took)/2].Nanoseconds()) / 1000
		b.ReportMetric(median[s.name], s.name+"-µs")
		b.Logf("%s: %.0f µs", s.name, median[s.name])
	}
	b.ReportMetric(median["one-bare"]/median["one"], "one-share")
	b.ReportMetric(median["hundred-bare"]/median["hundred"], "hundred-share")
	b.ReportMetric(median["hundred-singly"]/median["hundred"], "times-faster")
	for what, ok := range map[string]bool{
		"one fragment found takes less than 100 µs":   median["one"] < 100,
		"a hundred found take less than 1 ms":         median["hundred"] < 1000,
		"a hundred at once are 10 times faster":       median["hundred-singly"] >= 10*median["hundred"],
		"one has 0.95 of the rate of a bare exchange": median["one-bare"] >= 0.95*median["one"],
	} {
		if !ok {
			missed(b, "not so: %s", what)
		}
	}
}

// BenchmarkFragmentStampede lets 200 clients, each with a connection of its own, miss the
// same key at once.
func BenchmarkFragmentStampede(b *testing.B) {
	control, _ := nodeProcess(b, noOrigin)
	_, token := fragmentsOf(b, control, patient)
	const clients = 200
	all := make([]*client.Fragments, clients)
	for i := range all {
		all[i] = client.New(control, token).Fragments(patient)
	}
	round := 0
	for b.Loop() {
		round++
		var fills atomic.Int64
		var asking sync.WaitGroup
		start := make(chan struct{})
		for _, s := range all {
			asking.Go(func() {
				<-start
				body, err := s.LoadOrFill(context.Background(), client.Fragment{Name: "board", Parts: []any{"tholm", round}, Lifetime: time.Hour}, func(context.Context) ([]byte, error) {
					fills.Add(1)
					time.Sleep(200 * time.Millisecond) // what a render costs
					return fragmentBody, nil
				})
				if err != nil || !bytes.Equal(body, fragmentBody) {
					b.Errorf("%d bytes, %v", len(body), err)
				}
			})
		}
		began := time.Now()
		close(start)
		asking.Wait()
		b.ReportMetric(float64(fills.Load()), "fills")
		b.ReportMetric(float64(time.Since(began).Milliseconds()), "ms")
		if fills.Load() != 1 {
			missed(b, "%d fills for %d clients; one is wanted", fills.Load(), clients)
		}
	}
}
