// Package test runs the real thing: the service on loopback, called through its client,
// its commands, plain HTTP and the console in a browser.
package test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/console"
	"gerastic/demo"
	"gerastic/internal/node"
)

var ctx = context.Background()

// company is a demo that runs for all tests that do not need one of their own: without
// visitors and editors, and without simulated costs.
var company *demo.Demo

// workshop is a directory for what tests build for each other.
var workshop string

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "gerastic-test-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		workshop = dir
		company, err = demo.Start(ctx, demo.Options{
			Node:   node.Settings{Data: dir, Edge: "127.0.0.1:0", Control: "127.0.0.1:0", Memory: 32 << 20, Console: console.Files(), Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError}))},
			Origin: "127.0.0.1:0", History: true, Command: "gerastic",
		})
		if err != nil {
			panic(err)
		}
		defer company.Stop(ctx)
		return m.Run()
	}())
}

func api() *client.Client { return client.New(company.Node.ControlURL(), company.Token) }

type page struct {
	status int
	header http.Header
	body   string
}

func (p page) hit() bool { return strings.Contains(p.header.Get("Cache-Status"), "gerastic; hit") }

func fetch(t testing.TB, method, url, body string, headers ...string) page {
	req, err := http.NewRequest(method, url, strings.NewReader(body))
	require.NoError(t, err)
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		if name == "Host" {
			req.Host = value
		}
		req.Header.Add(name, value)
	}
	resp, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return page{resp.StatusCode, resp.Header, string(text)}
}

func visit(t testing.TB, path string, headers ...string) page {
	return fetch(t, http.MethodGet, company.Node.EdgeURL()+path, "", headers...)
}

// desk edits a sailing at the application itself, as the operations desk does.
func desk(t testing.TB, sailing, edit string) page {
	p := fetch(t, http.MethodPost, company.Origin+"/desk/sailings/"+sailing, edit, "Content-Type: application/json")
	require.Equal(t, 200, p.status, p.body)
	return p
}

// aSailing returns the number of one that a port's page shows, and the page's path.
func aSailing(t testing.TB) (path, id string) {
	path = "/ports/tholm/departures" // its hits are not compared, so that renders can be counted
	_, after, ok := strings.Cut(visit(t, path).body, `href="/sailings/`)
	require.True(t, ok, "the page shows no sailing")
	id, _, _ = strings.Cut(after, `"`)
	return path, id
}

func renders(t testing.TB) int64 {
	var c struct{ Renders int64 }
	require.NoError(t, json.Unmarshal([]byte(fetch(t, http.MethodGet, company.Origin+"/desk/counters", "").body), &c))
	return c.Renders
}

func eventually(t testing.TB, what string, ok func() bool) {
	require.Eventually(t, ok, 15*time.Second, 50*time.Millisecond, what)
}

// database makes a database of its own for a test, and returns its connection string.
func database(t testing.TB, name string) string {
	url, err := company.Cluster.CreateDatabase(ctx, fmt.Sprintf("%s_%d", name, time.Now().UnixNano()))
	require.NoError(t, err)
	return url
}
