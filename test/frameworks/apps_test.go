// Package frameworks puts small applications, in frameworks as they come, behind a node:
// what works without Gerastic works behind it, and nobody gets what was made for another.
package frameworks

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"gerastic/internal/localpg"
	"gerastic/internal/node"
)

// app is one application: how it is started on a port, and the cookie of its sessions.
type app struct {
	name    string
	dir     string
	command []string // PORT stands for the port
	session string
	// asks says that its static files are no-cache, so that each use is confirmed.
	asks bool
}

var apps = []app{
	{"express", "express", []string{"node", "app.js"}, "connect.sid", false},
	{"koa", "koa", []string{"node", "app.js"}, "koa.sess", false},
	{"fastify", "fastify", []string{"node", "app.js"}, "sessionId", false},
	{"flask", "flask", []string{"/usr/bin/gunicorn", "--bind", "127.0.0.1:PORT", "--threads", "16", "--log-level", "error", "app:app"}, "session", true},
	{"sinatra", "sinatra", []string{"puma", "-q", "-t", "16:16", "-b", "tcp://127.0.0.1:PORT"}, "rack.session", false},
}

// documented is the policy that docs/frameworks.md has for the application, for its origin.
func (a app) documented(t *testing.T, origin string) string {
	text, err := os.ReadFile("../../docs/frameworks.md")
	require.NoError(t, err)
	_, section, found := strings.Cut(strings.ToLower(string(text)), "\n## "+a.name+"\n")
	require.True(t, found, "docs/frameworks.md has no %s", a.name)
	start := len(text) - len(section)
	_, rest, _ := strings.Cut(string(text)[start:], "```yaml\n")
	source, _, _ := strings.Cut(rest, "```")
	return regexp.MustCompile(`http://127\.0\.0\.1:\d+`).ReplaceAllString(source, origin)
}

// keptForEach is the policy that keeps each visitor's pages for them although they change with
// what the visitor does: policy check warns of it, since messages come twice.
const keptForEach = "the key holds who asks, and the policy states the life"

// policies are what the applications stand behind, besides what is documented. COOKIE is
// the application's session.
var policies = map[string]string{
	"the origin decides": `
routes:
  - { name: all, match: { path: "/{x...}" } }
`,
	"as documented": "as documented",
	keptForEach: `
routes:
  - { name: static, match: { path: "/static/{x...}" }, lifetime: { fresh: 10m, source: policy }, admit: { cookies: strip } }
  - { name: all, match: { path: "/{x...}" }, key: { identity: "cookie:COOKIE" }, lifetime: { fresh: 10m } }
`,
	"the policy states the life": `
visitors: { signed_in: ["cookie:COOKIE"] }
routes:
  - { name: static, match: { path: "/static/{x...}" }, lifetime: { fresh: 10m, source: policy }, admit: { cookies: strip }, signed_in: shared }
  - { name: all, match: { path: "/{x...}" }, lifetime: { fresh: 10m } }
`,
	"the key holds who asks": `
routes:
  - { name: static, match: { path: "/static/{x...}" }, lifetime: { fresh: 10m, source: policy }, admit: { cookies: strip } }
  - { name: all, match: { path: "/{x...}" }, key: { identity: "cookie:COOKIE" } }
`,
}

var cluster *localpg.Cluster

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "gerastic-frameworks-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		if cluster, err = localpg.Start(context.Background(), localpg.Options{Dir: dir, Throwaway: true}); err != nil {
			panic(err)
		}
		defer cluster.Stop()
		return m.Run()
	}())
}

// start runs an application until the test ends, and returns its address.
func (a app) start(t *testing.T) string {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, _ := net.SplitHostPort(listener.Addr().String())
	listener.Close()
	args := make([]string, len(a.command))
	for i, arg := range a.command {
		args[i] = strings.ReplaceAll(arg, "PORT", port)
	}
	command := exec.Command(args[0], args[1:]...)
	command.Dir = a.dir
	command.Env = append(os.Environ(), "PORT="+port)
	command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	var said strings.Builder
	command.Stdout, command.Stderr = io.Discard, &said
	require.NoError(t, command.Start(), "make test installs what %s needs", a.name)
	ended := make(chan error, 1)
	go func() { ended <- command.Wait() }()
	t.Cleanup(func() {
		_ = syscall.Kill(-command.Process.Pid, syscall.SIGKILL)
		<-ended
	})
	address := "http://127.0.0.1:" + port
	require.Eventually(t, func() bool {
		select {
		case err := <-ended:
			ended <- err
			t.Fatalf("%s ended: %v\n%s", a.name, err, said.String())
		default:
		}
		resp, err := http.Get(address + "/open")
		if err == nil {
			resp.Body.Close()
		}
		return err == nil
	}, 30*time.Second, 50*time.Millisecond, "%s does not answer", a.name)
	return address
}

// behind starts a node in front of an application, and returns the address of its edge.
func behind(t *testing.T, a app, origin, rules string) string {
	source := "version: 1\norigins: [{ name: site, url: \"" + origin + "\" }]\n" + strings.ReplaceAll(rules, "COOKIE", a.session)
	if rules == "as documented" {
		source = a.documented(t, origin)
	}
	dir := t.TempDir()
	file := filepath.Join(dir, "policy.yaml")
	require.NoError(t, os.WriteFile(file, []byte(source), 0o600))
	database, err := cluster.CreateDatabase(context.Background(), fmt.Sprintf("%s_%d", a.name, time.Now().UnixNano()))
	require.NoError(t, err)
	n, err := node.Start(context.Background(), node.Settings{
		Name: "a", Data: dir, Edge: "127.0.0.1:0", Control: "127.0.0.1:0", Memory: 32 << 20, Database: database, PolicyFile: file,
		Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError})),
	})
	require.NoError(t, err)
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		n.Stop(ctx)
	})
	return n.EdgeURL()
}
