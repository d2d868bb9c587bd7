package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/core/meter"
	"gerastic/internal/node"
)

// counted keeps figures of two hours: in the first a route answers from what is stored, in the second
// not. Requests and the other route's figures vary from piece to piece as they would anyway.
func counted(t *testing.T, n *node.Node, turned time.Time) {
	rec, err := n.Records()
	require.NoError(t, err)
	for i := range 24 {
		at := turned.Add(time.Duration(i-12) * 5 * time.Minute)
		hits, misses := int64(900+i%3), int64(100+i%2)
		if at.Before(turned) == false {
			hits, misses = 10, 990
		}
		cells := meter.Cells{}
		count := func(route string, o meter.Outcome, n int64, took time.Duration) {
			c := &meter.Cell{Requests: n}
			if o == meter.Miss {
				c.OriginRequests = n
			}
			for range n {
				c.Latency.Observe(took)
			}
			cells[meter.Key{Route: route, Outcome: o, Status: 200}] = c
		}
		count("sailing", meter.Hit, hits, time.Millisecond)
		count("sailing", meter.Miss, misses, 80*time.Millisecond)
		count("port", meter.Hit, int64(500+i%5), time.Millisecond)
		count("port", meter.Miss, int64(100+7*(i%5)), 90*time.Millisecond)
		require.NoError(t, rec.SaveFigures(ctx, "a", at, cells, false))
	}
}

func TestTwoSpansAreCompared(t *testing.T) {
	t.Parallel()
	site := httptest.NewServer(http.NotFoundHandler())
	defer site.Close()
	token := "comparing-two-spans"
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Origin: site.URL, AdminToken: token})
	turned := time.Now().Add(-2 * time.Hour).Truncate(5 * time.Minute)
	counted(t, n, turned)
	at := func(minutes int) string {
		return turned.Add(time.Duration(minutes) * time.Minute).UTC().Format(time.RFC3339)
	}
	before, after := at(-60)+".."+at(0), at(0)+".."+at(60)
	c := client.New(n.ControlURL(), token)
	_, err := c.AddMark(ctx, "sailing off", at(0))
	require.NoError(t, err)

	out, err := c.Compare(ctx, before, after, "sailing")
	require.NoError(t, err)
	assert.InDelta(t, 0.9, *out.Before.HitRatio, 0.01)
	assert.InDelta(t, *out.After.HitRatio-*out.Before.HitRatio, *out.Change.HitRatio, 1e-9)
	assert.Less(t, *out.Usual.HitRatio, 0.02)
	assert.EqualValues(t, 12*990, *out.After.OriginRequests)
	assert.Subset(t, out.Unusual, []string{"hit_ratio", "origin_requests", "origin_requests_per_s"})
	assert.Equal(t, "hit", out.Before.Latency[0].Outcome)
	assert.InDelta(t, 80, *out.Before.Latency[1].P50MS, 16)
	require.Len(t, out.Marks, 1)

	out, err = c.Compare(ctx, before, after, "port")
	require.NoError(t, err)
	assert.Empty(t, out.Unusual, "it varies as it did")
	out, err = c.Compare(ctx, at(-30)+".."+at(0), after, "")
	require.NoError(t, err)
	assert.Nil(t, out.Usual.Requests, "numbers of spans of different lengths are not comparable")
	assert.NotNil(t, out.Usual.RequestsPerS)
	assert.Contains(t, out.Unusual, "hit_ratio")

	r := runOn(n.ControlURL(), token, "compare", "--before", before, "--after", after, "--route", "sailing")
	require.Zero(t, r.code, r.errs)
	for _, said := range []string{"hit ratio", "90.0 ", "1.0 ", "−89.0 ", "more than usual", "mark sailing off"} {
		assert.Contains(t, r.out, said)
	}
	r = runOn(n.ControlURL(), token, "compare", "--before", before, "--after", after, "-o", "json")
	var fields map[string]any
	require.NoError(t, json.Unmarshal([]byte(r.out), &fields))
	for _, name := range []string{"before", "after", "change", "usual"} {
		assert.Contains(t, fields[name], "hit_ratio")
	}
	for _, bad := range []struct{ before, after, says string }{
		{"", after, "before"}, {"..1h", after, "FROM..TO"}, {"x..y", after, "neither a length"}, {"1h..2h", after, "before until"},
		{"2h..1h", "90m..30m", "overlap"}, {before, "1h.." + time.Now().Add(time.Hour).Format(time.RFC3339), "let it end by now"},
	} {
		_, err := c.Compare(ctx, bad.before, bad.after, "")
		assert.Equal(t, 422, client.StatusOf(err), bad)
		assert.ErrorContains(t, err, bad.says)
	}
}

// TestTheTimeLine: with a database and without one, all that happens to the cache stands on the time line.
func TestTheTimeLine(t *testing.T) {
	t.Parallel()
	release := "7"
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("X-App-Release", release) }))
	defer site.Close()
	const policy = "version: 1\norigins: [{ name: site, url: %q }]\nroutes: [{ name: all, match: { path: \"/{x...}\" }, lifetime: { fresh: 1h }, releases: \"header:X-App-Release\" }]\n"
	for name, url := range map[string]string{"memory": "", "database": database(t, "timeline")} {
		t.Run(name, func(t *testing.T) {
			s := node.Settings{Name: "a", Data: t.TempDir(), Database: url, AdminToken: "what-happened-when"}
			if url == "" {
				s.Origin = site.URL
			}
			n := startNode(t, s)
			c := client.New(n.ControlURL(), "what-happened-when")
			source := fmt.Sprintf(policy, site.URL)
			if url == "" {
				source = strings.Replace(source, source[strings.Index(source, "origins"):strings.Index(source, "routes")], "", 1)
			}
			applied, err := c.ApplyPolicy(ctx, source, "begin")
			require.NoError(t, err)
			require.NoError(t, c.SwitchRoute(ctx, "all", false))
			require.NoError(t, c.SwitchRoute(ctx, "all", true))
			purged, err := c.Purge(ctx, client.PurgeRequest{Tags: []string{"x"}, Reason: "late"})
			require.NoError(t, err)
			release = "7"
			fetch(t, "GET", n.EdgeURL()+"/a", "")
			release = "8"
			fetch(t, "GET", n.EdgeURL()+"/b", "")
			r := runOn(n.ControlURL(), "what-happened-when", "mark", "summer timetable")
			require.Zero(t, r.code, r.errs)
			has := func(kind, name, detail string) bool {
				list, err := c.Marks(ctx, client.MarkQuery{Kinds: []string{kind}})
				require.NoError(t, err)
				for _, m := range list.Marks {
					if m.Kind == kind && m.Name == name && m.Detail == detail {
						return true
					}
				}
				return false
			}
			eventually(t, "the release is on the time line", func() bool { return has("release", "8", "all") })
			for _, m := range [][3]string{{"restart", "a", ""}, {"revision", fmt.Sprint(applied.Revision), "begin"}, {"switch", "all", "off"}, {"switch", "all", "on"},
				{"purge", fmt.Sprint(purged.Sequence), "late"}, {"mark", "summer timetable", ""}} {
				assert.True(t, has(m[0], m[1], m[2]), m)
			}
			r = runOn(n.ControlURL(), "what-happened-when", "marks", "--kind", "mark,switch", "--limit", "2")
			assert.Contains(t, r.out, "summer timetable")
			assert.Contains(t, r.out, "--after")
			for _, bad := range []struct{ name, at, says string }{{" ", "", "one line"}, {"a\nb", "", "one line"}, {"x", "yesterday", "neither"}, {"x", "91d", "90 days"}, {"x", "2126-01-01T00:00:00Z", "90 days"}} {
				_, err := c.AddMark(ctx, bad.name, bad.at)
				assert.ErrorContains(t, err, bad.says)
			}
			for _, q := range []client.MarkQuery{{Kinds: []string{"prune"}}, {After: "x"}, {Since: "x"}, {Limit: 1001}} {
				_, err := c.Marks(ctx, q)
				assert.Equal(t, 422, client.StatusOf(err), q)
			}
		})
	}
}
