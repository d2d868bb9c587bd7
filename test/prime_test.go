package test

import (
	"compress/gzip"
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
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/node"
)

// harbour is a small site with a sitemap, a page that is missing and one that nobody may store.
type harbour struct {
	*httptest.Server
	asked, under, most atomic.Int64
	mu                 sync.Mutex
	took               time.Duration
}

func newHarbour(t *testing.T) *harbour {
	h := &harbour{took: 2 * time.Millisecond}
	h.Server = httptest.NewServer(http.HandlerFunc(h.serve))
	t.Cleanup(h.Close)
	return h
}

func (h *harbour) serve(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/sitemap.xml":
		fmt.Fprintf(w, `<sitemapindex xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><sitemap><loc>http://harbour.test/packed.xml.gz</loc></sitemap></sitemapindex>`)
		return
	case "/packed.xml.gz":
		packed := gzip.NewWriter(w)
		fmt.Fprint(packed, `<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url><loc>http://harbour.test/pages/1</loc></url><url><loc> http://harbour.test/pages/2?a=1&amp;b=2 </loc></url></urlset>`)
		packed.Close()
		return
	}
	h.asked.Add(1)
	now := h.under.Add(1)
	defer h.under.Add(-1)
	for most := h.most.Load(); now > most && !h.most.CompareAndSwap(most, now); most = h.most.Load() {
	}
	h.mu.Lock()
	took := h.took
	h.mu.Unlock()
	time.Sleep(took)
	switch {
	case strings.HasPrefix(r.URL.Path, "/missing"):
		http.NotFound(w, r)
	case strings.HasPrefix(r.URL.Path, "/private"):
		w.Header().Set("Cache-Control", "private")
		_, _ = io.WriteString(w, "mine")
	default:
		w.Header().Set("Cache-Control", "max-age=600")
		_, _ = io.WriteString(w, "page "+r.URL.RequestURI())
	}
}

// ended waits for a job.
func ended(t *testing.T, c *client.Client, p client.Prime) client.Prime {
	eventually(t, "the prime ends", func() bool {
		var err error
		p, err = c.PrimeOf(ctx, p.ID)
		return err == nil && p.State != "running"
	})
	return p
}

// TestPriming fills the store from URLs and sitemaps, at a pace, without counting visitors, and brings
// back what was asked for most before a restart.
func TestPriming(t *testing.T) {
	h := newHarbour(t)
	const token = "a token for priming"
	policy := filepath.Join(t.TempDir(), "policy.yaml")
	require.NoError(t, os.WriteFile(policy, []byte("version: 1\norigins: [{ name: site, url: "+h.URL+" }]\nroutes:\n  - { name: rare, match: { path: \"/rare/{x}\" }, admit: { after: 2 } }\n  - { name: all, match: { path: \"/{x...}\" } }\n"), 0o600))
	data, url := t.TempDir(), database(t, "priming")
	start := func() (*node.Node, *client.Client) {
		n := startNode(t, node.Settings{Name: "a", Data: data, Database: url, AdminToken: token, PolicyFile: policy})
		return n, client.New(n.ControlURL(), token)
	}
	n, c := start()
	get := func(path string) page { return fetch(t, "GET", n.EdgeURL()+path, "", "Host: harbour.test") }
	get("/pages/there")
	begun, err := c.Prime(ctx, client.PrimeRequest{
		URLs:    []string{"http://harbour.test/pages/there", "http://harbour.test/rare/1", "http://harbour.test/missing", "http://harbour.test/private", "http://harbour.test/pages/1"},
		Sitemap: "http://harbour.test/sitemap.xml", Pace: "200/s",
	})
	require.NoError(t, err)
	p := ended(t, c, begun)
	assert.Equal(t, "done", p.State)
	assert.Equal(t, [6]int{6, 6, 3, 1, 1, 1}, [6]int{p.Wanted, p.Done, p.Filled, p.Fresh, p.Failed, p.Skipped}, "%+v", p)
	assert.Equal(t, []client.PrimeError{{URL: "http://harbour.test/missing", Status: 404, Error: "Not Found"}}, p.Errors)
	for _, path := range []string{"/pages/1", "/pages/2?a=1&b=2", "/rare/1"} {
		assert.True(t, get(path).hit(), path)
	}
	ratio, err := c.Ratio(ctx, client.RatioQuery{Since: "1h", By: "total"})
	require.NoError(t, err)
	assert.EqualValues(t, 4, ratio.Total.Requests, "visitors' requests alone")
	assert.EqualValues(t, 7, ratio.Total.Primed, "five URLs, and two sitemaps")

	anew := false
	began := time.Now()
	begun, err = c.Prime(ctx, client.PrimeRequest{URLs: many("http://harbour.test/pages/n", 20), Pace: "40/s", OnlyMissing: &anew})
	require.NoError(t, err)
	assert.Equal(t, 20, ended(t, c, begun).Filled)
	assert.Greater(t, time.Since(began), 400*time.Millisecond, "twenty at forty a second")
	before := h.asked.Load()
	begun, err = c.Prime(ctx, client.PrimeRequest{URLs: many("http://harbour.test/pages/n", 20), OnlyMissing: &anew})
	require.NoError(t, err)
	assert.Equal(t, 20, ended(t, c, begun).Filled)
	assert.EqualValues(t, 20, h.asked.Load()-before, "what is fresh is asked for anew if that is wanted")

	begun, err = c.Prime(ctx, client.PrimeRequest{URLs: many("http://harbour.test/pages/slow", 500), Pace: "1/s"})
	require.NoError(t, err)
	stopped, err := c.StopPrime(ctx, begun.ID)
	require.NoError(t, err)
	assert.Equal(t, "stopped", stopped.State)
	assert.Equal(t, "stopped", ended(t, c, begun).State)
	for _, bad := range []client.PrimeRequest{{}, {URLs: []string{"ports"}}, {URLs: []string{"/x"}, Pace: "fast"}, {URLs: []string{"/x"}, Routes: []string{"al"}}} {
		_, err := c.Prime(ctx, bad)
		assert.Equal(t, 422, client.StatusOf(err), "%+v", bad)
	}
	begun, err = c.Prime(ctx, client.PrimeRequest{Sitemap: "http://harbour.test/pages/1"})
	require.NoError(t, err)
	failed := ended(t, c, begun)
	assert.Equal(t, "failed", failed.State)
	assert.Contains(t, failed.Errors[0].Error, "not XML")

	n.Stop(ctx)
	n, c = start()
	assert.False(t, fetch(t, "HEAD", n.EdgeURL()+"/pages/nothing", "", "Host: harbour.test", "Cache-Control: only-if-cached").hit())
	begun, err = c.Prime(ctx, client.PrimeRequest{Previous: true})
	require.NoError(t, err)
	assert.Greater(t, ended(t, c, begun).Filled, 20)
	assert.True(t, get("/pages/1").hit())
}

func many(prefix string, n int) (urls []string) {
	for i := range n {
		urls = append(urls, fmt.Sprint(prefix, i))
	}
	return urls
}
