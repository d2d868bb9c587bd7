package bench

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// BenchmarkLoopbackComposed compares a page composed of twelve cached includes with the same
// bytes as one hit, over loopback, in turns.
func BenchmarkLoopbackComposed(b *testing.B) {
	const includes, includeSize = 12, 640
	include := func(i int) string { return strings.Repeat(string(rune('a'+i)), includeSize) }
	var skeleton, whole strings.Builder
	for i := range includes {
		text := fmt.Sprintf("<section id=%d>", i)
		fmt.Fprintf(&skeleton, `%s<esi:include src="/pieces/%d" onerror="continue"/>`, text, i)
		whole.WriteString(text + include(i))
	}
	e := edgeOf(b, `
  - { name: composed, match: { path: /composed }, lifetime: { fresh: 1h }, compose: true }
  - { name: includes, match: { path: "/pieces/{id}" }, lifetime: { fresh: 1h } }
  - { name: whole, match: { path: /whole }, lifetime: { fresh: 1h } }
`, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Groups", `"home"`)
		switch r.URL.Path {
		case "/composed":
			_, _ = io.WriteString(w, skeleton.String())
		case "/whole":
			_, _ = io.WriteString(w, whole.String())
		default:
			var i int
			_, _ = fmt.Sscanf(r.URL.Path, "/pieces/%d", &i)
			_, _ = io.WriteString(w, include(i))
		}
	})
	addr := serve(b, e)
	get := func(path string) []byte {
		req, err := http.NewRequest(http.MethodGet, "http://"+addr+path, nil)
		require.NoError(b, err)
		req.Host = "127.0.0.1" // as load says
		resp, err := http.DefaultClient.Do(req)
		require.NoError(b, err)
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		require.NoError(b, err)
		return body
	}
	get("/composed")
	require.True(b, bytes.Equal(get("/composed"), get("/whole")), "both pages read the same")
	const connections, turns, turn = 32, 9, 400 * time.Millisecond
	var ratio float64
	for b.Loop() {
		var one, composed, ratios []float64
		for range turns {
			one = append(one, loadOf(b, addr, "/whole", whole.Len(), connections, turn))
			composed = append(composed, loadOf(b, addr, "/composed", whole.Len(), connections, turn))
			ratios = append(ratios, composed[len(composed)-1]/one[len(one)-1])
		}
		sort.Float64s(one)
		sort.Float64s(composed)
		sort.Float64s(ratios)
		ratio = ratios[turns/2] // each turn beside its neighbour: the machine's pace changes
		b.ReportMetric(one[turns/2], "one-hit-req/s")
		b.ReportMetric(composed[turns/2], "composed-req/s")
		b.ReportMetric(ratio, "share")
	}
	if ratio < 0.40 {
		missed(b, "a page composed of %d includes reaches %.2f of the rate of one hit; 0.40 is wanted", includes, ratio)
	}
}
