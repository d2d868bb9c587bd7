package test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/cli"
	"gerastic/internal/node"
)

// TestDevelopment: everybody sees keys and reasons, browsers ask each time, nobody is asked to confirm,
// and a policy is in force as soon as it is saved, if it is in order.
func TestDevelopment(t *testing.T) {
	t.Parallel()
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Cache-Control", "max-age=600")
		_, _ = w.Write([]byte("x"))
	}))
	defer site.Close()
	file := filepath.Join(t.TempDir(), "policy.yaml")
	save := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	save("version: 1\nroutes: [{ name: all, match: { path: \"/{x...}\" } }]\n")
	const token = "a token of this node"
	s := node.Settings{Name: "a", Data: t.TempDir(), Origin: site.URL, PolicyFile: file, AdminToken: token, Development: true}
	n := startNode(t, s)
	first := fetch(t, "GET", n.EdgeURL()+"/a", "")
	assert.Contains(t, first.header.Get("Cache-Status"), "detail=")
	again := fetch(t, "GET", n.EdgeURL()+"/a", "")
	assert.True(t, again.hit())
	assert.Contains(t, again.header.Get("Cache-Status"), "path=/a")
	assert.Equal(t, "max-age=0", again.header.Get("Cache-Control"))
	var out, errs strings.Builder
	assert.Zero(t, cli.Run([]string{"purge", "--all", "--control", n.ControlURL(), "--token", token}, &out, &errs), errs.String())

	p := exec.Command(program(t), "policy", "apply", file, "--watch", "--control", n.ControlURL(), "--token", token)
	said := filepath.Join(t.TempDir(), "said")
	log, err := os.Create(said)
	require.NoError(t, err)
	defer log.Close()
	p.Stdout, p.Stderr = log, log
	require.NoError(t, p.Start())
	defer func() { _ = p.Process.Signal(os.Interrupt); _ = p.Wait() }()
	says := func(text string) {
		require.Eventually(t, func() bool {
			now, err := os.ReadFile(said)
			return err == nil && strings.Contains(string(now), text)
		}, 20*time.Second, 10*time.Millisecond, text)
	}
	says("nothing is changed against revision 1")
	save("version: 1\nroutes: [{ name: all, match: { path: \"/{x...}\" } }, { name: new, match: { path: /new }, lifetme: {} }]\n")
	says(file + ":2:")
	says("unknown key \"lifetme\" in a route; did you mean \"lifetime\"?")
	says("what was in force stays")
	save("version: 1\nroutes: [{ name: all, match: { path: \"/{x...}\" }, compare: off }, { name: new, match: { path: /new } }]\n")
	says("(no note, by admin): new: new")
	assert.Contains(t, n.Revision().Source, "name: new")

	for _, address := range []string{"0.0.0.0:0", ":0", "192.0.2.1:80"} {
		s := settings(s)
		s.Data, s.Edge = t.TempDir(), address
		_, err := node.Start(ctx, s)
		assert.ErrorContains(t, err, "loopback addresses only")
	}
}
