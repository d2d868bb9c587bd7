package test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/cli"
)

type result struct {
	code      int
	out, errs string
}

// run carries out a command against the company's node.
func run(args ...string) result {
	return runOn(company.Node.ControlURL(), company.Token, args...)
}

func runOn(control, token string, args ...string) result {
	var out, errs bytes.Buffer
	code := cli.Run(append(args, "--control", control, "--token", token), &out, &errs)
	return result{code, out.String(), errs.String()}
}

func TestCommandsSayWhatTheyDid(t *testing.T) {
	edge := company.Node.EdgeURL()
	visit(t, "/vessels/4")
	visit(t, "/ports/brack-point")
	stored, err := api().Entries(ctx, client.EntryQuery{Key: `site/weather("brack-point"`}) // its template's digest follows
	require.NoError(t, err)
	require.NotEmpty(t, stored.Entries)
	weather := stored.Entries[0].URL
	for _, c := range []struct {
		args []string
		says []string
	}{
		{[]string{"routes"}, []string{"departures", "/ports/{port}/departures", "hit ratio"}},
		{[]string{"routes", "off", "vessel"}, []string{"vessel is passed through to the origin; what is stored stays"}},
		{[]string{"routes"}, []string{"/vessels/{id}              off"}},
		{[]string{"routes", "on", "vessel"}, []string{"vessel is cached again"}},
		{[]string{"fragments", "list"}, []string{"site/card", "site/board", "time saved"}},
		{[]string{"fragments", "list", "--name", "site/card"}, []string{"site/card(", "for ever", "vessel:"}},
		{[]string{"fragments", "show", "/ports/brack-point"}, []string{"└ site/weather(\"brack-point\",\"", "├ site/board(\"brack-point\")", "departures:brack-point"}},
		{[]string{"fragments", "show", weather, "--body"}, []string{"<h2>Weather</h2>"}},
		{[]string{"fragments", "list", "--key", `weather("brack-p`}, []string{weather}},
		{[]string{"fragments", "drop", weather}, []string{"dropped 1 fragment, "}},
		{[]string{"fragments", "drop", "--name", "site/card"}, []string{"fragments, "}},
		{[]string{"fragments", "bench", "--times", "50", "--many", "10"}, []string{"stored 10 at once", "found one", "found 10 at once", "times as fast as one after another"}},
		{[]string{"report", "savings", "--price", "queries=0.5"}, []string{"site/card", "work saved", "queries", "At these prices that saved"}},
		{[]string{"report", "all", "--price", "queries=0.5"}, []string{"Hit ratios", "origin time saved", "Savings", "work saved", "At these prices that saved", "Size", "memory", "Findings"}},
		{[]string{"report", "ratio", "--of", "parts"}, []string{"site/card", "bench/bench"}},
		{[]string{"explain", edge + "/vessels/4?utm_source=x"}, []string{"verdict   serve", "It is served from here", "tags: vessel:4", "← answers this request", "left out  parameter utm_source", "stores    What the origin does not forbid"}},
		{[]string{"explain", edge + "/vessels/4", "-X", "DELETE"}, []string{"verdict   pass through (method)"}},
		{[]string{"tags", "vessel:4"}, []string{"vessel:4", "entries"}},
		{[]string{"purge", "--tag", "vessel:4", "--preview"}, []string{"would drop", "vessel", "for example", "  http://"}},
		{[]string{"purge", "--tag", "vessel:4", "--soften", "--preview"}, []string{"would mark"}},
		{[]string{"purge", "--tag", "vessel:4", "--reason", "repainted"}, []string{"dropped; in force on demo after", "vessel"}},
		{[]string{"purge", "history", "--limit", "1"}, []string{"tag vessel:4", "repainted", "admin", "drop"}},
		{[]string{"purge", "--all", "--yes"}, []string{"dropped"}},
		{[]string{"report", "ratio"}, []string{"total", "origin time saved", "are made up (demo)"}},
		{[]string{"report", "ratio", "--by", "time", "--step", "5m"}, []string{":00", "total"}},
		{[]string{"report", "ratio", "--help"}, []string{"(hit + stale) / (all requests but bypass)", "- origin requests) / visitor requests"}},
		{[]string{"nodes"}, []string{"demo", edge, "well", "32.0 MiB"}},
		{[]string{"policy", "show"}, []string{"name: departures", "version: 1"}},
		{[]string{"report", "findings"}, []string{"Nothing was found"}},
		{[]string{"token", "create", "--name", "deploy", "--rights", "read,purge"}, []string{"keep it now", "ger_"}},
		{[]string{"token", "list"}, []string{"deploy", "read, purge"}},
		{[]string{"token", "create", "--name", "site-1", "--rights", "fragments", "--namespace", "site"}, []string{"keep it now"}},
	} {
		r := run(c.args...)
		assert.Zero(t, r.code, "%v: %s", c.args, r.errs)
		for _, says := range c.says {
			assert.Contains(t, r.out, says, c.args)
		}
		assert.NotContains(t, r.out, "\x1b[", "no colour where there is no terminal")
	}
}

func TestCommandsFailWithOneLineThatHelps(t *testing.T) {
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"purge"}, 2, "name what to purge: --tag, --url, --route, --below, --host or --all"},
		{[]string{"purge", "--prefix", "/ports/"}, 2, "--prefix is called --below by now"},
		{[]string{"purge", "--all"}, 2, "look with --preview, then pass --yes"},
		{[]string{"purge", "--route", "departure"}, 1, "the routes are home, port, departures"},
		{[]string{"purge", "--tags", "x"}, 2, "see: gerastic purge --help"},
		{[]string{"purgee"}, 2, "gerastic has no command \"purgee\"; did you mean purge?"},
		{[]string{"changes", "stauts"}, 2, "gerastic changes has no command \"stauts\"; did you mean status?"},
		{[]string{"routes", "of", "vessel"}, 2, "did you mean off?"},
		{[]string{"report", "all", "-o", "csv"}, 2, "ask for one of them with -o csv, or for all with -o json"},
		{[]string{"report", "savings", "--price", "queries"}, 1, "write what one of a kind of work costs: queries=0.00001"},
		{[]string{"report", "all", "--price", "queries=dear"}, 1, "write what one of a kind of work costs: queries=0.00001"},
		{[]string{"report", "zzzzzz"}, 2, "see: gerastic report --help"},
		{[]string{"report", "ratio", "--at-least", "NaN"}, 2, "a ratio from 0 to 1"},
		{[]string{"fragments", "bench", "--size", "0B"}, 2, "from 1B to 64MiB"},
		{[]string{"routes", "off"}, 2, "name one route, or pass --all"},
		{[]string{"routes", "off", "none"}, 1, "gerastic routes lists them"},
		{[]string{"explain"}, 2, "see: gerastic explain --help"},
		{[]string{"explain", "/x", "-H", "nonsense"}, 2, "write 'Name: value'"},
		{[]string{"report", "ratio", "--since", "60"}, 1, "neither a length of time (15m, 1h, 7d) nor a time"},
		{[]string{"report", "ratio", "--by", "colour"}, 2, "it is route, time or total"},
		{[]string{"report", "ratio", "--at-least", "1"}, 3, "expected a hit ratio of at least 1.000, and it is 0."},
		{[]string{"report", "ratio", "--at-least", "80"}, 2, "a ratio from 0 to 1"},
		{[]string{"routes", "-o", "yaml"}, 2, "the outputs are table, json and csv"},
		{[]string{"watch", "--outcome", "hits"}, 2, "the outcomes are hit, stale"},
		{[]string{"token", "revoke", "none"}, 1, "gerastic token list shows them"},
		{[]string{"token", "create", "--name", "x"}, 2, "pass --name and --rights"},
		{[]string{"policy", "check", "/none.yaml"}, 1, "reading the file"},
		{[]string{"serve"}, 1, "pass --origin http://HOST:PORT"},
		{[]string{"serve", "--memory", "lots"}, 2, "write 512B, 64KiB"},
		{[]string{"fragments", "show"}, 2, "see: gerastic fragments show --help"},
		{[]string{"fragments", "show", "site/none(1)"}, 1, "gerastic fragments list shows the names"},
		{[]string{"fragments", "show", "site/none(1)", "--body"}, 1, "it is not stored"},
		{[]string{"fragments", "show", "/none"}, 1, "visit it, and ask again"},
		{[]string{"fragments", "show", "card", "--body"}, 2, "NAMESPACE/KEY"},
		{[]string{"fragments", "drop"}, 2, "name fragments"},
		{[]string{"fragments", "drop", "card(1)"}, 2, "it is NAMESPACE/KEY"},
		{[]string{"fragments", "drop", "--name", "site/none"}, 1, "gerastic fragments list shows the names"},
		{[]string{"fragments", "bench", "--size", "huge"}, 2, "--size"},
		{[]string{"fragments", "bench", "--many", "0"}, 2, "1 to 1000"},
		{[]string{"fragments", "bench", "--namespace", "edge"}, 1, "choose another"},
		{[]string{"report", "ratio", "--of", "others"}, 2, "it is visitors or parts"},
		{[]string{"token", "create", "--name", "x", "--rights", "fragments"}, 1, "name it with namespace"},
		{[]string{"demo", "--visitors", "-1"}, 2, "from 0 to 2000"},
	} {
		r := run(c.args...)
		assert.Equal(t, c.code, r.code, "%v: %s", c.args, r.errs)
		assert.Contains(t, r.errs, c.says, c.args)
		assert.Equal(t, 1, strings.Count(strings.TrimSpace(r.errs), "\n")+1, "one line: %q", r.errs)
	}
	var out, errs bytes.Buffer
	assert.Equal(t, 1, cli.Run([]string{"routes", "--control", "127.0.0.1:1"}, &out, &errs))
	assert.Contains(t, errs.String(), "is it running, and is --control right?")
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer full.Close()
	for _, format := range []string{"table", "json", "csv"} {
		errs.Reset()
		assert.Equal(t, 1, cli.Run([]string{"routes", "-o", format, "--control", company.Node.ControlURL(), "--token", company.Token}, full, &errs), format)
		assert.Contains(t, errs.String(), "no space left on device")
	}
	errs.Reset()
	assert.Equal(t, 1, cli.Run([]string{"routes", "--control", company.Node.ControlURL(), "--token", "guess"}, &out, &errs))
	assert.Contains(t, errs.String(), "pass --token, set GERASTIC_TOKEN")
}

// TestUnknownPathsOfControl: a probe that asks for the wrong path is not told that all is well,
// and the console's own pages are all there.
func TestUnknownPathsOfControl(t *testing.T) {
	control := company.Node.ControlURL()
	router, err := os.ReadFile("../console/src/router.ts")
	require.NoError(t, err)
	pages := regexp.MustCompile(`\{ path: '(/[a-z-]*)', component`).FindAllStringSubmatch(string(router), -1)
	assert.Len(t, pages, 12)
	for _, page := range pages {
		assert.Equal(t, 200, fetch(t, "GET", control+page[1], "").status, page[1])
	}
	for _, path := range []string{"/ready", "/health", "/healthz/x", "/metric", "/v1/node", "/assets/none.js", "/live/x"} {
		p := fetch(t, "GET", control+path, "")
		assert.Equal(t, 404, p.status, path)
		assert.Equal(t, "application/problem+json", p.header.Get("Content-Type"), path)
	}
	for path, allowed := range map[string]string{"/v1/nodes": "GET", "/v1/fragments/a": "GET, PUT, DELETE", "/v1/policy": "GET, PUT"} {
		p := fetch(t, "POST", control+path, "")
		assert.Equal(t, 405, p.status, path)
		assert.Equal(t, allowed, p.header.Get("Allow"), path)
	}
	p := fetch(t, "GET", control+"/v1/purges?before=99999999999999&limit=1", "", "Authorization: Bearer "+company.Token)
	assert.Equal(t, 200, p.status, p.body)
	assert.Equal(t, 200, fetch(t, "GET", control+"/v1/purges?before=18446744073709551615&limit=1", "", "Authorization: Bearer "+company.Token).status)
}

func TestOutputsForMachines(t *testing.T) {
	var routes []client.Route
	require.NoError(t, json.Unmarshal([]byte(run("routes", "-o", "json").out), &routes))
	assert.Len(t, routes, 19)
	var report client.RatioReport
	require.NoError(t, json.Unmarshal([]byte(run("report", "ratio", "-o", "json").out), &report))
	assert.Positive(t, report.Total.Requests)
	table, err := csv.NewReader(strings.NewReader(run("report", "ratio", "-o", "csv").out)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"route", "requests", "hit_ratio"}, table[0][:3])
	assert.Len(t, table, len(report.Rows)+2)
	var purged client.PurgeResult
	require.NoError(t, json.Unmarshal([]byte(run("purge", "--tag", "none", "-o", "json").out), &purged))
	assert.Positive(t, purged.Sequence)
}

func TestPolicyCommands(t *testing.T) {
	file := filepath.Join(t.TempDir(), "policy.yaml")
	before := run("policy", "show").out
	defer func() {
		require.NoError(t, os.WriteFile(file, []byte(before), 0o600))
		assert.Zero(t, run("policy", "apply", file).code)
	}()
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	write(before)
	assert.Contains(t, run("policy", "check", file).out, "1 origin, 19 routes")

	write(strings.Replace(before, "lifetime: { fresh: 10m", "lifetime: { frehs: 10m", 1))
	for _, verb := range []string{"check", "apply"} {
		r := run("policy", verb, file)
		assert.Equal(t, 1, r.code)
		assert.Contains(t, r.errs, `unknown key "frehs" in lifetime; did you mean "fresh"?`)
		assert.Regexp(t, `policy\.yaml:\d+:\d+: `, r.errs)
	}
	assert.Equal(t, before, run("policy", "show").out, "a policy with mistakes changes nothing")

	visit(t, "/vessels/5")
	visit(t, "/ports/cullenay")
	write(strings.Replace(before, `tags: ["vessel:{id}"]`, `tags: ["ship:{id}"]`, 1))
	r := run("policy", "apply", file, "--note", "rename a tag")
	require.Zero(t, r.code, r.errs)
	assert.Contains(t, r.out, "is in force")
	assert.Regexp(t, `it touches \d+ entr(y|ies) stored on this node`, r.out)
	assert.False(t, visit(t, "/vessels/5").hit(), "what carries the old tags is not served by the new rules")
	assert.True(t, visit(t, "/ports/cullenay").hit(), "the other routes keep what they have")
	purged, err := api().Purge(ctx, client.PurgeRequest{Tags: []string{"ship:5"}})
	require.NoError(t, err)
	assert.EqualValues(t, 1, purged.Matched.Entries)
}

// TestReferenceIsMadeFromTheCode: docs/openapi.json and docs/commands.md are what
// make generate would write.
func TestReferenceIsMadeFromTheCode(t *testing.T) {
	var commands bytes.Buffer
	cli.Reference(&commands)
	kept, err := os.ReadFile("../docs/commands.md")
	require.NoError(t, err)
	assert.Equal(t, string(kept), commands.String(), "run: make generate")
	served := fetch(t, "GET", company.Node.ControlURL()+"/v1/openapi.json", "").body
	api, err := os.ReadFile("../docs/openapi.json")
	require.NoError(t, err)
	assert.JSONEq(t, string(api), served, "run: make generate")
	assert.Contains(t, served, `"openapi":"3.1.0"`)
}
