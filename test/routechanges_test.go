package test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/cli"
	"gerastic/internal/node"
)

// TestRoutesInALine: added, changed and removed by commands, tried on what was asked for before; the
// policy's comments stay.
func TestRoutesInALine(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { _, _ = w.Write([]byte(r.URL.String())) }))
	defer site.Close()
	file := filepath.Join(t.TempDir(), "policy.yaml")
	require.NoError(t, os.WriteFile(file, []byte("version: 1 # ours\nroutes:\n  # the rest\n  - { name: rest, match: { path: \"/{x...}\" } } # as it says\n"), 0o600))
	const token = "a token of this node"
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Origin: site.URL, PolicyFile: file, AdminToken: token})
	gerastic := func(args ...string) (code int, out, errs string) {
		var o, e strings.Builder
		code = cli.Run(append(args, "--control", n.ControlURL(), "--token", token), &o, &e)
		return code, o.String(), e.String()
	}
	for range 3 {
		fetch(t, "GET", n.EdgeURL()+"/people?page=2&utm_x=1", "")
	}
	add := []string{"routes", "add", "people", "--path", "/people", "--path", "/staff/{id}", "--fresh", "10m", "--query", "-utm_*", "--tag", "people", "--tag", "person:{id}", "--before", "rest"}
	code, out, _ := gerastic(append(add, "--preview")...)
	require.Zero(t, code)
	assert.Contains(t, out, "  - name: people\n    match: { path: [/people, \"/staff/{id}\"] }\n    key: { query: { except: [\"utm_*\"] } }\n    lifetime: { fresh: 10m }\n")
	assert.Contains(t, out, "3 of the last 3 requests match it")
	assert.Contains(t, out, "    3 × GET "+n.EdgeURL()+"/people?page=2&utm_x=1  (route rest before)")
	assert.False(t, fetch(t, "GET", n.EdgeURL()+"/people?page=2", "").hit(), "a preview changes nothing")
	assert.False(t, fetch(t, "GET", n.EdgeURL()+"/people?page=2", "").hit(), "a preview changes nothing")
	code, out, _ = gerastic(add...)
	require.Zero(t, code)
	assert.Contains(t, out, "revision 2 is in force")
	fetch(t, "GET", n.EdgeURL()+"/people?page=2&utm_y=1", "")
	assert.True(t, fetch(t, "GET", n.EdgeURL()+"/people?utm_z=1&page=2", "").hit())

	code, _, _ = gerastic("routes", "set", "people", "lifetime.fresh=5m", "key.query=none", "compare=off")
	require.Zero(t, code)
	_, source, _ := gerastic("policy", "show")
	assert.Equal(t, "version: 1 # ours\nroutes:\n  - name: people\n    match: { path: [/people, \"/staff/{id}\"] }\n    key: { query: none }\n    lifetime: { fresh: 5m }\n    tags: [people, \"person:{id}\"]\n    compare: off\n  # the rest\n  - { name: rest, match: { path: \"/{x...}\" } } # as it says\n", source)
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"set", "people", "lifetime.fresh=5"}, `"5" has no unit`},
		{[]string{"set", "peopel", "enabled=false"}, `there is no route "peopel"; did you mean "people"?`},
		{[]string{"set", "people", "enabled"}, "is not a setting"},
		{[]string{"add", "people", "--path", "/x"}, `two routes are named "people"`},
		{[]string{"add", "x", "--path", "x"}, "a path begins with a slash"},
		{[]string{"add", "x", "--path", "/x", "--query", "a,-b"}, "either name what counts"},
		{[]string{"add", "x", "--path", "/x", "--before", "none"}, `there is no route "none"`},
		{[]string{"add", "x"}, "path"},
		{[]string{"remove", "x"}, `there is no route "x"`},
	} {
		code, _, errs := gerastic(append([]string{"routes"}, c.args...)...)
		assert.NotZero(t, code, c.args)
		assert.Contains(t, errs, c.says)
	}
	_, after, _ := gerastic("policy", "show")
	assert.Equal(t, source, after, "what is wrong changes nothing")
	code, out, _ = gerastic("routes", "remove", "people")
	require.Zero(t, code)
	assert.Contains(t, out, "it touches 1 entry")
	_, source, _ = gerastic("policy", "show")
	assert.Equal(t, "version: 1 # ours\nroutes:\n  # the rest\n  - { name: rest, match: { path: \"/{x...}\" } } # as it says\n", source)
}
