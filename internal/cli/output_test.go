package cli

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"
)

// TestFiguresAreWrittenShort, so that they line up, and whole where a program reads them.
func TestFiguresAreWrittenShort(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1\u2009000", -1234567: "-1\u2009234\u2009567"} {
		assert.Equal(t, want, grouped(n))
	}
	for n, want := range map[int64]string{512: "512 B", 1 << 10: "1.00 KiB", 15 << 20: "15.0 MiB", 200 << 30: "200 GiB"} {
		assert.Equal(t, want, size(n))
		assert.Equal(t, cell{want, jsonOf(t, n)}, bytes(n))
	}
	for ms, want := range map[float64]string{0: "0.00 ms", 0.25: "250 µs", 12.345: "12.3 ms", 61_000: "1.02 min", 7_200_000: "2.00 h"} {
		assert.Equal(t, want, span(ms))
	}
	assert.Equal(t, "1 entry", plural(1, "entry", "entries"))
	assert.Equal(t, "0 entries", plural(0, "entry", "entries"))
}

func jsonOf(t *testing.T, v any) string {
	text, err := json.Marshal(v)
	require.NoError(t, err)
	return string(text)
}

func TestStarsStandForAnything(t *testing.T) {
	for _, c := range []struct {
		pattern, text string
		like          bool
	}{
		{"port:*", "port:tholm", true}, {"port:*", "port:", true}, {"port:*", "ports", false}, {"*", "", true}, {"a*a", "a", false},
		{"*:tholm", "port:tholm", true}, {"a*b*c", "a-b-b-c", true}, {"a*b*c", "acb", false}, {"a*bc*c", "abc", false},
	} {
		assert.Equal(t, c.like, matchesStar(c.pattern, c.text), "%+v", c)
	}
}

func TestPurgesAreNamedShort(t *testing.T) {
	for want, p := range map[string]client.Purge{
		"all that is stored":                              {All: true},
		"tag a, tag b":                                    {Tags: []string{"a", "b"}},
		"all of the tags a + b":                           {Tags: []string{"a", "b"}, Together: true},
		"below /ports/, host h, route departures":         {Below: []string{"/ports/"}, Hosts: []string{"h"}, Routes: []string{"departures"}},
		"tag a, //h/ports/tholm?page=2, /x?*, and 1 more": {Tags: []string{"a"}, URLs: []string{"//h/ports/tholm?page=2", "/x?*", "/y"}},
	} {
		assert.Equal(t, want, whatPurged(p))
	}
}

// TestTheCommandAsks is the command against a node that answers as a real one does: what it sends,
// what it prints in each format, and what it ends with.
func TestTheCommandAsks(t *testing.T) {
	var asked client.PurgeRequest
	node := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		assert.Equal(t, "Bearer secret", r.Header.Get("Authorization"))
		asked = client.PurgeRequest{}
		_ = json.NewDecoder(r.Body).Decode(&asked)
		_ = json.NewEncoder(w).Encode(client.PurgeResult{Sequence: 41, Preview: asked.Preview, Mode: asked.Mode, Matched: client.Matched{Entries: 12, Bytes: 90112, Routes: map[string]int64{"departures": 12}},
			Nodes: []client.PurgeNode{{Node: "a", Applied: true, TookMS: 1.25}}})
	}))
	defer node.Close()
	run := func(args ...string) (code int, out, errs string) {
		var stdout, stderr strings.Builder
		code = Run(append(args, "--control", node.URL, "--token", "secret"), &stdout, &stderr)
		return code, stdout.String(), stderr.String()
	}
	code, out, _ := run("purge", "--tag", "port:tholm", "--below", "/ports/", "--soften", "--reason", "pier closed")
	assert.Zero(t, code)
	assert.Equal(t, client.PurgeRequest{Tags: []string{"port:tholm"}, Below: []string{"/ports/"}, Mode: "stale", Reason: "pier closed"}, asked)
	assert.Contains(t, out, "purge 41: 12 entries, 88.0 KiB marked stale; in force on a after 1.25 ms")
	_, out, _ = run("purge", "--route", "departures", "--preview", "-o", "json")
	assert.True(t, asked.Preview)
	var got client.PurgeResult
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	assert.EqualValues(t, 12, got.Matched.Entries)
	code, _, errs := run("purge", "--prefix", "/ports/")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "--prefix is called --below by now")
	assert.Equal(t, 1, strings.Count(errs, "\n"), "one line")
	code, _, errs = run("purge", "--all")
	assert.NotZero(t, code, "nobody is there to be asked")
	assert.Contains(t, errs, "--yes")
}
