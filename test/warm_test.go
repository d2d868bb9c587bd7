package test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/node"
)

// warmSite is a site whose pages say how often they were made.
type warmSite struct {
	*httptest.Server
	mu    sync.Mutex
	made  map[string]int
	under int
	most  int // at a time
	slow  time.Duration
	ill   bool
}

func newWarmSite(t *testing.T) *warmSite {
	s := &warmSite{made: map[string]int{}}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		s.under++
		s.most = max(s.most, s.under)
		slow, ill := s.slow, s.ill
		s.made[r.URL.RequestURI()+" "+r.Header.Get("Accept-Language")]++
		n := s.made[r.URL.RequestURI()+" "+r.Header.Get("Accept-Language")]
		s.mu.Unlock()
		time.Sleep(slow)
		if ill {
			w.WriteHeader(500)
		}
		w.Header().Set("Vary", "Accept-Language")
		fmt.Fprintf(w, "%s %d", r.URL.RequestURI(), n)
		s.mu.Lock()
		s.under--
		s.mu.Unlock()
	}))
	t.Cleanup(s.Close)
	return s
}

func (s *warmSite) of(page string) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.made[page]
}

func (s *warmSite) set(change func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	change()
}

// TestWhatIsKeptWarm: what visitors asked for, and what the policy names, is there at the start, after a
// purge, and when its life would have ended; counted as primed, and at most a quarter of the origin's
// connections are used.
func TestWhatIsKeptWarm(t *testing.T) {
	t.Parallel()
	site := newWarmSite(t)
	file := filepath.Join(t.TempDir(), "policy.yaml")
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, `version: 1
origins: [{ name: site, url: %q, hosts: [site.example], max_connections: 8 }]
routes:
  - { name: people, match: { path: "/people" }, lifetime: { fresh: 1h }, key: { query: { only: [page] } }, keep_warm: { asked_within: 1d, urls: ["/people?page=1"] }, compare: off }
  - { name: short, match: { path: "/short/{x}" }, lifetime: { fresh: 2s }, keep_warm: { asked_within: 8s }, compare: off }
  - { name: many, match: { path: "/many/{x}" }, lifetime: { fresh: 1h }, tags: [many], keep_warm: true, compare: off }
  - { name: cold, match: { path: "/cold" }, lifetime: { fresh: 1h }, compare: off }
`, site.URL), 0o600))
	const token = "what-is-kept-warm"
	settings := node.Settings{Name: "a", Data: t.TempDir(), PolicyFile: file, AdminToken: token}
	n := startNode(t, settings)
	get := func(path string, headers ...string) page {
		return fetch(t, "GET", n.EdgeURL()+path, "", append(headers, "Host: site.example")...)
	}
	purge := func(request client.PurgeRequest) {
		_, err := client.New(n.ControlURL(), token).Purge(ctx, request)
		require.NoError(t, err)
	}
	eventually(t, "what is named is filled at the start", func() bool { return site.of("/people?page=1 ") == 1 })
	eventually(t, "and is a hit", func() bool { return get("/people?page=1&utm=x").hit() })

	get("/people?page=2", "Accept-Language: en")
	get("/cold")
	purge(client.PurgeRequest{All: true})
	eventually(t, "what was asked for comes back", func() bool { return site.of("/people?page=2 en") == 2 && site.of("/people?page=1 ") == 2 })
	eventually(t, "as it was asked for", func() bool { return get("/people?page=2", "Accept-Language: en").hit() })
	assert.Equal(t, 1, site.of("/cold "), "another route is not kept warm")

	get("/short/1")
	for until := time.Now().Add(5 * time.Second); time.Now().Before(until); time.Sleep(100 * time.Millisecond) {
		if got := get("/short/1"); !assert.True(t, got.hit(), got.body) {
			break
		}
	}
	assert.Greater(t, site.of("/short/1 "), 2, "it was renewed before its end")
	eventually(t, "after a time nobody asks for it", func() bool {
		before := site.of("/short/1 ")
		time.Sleep(3 * time.Second)
		return site.of("/short/1 ") == before
	})

	site.set(func() { site.slow = 20 * time.Millisecond })
	var all sync.WaitGroup
	for i := range 40 {
		all.Go(func() { get(fmt.Sprint("/many/", i)) })
	}
	all.Wait()
	site.set(func() { site.most = 0 })
	purge(client.PurgeRequest{Tags: []string{"many"}})
	eventually(t, "all come back", func() bool {
		for i := range 40 {
			if site.of(fmt.Sprintf("/many/%d ", i)) != 2 {
				return false
			}
		}
		return true
	})
	site.set(func() { assert.LessOrEqual(t, site.most, 2, "a quarter of its connections") })
	eventually(t, "they are counted as primed", func() bool {
		report, err := client.New(n.ControlURL(), token).Ratio(ctx, client.RatioQuery{By: "total", Since: "1h", Route: "many"})
		return err == nil && report.Total.Primed == 40 && report.Total.Requests == 40
	})

	site.set(func() { site.slow, site.ill = 0, true })
	before := site.of("/many/1 ")
	purge(client.PurgeRequest{URLs: []client.PurgeURL{{URL: "/many/1"}}})
	eventually(t, "it is tried", func() bool { return site.of("/many/1 ") > before })
	time.Sleep(2 * time.Second)
	assert.LessOrEqual(t, site.of("/many/1 "), before+4, "and again, ever later")
	site.set(func() { site.ill = false })
	eventually(t, "until it is well", func() bool { return get("/many/1").hit() })

	n.Stop(ctx)
	made := site.of("/many/2 ")
	n = startNode(t, settings)
	eventually(t, "what was asked for before the start is filled again", func() bool { return site.of("/many/2 ") > made })
}

func TestMistakesOfKeepingWarm(t *testing.T) {
	site := newWarmSite(t)
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Origin: site.URL, AdminToken: "mistakes-of-keeping-warm"})
	c := client.New(n.ControlURL(), "mistakes-of-keeping-warm")
	for warm, says := range map[string]string{
		"{}": "keep_warm names nothing", "yes": "must be a mapping", "{ asked_within: 0s }": "from 1s to 90d", "{ asked_wihtin: 1d }": `did you mean "asked_within"`,
		"{ urls: [/people] }": "may be on any host", "{ urls: [\"http://site.example/other\"] }": "is not of the route r: the path differs", "{ urls: [people] }": "is no URL",
		"{ urls: [\"ftp://site.example/people\"] }": "is no URL", "{ fragments: [\"a b\"] }": "is no fragment's name",
	} {
		_, err := c.ApplyPolicy(ctx, "version: 1\nroutes: [{ name: r, match: { path: /people }, keep_warm: "+warm+" }]\n", "")
		assert.ErrorContains(t, err, says, warm)
	}
	for _, warm := range []string{"true", "false", "{ urls: [\"http://site.example/people?x=1\"] }"} {
		_, err := c.ApplyPolicy(ctx, "version: 1\nroutes: [{ name: r, match: { path: /people }, keep_warm: "+warm+" }]\n", "")
		assert.NoError(t, err, warm)
	}
	_, err := c.ApplyPolicy(ctx, "version: 1\nroutes: [{ name: r, match: { path: /people, hosts: [site.example] }, keep_warm: { urls: [/people] } }]\n", "")
	assert.NoError(t, err)
}

// TestFragmentsAreKeptWarm: an application is told which of its fragments to fill, after a purge and before
// they end; as long as somebody asked for them lately, and each once.
func TestFragmentsAreKeptWarm(t *testing.T) {
	t.Parallel()
	site := newWarmSite(t)
	const admin = "fragments-are-kept-warm"
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Origin: site.URL, AdminToken: admin})
	c := client.New(n.ControlURL(), admin)
	_, err := c.ApplyPolicy(ctx, "version: 1\nroutes: [{ name: all, match: { path: \"/{x...}\" }, keep_warm: { asked_within: 6s, fragments: [card, other/row] } }]\n", "")
	require.NoError(t, err)
	made, err := c.CreateToken(ctx, "shop", []string{"fragments"}, "shop")
	require.NoError(t, err)
	f := client.New(n.ControlURL(), made.Secret).Fragments(client.FragmentOptions{})
	var mu sync.Mutex
	filled := map[string]int{}
	fill := func(ctx context.Context, name string, life time.Duration, part any) error {
		_, err := f.LoadOrFill(ctx, client.Fragment{Name: name, Parts: []any{part}, Lifetime: life, Tags: []string{name}}, func(context.Context) ([]byte, error) {
			mu.Lock()
			defer mu.Unlock()
			filled[fmt.Sprint(name, part)]++
			return []byte("x"), nil
		})
		return err
	}
	count := func(what string) int {
		mu.Lock()
		defer mu.Unlock()
		return filled[what]
	}
	require.NoError(t, fill(ctx, "card", time.Hour, "a"))
	require.NoError(t, fill(ctx, "row", time.Hour, "b"))
	all, err := f.Wanted(ctx, 0)
	require.NoError(t, err)
	assert.Empty(t, all, "what is fresh is not wanted")
	_, err = c.Purge(ctx, client.PurgeRequest{All: true})
	require.NoError(t, err)
	all, err = f.Wanted(ctx, 10*time.Second)
	require.NoError(t, err)
	assert.Equal(t, []client.WantedFragment{{Namespace: "shop", Name: "card", Key: `card("a")`}}, all, "rows are those of another application")
	all, err = f.Wanted(ctx, 0)
	require.NoError(t, err)
	assert.Empty(t, all, "it was told to somebody")

	life, end := context.WithCancel(ctx)
	ended := make(chan error)
	go func() {
		ended <- f.KeepWarm(life, map[string]func(context.Context, []any) error{"card": func(ctx context.Context, parts []any) error {
			return fill(ctx, "card", 2*time.Second, parts[0])
		}})
	}()
	require.NoError(t, fill(ctx, "card", 2*time.Second, "a"))
	assert.Equal(t, 2, count("carda"))
	eventually(t, "it is filled before it ends", func() bool { return count("carda") >= 4 })
	eventually(t, "until nobody has asked for a while", func() bool {
		before := count("carda")
		time.Sleep(3 * time.Second)
		return count("carda") == before
	})
	end()
	assert.ErrorIs(t, <-ended, context.Canceled)
	for path, says := range map[string]string{"?wait=x": "wait", "?limit=0": "limit", "?nope=1": "no parameter"} {
		got := fetch(t, "GET", n.ControlURL()+"/v1/fragments/wanted"+path, "", "Authorization: Bearer "+made.Secret)
		assert.Equal(t, 400, got.status)
		assert.Contains(t, got.body, says)
	}
}
