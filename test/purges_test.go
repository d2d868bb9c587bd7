package test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"
	"gerastic.example/client/protocol"

	"gerastic/internal/node"
)

// TestPurgesOfEveryKind orders each kind of purge by call, looks first, and finds that
// just what it names is gone, whatever the tags are called.
func TestPurgesOfEveryKind(t *testing.T) {
	long := strings.Repeat("æ", 512)
	odd := []string{"two words", `say "hello"`, `back\slash`, "fjærevær", "🚢", "port:*", long, "a,b;c=d"}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		names := []string{"page:" + r.URL.Path}
		if r.URL.Path == "/odd" {
			names = append(names, odd...)
		}
		if r.URL.Path == "/many" {
			for i := range 1001 {
				names = append(names, fmt.Sprint("n", i))
			}
		}
		w.Header().Set("Cache-Groups", protocol.FormatGroups(names))
		_, _ = w.Write([]byte(r.URL.String()))
	}))
	t.Cleanup(server.Close)
	file := filepath.Join(t.TempDir(), "policy.yaml")
	require.NoError(t, os.WriteFile(file, []byte(`version: 1
origins: [{ name: site, url: `+server.URL+` }]
routes:
  - { name: ports, match: { path: "/ports/{x}" }, lifetime: { fresh: 1h, stale_while_revalidate: 1h }, tags: [ports, "port:{x}"] }
  - { name: rest, match: { path: "/{x...}" }, lifetime: { fresh: 1h } }
`), 0o600))
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Database: database(t, "purges"), AdminToken: "a token of the test", PolicyFile: file})
	c := client.New(n.ControlURL(), "a token of the test")
	get := func(path, host string) page { return fetch(t, "GET", n.EdgeURL()+path, "", "Host: "+host) }
	type where struct{ path, host string }
	all := []where{{"/ports/a", "h"}, {"/ports/a?q=1", "h"}, {"/ports/b", "h"}, {"/ports/a", "g"}, {"/odd", "h"}}
	for name, c2 := range map[string]struct {
		order client.PurgeRequest
		gone  []where
	}{
		"a tag":                                 {client.PurgeRequest{Tags: []string{"port:a"}}, []where{all[0], all[1], all[3]}},
		"any of two tags":                       {client.PurgeRequest{Tags: []string{"port:b", "page:/odd"}}, []where{all[2], all[4]}},
		"two tags together":                     {client.PurgeRequest{Tags: []string{"ports", "port:b"}, Together: true}, []where{all[2]}},
		"a URL with its query":                  {client.PurgeRequest{URLs: []client.PurgeURL{{URL: "/ports/a?q=1"}}}, []where{all[1]}},
		"a URL on one host":                     {client.PurgeRequest{URLs: []client.PurgeURL{{URL: "http://g/ports/a"}}}, []where{all[3]}},
		"a URL in all its forms":                {client.PurgeRequest{URLs: []client.PurgeURL{{URL: "/ports/a", AnyQuery: true}}}, []where{all[0], all[1], all[3]}},
		"a route":                               {client.PurgeRequest{Routes: []string{"rest"}}, []where{all[4]}},
		"below a path":                          {client.PurgeRequest{Below: []string{"/ports/"}}, all[:4]},
		"below a path of one host":              {client.PurgeRequest{Below: []string{"http://h/ports/"}}, all[:3]},
		"a URL in an equivalent form":           {client.PurgeRequest{URLs: []client.PurgeURL{{URL: "http://g/odd/../p%6frts/a"}}}, []where{all[3]}},
		"below a path in an equivalent form":    {client.PurgeRequest{Below: []string{"/p%6Frts/"}}, all[:4]},
		"a host":                                {client.PurgeRequest{Hosts: []string{"G"}}, []where{all[3]}},
		"everything":                            {client.PurgeRequest{All: true}, all},
		"a name with a blank":                   {client.PurgeRequest{Tags: odd[:1]}, all[4:]},
		"a name with quotes":                    {client.PurgeRequest{Tags: odd[1:2]}, all[4:]},
		"a name with a slash":                   {client.PurgeRequest{Tags: odd[2:3]}, all[4:]},
		"a name with letters":                   {client.PurgeRequest{Tags: odd[3:4]}, all[4:]},
		"a picture":                             {client.PurgeRequest{Tags: odd[4:5]}, all[4:]},
		"a star is a star":                      {client.PurgeRequest{Tags: odd[5:6]}, all[4:]},
		"a name of 1 KiB":                       {client.PurgeRequest{Tags: odd[6:7]}, all[4:]},
		"a list that is a name":                 {client.PurgeRequest{Tags: odd[7:]}, all[4:]},
		"softened":                              {client.PurgeRequest{Tags: []string{"page:/odd"}, Mode: "stale"}, all[4:]},
		"softened, with stale while revalidate": {client.PurgeRequest{Tags: []string{"port:b"}, Mode: "stale"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			for _, w := range all {
				get(w.path, w.host)
				eventually(t, "it is stored", func() bool { return get(w.path, w.host).hit() })
			}
			c2.order.Preview = true
			preview, err := c.Purge(ctx, c2.order)
			require.NoError(t, err)
			for _, w := range all {
				assert.True(t, get(w.path, w.host).hit(), "looking changes nothing")
			}
			c2.order.Preview, c2.order.Reason = false, "a test"
			purged, err := c.Purge(ctx, c2.order)
			require.NoError(t, err)
			assert.Equal(t, preview.Matched.Entries, purged.Matched.Entries)
			assert.Equal(t, preview.Matched.Routes, purged.Matched.Routes)
			again, err := c.Purge(ctx, c2.order)
			require.NoError(t, err)
			assert.Zero(t, again.Matched.Entries, "the same purge again takes nothing")
			var gone []where
			for _, w := range all {
				if !get(w.path, w.host).hit() {
					gone = append(gone, w)
				}
			}
			assert.ElementsMatch(t, c2.gone, gone)
			kept, err := c.PurgeBySequence(ctx, purged.Sequence)
			require.NoError(t, err)
			assert.Equal(t, "a test", kept.Reason)
			assert.Equal(t, c2.order.Together, kept.Together)
		})
	}
	for range 2 {
		assert.False(t, get("/many", "h").hit(), "an answer whose tags had to be cut is not stored")
	}
	for says, order := range map[string]client.PurgeRequest{
		"is not a path to be below": {Below: []string{"ports"}},
		"is not a host":             {Hosts: []string{"http://h/"}},
		"together is about tags":    {All: true, Together: true},
		"has a NUL character":       {Tags: []string{"a\x00b"}},
		"a tag has 1 to 1024 bytes": {Tags: []string{long + "x"}},
	} {
		_, err := c.Purge(ctx, order)
		assert.ErrorContains(t, err, says)
	}

	// A star on the command line stands for the tags that are stored.
	get("/ports/a", "h")
	get("/ports/b", "h")
	run := func(args ...string) result { return runOn(n.ControlURL(), "a token of the test", args...) }
	r := run("purge", "--tag", "port:?", "--tag", "por*:b", "--preview")
	assert.Equal(t, 0, r.code, r.errs)
	assert.Contains(t, r.errs, "tags: port:?, port:b\n")
	assert.Contains(t, r.out, "would drop 1 entry")
	r = run("purge", "--tag", "ship:*", "--yes")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.errs, `no stored entry carries a tag like "ship:*"`)
	r = run("purge", "--tag", "port:*")
	assert.Equal(t, 2, r.code, "what stands for more than it says is asked about")
	r = run("purge", "--tag", "port:*", "--yes")
	assert.Contains(t, r.out, "dropped; in force on a")
	r = run("tags", "p*:*a", "-o", "csv")
	assert.NotContains(t, r.out, "port:b")
}
