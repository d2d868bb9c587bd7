package test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/node"
)

// TestANodeNeedsAnOriginOnly runs the real program with one flag: hits, purges, figures and a
// policy that names no origin, until it stops.
func TestANodeNeedsAnOriginOnly(t *testing.T) {
	t.Parallel()
	var asked atomic.Int64
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		if r.URL.Path != "/silent" {
			w.Header().Set("Cache-Control", "max-age=600")
		}
		_, _ = w.Write([]byte(r.URL.Path))
	}))
	defer site.Close()
	data := filepath.Join(t.TempDir(), "data")
	args := []string{"serve", "--origin", site.URL, "--data", data, "--edge", "127.0.0.1:0", "--control", "127.0.0.1:0"}
	p := begin(t, program(t), args...)
	token, err := os.ReadFile(filepath.Join(data, node.AdminTokenFile))
	require.NoError(t, err)
	c := client.New(p.control, strings.TrimSpace(string(token)))
	assert.False(t, fetch(t, "GET", p.edge+"/a?x=1", "").hit())
	assert.True(t, fetch(t, "GET", p.edge+"/a?x=1", "").hit())
	for range 2 {
		assert.False(t, fetch(t, "GET", p.edge+"/silent", "").hit(), "its origin says nothing of a life")
	}
	purged, err := c.Purge(ctx, client.PurgeRequest{URLs: []client.PurgeURL{{URL: "/a?x=1"}}})
	require.NoError(t, err)
	assert.EqualValues(t, 1, purged.Matched.Entries)
	assert.False(t, fetch(t, "GET", p.edge+"/a?x=1", "").hit())
	nodes, err := c.Nodes(ctx)
	require.NoError(t, err)
	assert.Equal(t, "memory", nodes[0].Records)

	const routes = "version: 1\nroutes: [{ name: silent, match: { path: /silent }, lifetime: { fresh: 1h } }]\n"
	_, err = c.ApplyPolicy(ctx, routes, "")
	require.NoError(t, err)
	fetch(t, "GET", p.edge+"/silent", "")
	assert.True(t, fetch(t, "GET", p.edge+"/silent", "").hit())
	_, err = c.ApplyPolicy(ctx, "version: 1\norigins: [{ name: other, url: http://127.0.0.1:1 }]\nroutes: []\n", "")
	assert.ErrorContains(t, err, "leave origins out")

	require.NoError(t, p.Process.Signal(syscall.SIGTERM))
	require.NoError(t, p.Wait())
	p = begin(t, program(t), args...)
	fetch(t, "GET", p.edge+"/silent", "")
	assert.False(t, fetch(t, "GET", p.edge+"/silent", "").hit(), "the policy went with the process")
}

// TestWhatANodeMustKnow: each setting that cannot be is refused, with what to do.
func TestWhatANodeMustKnow(t *testing.T) {
	withOrigins := filepath.Join(t.TempDir(), "policy.yaml")
	require.NoError(t, os.WriteFile(withOrigins, []byte("version: 1\norigins: [{ name: site, url: http://127.0.0.1:1 }]\nroutes: []\n"), 0o600))
	for _, c := range []struct {
		settings node.Settings
		says     string
	}{
		{node.Settings{}, "pass --origin"},
		{node.Settings{Origin: "ftp://x"}, "is not an origin's address"},
		{node.Settings{Origin: "http://x:99999"}, "a port is a number"},
		{node.Settings{Origin: "http://x/?q"}, "without query"},
		{node.Settings{Origin: "http://127.0.0.1:1", PolicyFile: withOrigins}, "leave origins out"},
	} {
		c.settings.Name, c.settings.Data = "a", t.TempDir()
		n, err := node.Start(ctx, settings(c.settings))
		if !assert.ErrorContains(t, err, c.says) && n != nil {
			n.Stop(ctx)
		}
	}
}
