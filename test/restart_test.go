package test

import (
	"bufio"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/node"
	"gerastic/internal/records"
)

// built is the program, which is built once for all who run it.
var built = sync.OnceValues(func() (path string, err error) {
	path = filepath.Join(workshop, "gerastic")
	if out, err := exec.Command("go", "build", "-o", path, "gerastic/cmd/gerastic").CombinedOutput(); err != nil {
		return "", fmt.Errorf("building gerastic: %w: %s", err, out)
	}
	return path, nil
})

func program(t *testing.T) string {
	path, err := built()
	require.NoError(t, err)
	return path
}

type process struct {
	*exec.Cmd
	edge, control string
}

// begin starts the program and waits for its ready line.
func begin(t *testing.T, path string, args ...string) *process {
	p := &process{Cmd: exec.Command(path, args...)}
	out, err := p.StdoutPipe()
	require.NoError(t, err)
	var errs strings.Builder
	p.Stderr = &errs
	require.NoError(t, p.Start())
	t.Cleanup(p.end)
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil { // it ended without being ready
		_ = p.Wait()
		t.Fatal(errs.String())
	}
	_, err = fmt.Sscanf(line, "ready edge=%s control=%s", &p.edge, &p.control)
	require.NoError(t, err, line)
	go func() { _, _ = io.Copy(io.Discard, out) }()
	return p
}

// end lets the program end in order, with its database, whose directory is removed next.
func (p *process) end() {
	if p.ProcessState != nil {
		return // a test has waited for it
	}
	_ = p.Process.Signal(syscall.SIGTERM)
	late := time.AfterFunc(30*time.Second, func() { _ = p.Process.Kill() })
	defer late.Stop()
	_ = p.Wait()
}

func origin(t *testing.T, asked *atomic.Int64) string {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		_, _ = io.WriteString(w, "made for "+r.URL.Path)
	}))
	t.Cleanup(s.Close)
	return s.URL
}

func policyFile(t *testing.T, origin string) string {
	path := filepath.Join(t.TempDir(), "policy.yaml")
	require.NoError(t, os.WriteFile(path, []byte("version: 1\norigins: [{ name: site, url: "+origin+" }]\nroutes: [{ name: all, match: { path: \"/{x...}\" }, lifetime: { fresh: 1h }, tags: [\"path:{x}\"] }]\n"), 0o600))
	return path
}

// TestPromise8CrashAnywhere kills the real program without warning and starts it again:
// the ledger, the policy, the switches and the tokens are there, and the figures but
// for the last seconds.
func TestPromise8CrashAnywhere(t *testing.T) {
	t.Parallel()
	var asked atomic.Int64
	path, data := program(t), filepath.Join(t.TempDir(), "data")
	args := []string{"serve", "--private-database", "--data", data, "--policy", policyFile(t, origin(t, &asked)), "--edge", "127.0.0.1:0", "--control", "127.0.0.1:0", "--memory", "16MiB"}
	p := begin(t, path, args...)
	token, err := os.ReadFile(filepath.Join(data, node.AdminTokenFile))
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(data, node.AdminTokenFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	c := client.New(p.control, strings.TrimSpace(string(token)))
	for range 3 {
		fetch(t, "GET", p.edge+"/a", "")
	}
	purged, err := c.Purge(ctx, client.PurgeRequest{Tags: []string{"path:a"}, Reason: "before the crash"})
	require.NoError(t, err)
	require.EqualValues(t, 1, purged.Matched.Entries)
	require.NoError(t, c.SwitchRoute(ctx, "all", false))
	eventually(t, "the figures are in the database", func() bool {
		s, err := c.Ratio(ctx, client.RatioQuery{Since: "1h", Until: time.Now().UTC().Format(time.RFC3339), By: "total"})
		return err == nil && s.Total.Requests == 3
	})
	require.NoError(t, p.Process.Kill())
	_ = p.Wait()

	p = begin(t, path, args...)
	c = client.New(p.control, strings.TrimSpace(string(token)))
	purges, err := c.Purges(ctx, 0, 10)
	require.NoError(t, err)
	require.Len(t, purges, 1)
	assert.Equal(t, "before the crash", purges[0].Reason)
	routes, err := c.Routes(ctx, "1h")
	require.NoError(t, err)
	assert.Equal(t, "off", routes[0].Switch)
	assert.EqualValues(t, 3, routes[0].Figures.Requests)
	require.NoError(t, c.SwitchRoute(ctx, "all", true))
	purged, err = c.Purge(ctx, client.PurgeRequest{All: true})
	require.NoError(t, err)
	assert.EqualValues(t, 2, purged.Sequence, "the ledger goes on where it was")

	require.NoError(t, p.Process.Signal(syscall.SIGTERM))
	require.NoError(t, p.Wait(), "it stops in order")
	_, err = os.Stat(filepath.Join(data, "postgresql", "data", "postmaster.pid"))
	assert.ErrorIs(t, err, os.ErrNotExist, "and its database with it")
}

// settings are those of a node of a test.
func settings(s node.Settings) node.Settings {
	s.Edge, s.Control, s.Memory, s.Log = "127.0.0.1:0", "127.0.0.1:0", 16<<20, slog.New(slog.DiscardHandler)
	return s
}

func startNode(t *testing.T, s node.Settings) *node.Node {
	n, err := node.Start(ctx, settings(s))
	require.NoError(t, err)
	t.Cleanup(func() { n.Stop(ctx) })
	return n
}

// TestPromise4WithoutTheDatabase: a node that has served before starts and serves
// without PostgreSQL, says that it is degraded, and recovers by itself.
func TestPromise4WithoutTheDatabase(t *testing.T) {
	var asked atomic.Int64
	data := t.TempDir()
	url := database(t, "promise4")
	first := startNode(t, node.Settings{Name: "a", Data: data, Database: url, PolicyFile: policyFile(t, origin(t, &asked))})
	first.Stop(ctx)

	missing := fmt.Sprintf("not_there_%d", time.Now().UnixNano())
	lost := url[:strings.LastIndex(url, "/")+1] + missing + "?sslmode=disable"
	n := startNode(t, node.Settings{Name: "a", Data: data, Database: lost, ServeOn: true})
	for range 2 {
		assert.Equal(t, "made for /x", fetch(t, "GET", n.EdgeURL()+"/x", "").body)
	}
	assert.EqualValues(t, 1, asked.Load(), "it caches, too, if it is told to serve on")
	assert.Contains(t, fetch(t, "GET", n.ControlURL()+"/readyz", "").body, "ready, degraded: the database cannot be reached: no purges by call, no reports, no changes of policy; the ledger cannot be read: what is stored is served on")
	assert.Equal(t, 200, fetch(t, "POST", n.EdgeURL()+"/x", "").status)
	fetch(t, "GET", n.EdgeURL()+"/x", "")
	assert.EqualValues(t, 3, asked.Load(), "a write is forgotten here even when the ledger cannot take it")

	n.Stop(ctx)
	n = startNode(t, node.Settings{Name: "a", Data: data, Database: lost})
	for range 2 {
		p := fetch(t, "GET", n.EdgeURL()+"/x", "")
		assert.Equal(t, "made for /x", p.body)
		assert.False(t, p.hit(), "if not, it trusts nothing that it could not have been told about")
	}
	assert.Contains(t, fetch(t, "GET", n.ControlURL()+"/readyz", "").body, "everything is revalidated")
	_, err := company.Cluster.CreateDatabase(ctx, missing)
	require.NoError(t, err)
	eventually(t, "it finds the database", func() bool {
		return !strings.Contains(fetch(t, "GET", n.ControlURL()+"/readyz", "").body, "degraded")
	})
	fetch(t, "GET", n.EdgeURL()+"/x", "")
	assert.True(t, fetch(t, "GET", n.EdgeURL()+"/x", "").hit())

	_, err = node.Start(ctx, node.Settings{Name: "b", Data: t.TempDir(), Database: strings.Replace(lost, missing, missing+"2", 1), Edge: "127.0.0.1:0", Control: "127.0.0.1:0", Memory: 16 << 20, Log: slog.New(slog.DiscardHandler)})
	assert.ErrorContains(t, err, "no policy is kept")
}

// TestPromise3EveryNodeThatSharesTheLedger: what is ordered at one node is done at the
// other, too: purges, switches, policies and tokens.
func TestPromise3EveryNodeThatSharesTheLedger(t *testing.T) {
	t.Parallel()
	var asked atomic.Int64
	url := database(t, "promise3")
	const token = "a token for both nodes"
	a := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Database: url, AdminToken: token, PolicyFile: policyFile(t, origin(t, &asked))})
	b := startNode(t, node.Settings{Name: "b", Data: t.TempDir(), Database: url, AdminToken: token})
	warm := func() page {
		fetch(t, "GET", b.EdgeURL()+"/a", "")
		return fetch(t, "GET", b.EdgeURL()+"/a", "")
	}
	require.True(t, warm().hit())
	c := client.New(a.ControlURL(), token)
	for range 20 {
		purged, err := c.Purge(ctx, client.PurgeRequest{Tags: []string{"path:a"}})
		require.NoError(t, err)
		assert.False(t, fetch(t, "GET", b.EdgeURL()+"/a", "").hit(), "a purge is answered when every live node has applied it")
		require.Len(t, purged.Nodes, 2)
		assert.True(t, purged.Nodes[0].Applied && purged.Nodes[1].Applied)
		assert.EqualValues(t, 1, purged.Matched.Entries, "counted where it was stored")
	}
	nodes, err := c.Nodes(ctx)
	require.NoError(t, err)
	require.Len(t, nodes, 2)

	rec, err := records.Open(ctx, url)
	require.NoError(t, err)
	defer rec.Close()
	mute := records.Presence{Name: "mute", Started: time.Now().Truncate(time.Microsecond)}
	_, err = rec.Arrive(ctx, mute, 0, time.Time{}, time.Minute)
	require.NoError(t, err)
	purged, err := c.Purge(ctx, client.PurgeRequest{Tags: []string{"path:a"}})
	require.NoError(t, err)
	assert.Contains(t, purged.Nodes, client.PurgeNode{Node: "mute"}, "one that lives and has not applied it is named")
	require.NoError(t, rec.Depart(ctx, mute))
	b.Stop(ctx)
	purged, err = c.Purge(ctx, client.PurgeRequest{Tags: []string{"path:a"}})
	require.NoError(t, err)
	assert.Len(t, purged.Nodes, 1, "one that has stopped is not waited for")
	b = startNode(t, node.Settings{Name: "b", Data: t.TempDir(), Database: url, AdminToken: token})
	warm = func() page {
		fetch(t, "GET", b.EdgeURL()+"/a", "")
		return fetch(t, "GET", b.EdgeURL()+"/a", "")
	}
	require.True(t, warm().hit())
	_, err = node.Start(ctx, settings(node.Settings{Name: "b", Data: t.TempDir(), Database: url, AdminToken: token}))
	assert.ErrorIs(t, err, records.ErrNameTaken)
	db := connect(t, url)
	_, err = db.Exec(ctx, `update node set started = now() where name = 'b'`) // as one that was frozen finds it
	require.NoError(t, err)
	eventually(t, "a node whose name another one took trusts nothing: nobody waits for it", func() bool {
		return strings.Contains(fetch(t, "GET", b.ControlURL()+"/readyz", "").body, "everything is revalidated")
	})
	require.NoError(t, c.SwitchRoute(ctx, "*", false))
	eventually(t, "so do switches", func() bool { return !warm().hit() })
}

// TestReleasesOfBeforeTheStart: a release that comes while a node is down softens what the one before left
// on its disk.
func TestReleasesOfBeforeTheStart(t *testing.T) {
	var release atomic.Value
	release.Store("1")
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		time.Sleep(30 * time.Millisecond) // what costs less than a read from disk does not go there
		w.Header().Set("X-App-Release", release.Load().(string))
		_, _ = io.WriteString(w, release.Load().(string))
	}))
	defer site.Close()
	file := filepath.Join(t.TempDir(), "policy.yaml")
	require.NoError(t, os.WriteFile(file, []byte("version: 1\nroutes: [{ name: all, match: { path: \"/{x...}\" }, lifetime: { fresh: 1h }, compare: off, releases: \"header:X-App-Release\" }]\n"), 0o600))
	s := node.Settings{Name: "a", Data: t.TempDir(), PolicyFile: file, Origin: site.URL, Disk: 32 << 20, Database: database(t, "releases"), AdminToken: "releases-of-before"}
	n := startNode(t, s)
	assert.Equal(t, "1", ofPages(t, n.EdgeURL(), "/a").body)
	eventually(t, "the release is kept", func() bool {
		text, err := os.ReadFile(filepath.Join(s.Data, "releases.json"))
		return err == nil && strings.Contains(string(text), `"all":"1"`)
	})
	n.Stop(ctx)
	release.Store("2")
	n = startNode(t, s)
	assert.True(t, ofPages(t, n.EdgeURL(), "/a").hit(), "nothing is known of another release yet")
	ofPages(t, n.EdgeURL(), "/b")
	eventually(t, "what the older one left is renewed", func() bool { return ofPages(t, n.EdgeURL(), "/a").body == "2" })
}
