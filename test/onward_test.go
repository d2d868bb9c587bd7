package test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/node"
)

// outer is a cache beyond the node: it notes what it is told, while it is well.
type outer struct {
	*httptest.Server
	ill  atomic.Bool
	mu   sync.Mutex
	told []string
}

func newOuter(t *testing.T) *outer {
	o := &outer{}
	o.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if o.ill.Load() || r.Header.Get("Authorization") != "Bearer of-the-outer-cache" {
			w.WriteHeader(503)
			return
		}
		var message struct{ Tags []string }
		_ = json.Unmarshal(body, &message)
		o.mu.Lock()
		defer o.mu.Unlock()
		o.told = append(o.told, strings.Join(message.Tags, " "))
	}))
	t.Cleanup(o.Close)
	return o
}

func (o *outer) heard() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return strings.Join(o.told, "|")
}

func secretsFor(t *testing.T) (dir string) {
	dir = t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "outer.token"), []byte("Bearer of-the-outer-cache\n"), 0o600))
	return dir
}

const toldPolicy = `version: 1
routes: [{ name: all, match: { path: "/{x...}" } }]
onward:
  - { name: outer, url: %q, headers: { Authorization: "secret_file:outer.token" }, body: '{"tags": {{json .Tags}}, "all": {{.All}}}', when: tags }
`

// TestPurgesAreToldOnward runs the real program with a target that is ill, and well again.
func TestPurgesAreToldOnward(t *testing.T) {
	t.Parallel()
	o, dir := newOuter(t), secretsFor(t)
	file := filepath.Join(t.TempDir(), "policy.yaml")
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, toldPolicy, o.URL+"/purge?key=k"), 0o600))
	data := filepath.Join(t.TempDir(), "data")
	p := begin(t, program(t), "serve", "--origin", o.URL, "--policy", file, "--secrets", dir, "--data", data, "--edge", "127.0.0.1:0", "--control", "127.0.0.1:0")
	secret, err := os.ReadFile(filepath.Join(data, node.AdminTokenFile))
	require.NoError(t, err)
	token := strings.TrimSpace(string(secret))
	c := client.New(p.control, token)
	purge := func(tags ...string) {
		_, err := c.Purge(ctx, client.PurgeRequest{Tags: tags})
		require.NoError(t, err)
	}
	purge("a", "b")
	_, err = c.Purge(ctx, client.PurgeRequest{Routes: []string{"all"}})
	require.NoError(t, err)
	eventually(t, "it is told", func() bool { return o.heard() == "a b" })
	o.ill.Store(true)
	purge("c")
	purge("d")
	state := func() client.OnwardTarget {
		all, err := c.Onward(ctx)
		require.NoError(t, err)
		require.Len(t, all, 1)
		return all[0]
	}
	eventually(t, "it is failing", func() bool { return state().State == "failing" && state().Behind == 2 })
	assert.Equal(t, "it answered 503", state().LastError)
	assert.Equal(t, o.URL+"/purge", state().URL, "without what may be secret")
	eventually(t, "the node says so", func() bool {
		return strings.Contains(fetch(t, "GET", p.control+"/readyz", "").body, "ready, degraded: purges cannot be told onward to outer (it answered 503; 2 wait)")
	})
	r := runOn(p.control, token, "onward")
	assert.Contains(t, r.out, "failing")
	o.ill.Store(false)
	eventually(t, "all is told, in order", func() bool { return o.heard() == "a b|c|d" })
	eventually(t, "it is well", func() bool { return state().State == "ok" && state().Behind == 0 && state().LastAt != nil })
	eventually(t, "the node is well", func() bool { return fetch(t, "GET", p.control+"/readyz", "").body == "ready\n" })
	r = runOn(p.control, token, "onward", "skip", "outer")
	assert.Equal(t, "outer is not told of 0 purges\n", r.out)
	r = runOn(p.control, token, "onward", "skip", "inner")
	assert.Contains(t, r.errs, "gerastic onward lists them")

	for source, says := range map[string]string{
		strings.Replace(fmt.Sprintf(toldPolicy, o.URL), "outer.token", "outer.tokn", 1): "did you mean outer.token?",
		strings.Replace(fmt.Sprintf(toldPolicy, o.URL), "json .Tags", "json .Tag", 1):   "can't evaluate field Tag",
	} {
		_, err = c.ApplyPolicy(ctx, source, "")
		assert.ErrorContains(t, err, says)
	}
	read, err := c.CreateToken(ctx, "reader", []string{"read"}, "")
	require.NoError(t, err)
	shown, err := client.New(p.control, read.Secret).Policy(ctx)
	require.NoError(t, err)
	assert.Contains(t, shown.Source, "secret_file:outer.token")
	assert.NotContains(t, shown.Source, "of-the-outer-cache")
	_, err = client.New(p.control, read.Secret).SkipOnward(ctx, "outer")
	assert.Equal(t, 403, client.StatusOf(err))
}

// TestOneNodeTellsForAll: whichever node takes a purge, a target is told once, and when the node that
// tells ends, another goes on.
func TestOneNodeTellsForAll(t *testing.T) {
	t.Parallel()
	o, dir, url := newOuter(t), secretsFor(t), database(t, "onward")
	file := filepath.Join(t.TempDir(), "policy.yaml")
	origins := fmt.Sprintf("origins: [{ name: site, url: %q }]\nroutes:", o.URL)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(fmt.Sprintf(toldPolicy, o.URL), "routes:", origins, 1)), 0o600))
	const token = "one-node-tells-for-all"
	start := func(name string) *node.Node {
		return startNode(t, node.Settings{Name: name, Data: t.TempDir(), Database: url, PolicyFile: file, Secrets: dir, AdminToken: token})
	}
	a, b := start("a"), start("b")
	purge := func(n *node.Node, tag string) {
		_, err := client.New(n.ControlURL(), token).Purge(ctx, client.PurgeRequest{Tags: []string{tag}})
		require.NoError(t, err)
	}
	purge(a, "1")
	purge(b, "2")
	eventually(t, "both are told", func() bool { return o.heard() == "1|2" })
	o.ill.Store(true)
	purge(b, "3")
	eventually(t, "the node that does not tell says so, too", func() bool { return strings.Contains(b.Status().Degraded, "outer (it answered 503; 1 wait)") })
	a.Stop(ctx)
	purge(b, "4")
	o.ill.Store(false)
	eventually(t, "the other goes on", func() bool { return o.heard() == "1|2|3|4" })
}
