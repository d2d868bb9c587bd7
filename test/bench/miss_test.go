package bench

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func init() {
	// proxy hands every request on, and does nothing else.
	roles["proxy"] = func(context.Context) (string, func(), error) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return "", nil, err
		}
		to, err := url.Parse(os.Getenv("BENCH_ORIGIN"))
		if err != nil {
			return "", nil, err
		}
		proxy := httputil.NewSingleHostReverseProxy(to)
		proxy.Transport = &http.Transport{MaxIdleConnsPerHost: 64, DisableCompression: true}
		s := &http.Server{Handler: proxy}
		go func() { _ = s.Serve(l) }()
		return fmt.Sprintf("%d http://%s", os.Getpid(), l.Addr()), func() { _ = s.Close() }, nil
	}
}

// cpuOf is how much of the processors a process has used (proc_pid_stat(5), in hundredths of a
// second).
func cpuOf(tb testing.TB, pid string) time.Duration {
	text, err := os.ReadFile("/proc/" + pid + "/stat")
	require.NoError(tb, err)
	_, rest, _ := strings.Cut(string(text), ") ")
	fields := strings.Fields(rest)
	user, err := strconv.Atoi(fields[11])
	require.NoError(tb, err)
	system, err := strconv.Atoi(fields[12])
	require.NoError(tb, err)
	return time.Duration(user+system) * 10 * time.Millisecond
}

// BenchmarkMissCPU compares what a miss costs whose answer gains by compression, and whose visitor would
// like it compressed, with what it costs a proxy that only hands it on.
func BenchmarkMissCPU(b *testing.B) {
	origin := process(b, "pages")[0]
	b.Setenv("BENCH_MEMORY", strconv.Itoa(256<<20))
	node, _, edge := nodeWithMemory(b, origin)
	b.Setenv("BENCH_ORIGIN", origin)
	other := process(b, "proxy")
	const turns, misses = 5, 2000
	var shares []float64
	for b.Loop() {
		for turn := range turns {
			used := map[string]time.Duration{}
			for name, side := range map[string][2]string{"node": {node, edge}, "proxy": {other[0], other[1]}} {
				before := cpuOf(b, side[0])
				failed := send(misses, func(i int) *http.Request {
					r, err := http.NewRequest(http.MethodGet, fmt.Sprintf("%s/16384/t%d-%d-%d?text", side[1], b.N, turn, i), nil)
					if err != nil {
						panic(err)
					}
					r.Header.Set("Accept-Encoding", "br, gzip")
					return r
				})
				require.Zero(b, failed)
				used[name] = cpuOf(b, side[0]) - before
			}
			shares = append(shares, float64(used["node"])/float64(used["proxy"]))
			b.ReportMetric(float64(used["node"].Microseconds())/misses, "node-µs")
			b.ReportMetric(float64(used["proxy"].Microseconds())/misses, "proxy-µs")
		}
	}
	slices.Sort(shares)
	share := shares[len(shares)/2]
	b.ReportMetric(share, "share")
	if share > 1.6 {
		missed(b, "a miss takes %.2f of a plain proxy's processor time; 1.6 is wanted", share)
	}
}
