package test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwa"
	"github.com/lestrrat-go/jwx/v3/jwt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/node"
)

// TestRolesShareWhatIsStored runs the real program with signed tokens and with sessions.
func TestRolesShareWhatIsStored(t *testing.T) {
	t.Parallel()
	var asked atomic.Int64
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/session/group" {
			asked.Add(1)
			if c, err := r.Cookie("session"); err == nil && c.Value == "captain" {
				w.Header().Set("Gerastic-Group", "crew")
			}
			return
		}
		fmt.Fprintf(w, "for %s, %s", r.Header.Get("Gerastic-Group"), r.Header.Get("Authorization"))
	}))
	defer site.Close()
	const secret = "of thirty-two bytes and some more"
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tokens"), []byte(secret), 0o600))
	file := filepath.Join(dir, "policy.yaml")
	require.NoError(t, os.WriteFile(file, []byte(`version: 1
routes:
  - { name: prices, match: { path: "/prices/{x...}" }, key: { group: { claim: role, from: authorization, keys: "secret_file:tokens" } }, lifetime: { fresh: 1h } }
  - { name: crew, match: { path: "/crew/{x...}" }, key: { group: { ask: /session/group, from: ["cookie:session"], keep: 5m } }, lifetime: { fresh: 1h } }
`), 0o600))
	const admin = "roles-share-what-is-stored"
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Origin: site.URL, PolicyFile: file, Secrets: dir, AdminToken: admin})
	sign := func(key, role string, ends time.Duration) string {
		token, err := jwt.NewBuilder().Claim("role", role).Expiration(time.Now().Add(ends)).Claim("jti", fmt.Sprint(time.Now().UnixNano())).Build()
		require.NoError(t, err)
		signed, err := jwt.Sign(token, jwt.WithKey(jwa.HS256(), []byte(key)))
		require.NoError(t, err)
		return "Authorization: Bearer " + string(signed)
	}
	ask := func(path string, headers ...string) page { return fetch(t, "GET", n.EdgeURL()+path, "", headers...) }
	editor := sign(secret, "editor", time.Minute)
	assert.Equal(t, "for editor, ", ask("/prices/1", editor).body)
	assert.True(t, ask("/prices/1", sign(secret, "editor", time.Hour)).hit(), "another of the role")
	assert.Equal(t, "for reader, ", ask("/prices/1", sign(secret, "reader", time.Minute)).body)
	for what, header := range map[string]string{"expired": sign(secret, "editor", -time.Second), "foreign": sign(secret+"!", "editor", time.Minute), "nobody": "X-Nothing: x", "said by the visitor": "Gerastic-Group: editor"} {
		got := ask("/prices/1", header)
		assert.False(t, got.hit(), what)
		assert.Contains(t, got.body, "for , ", what)
	}
	for range 3 {
		assert.Equal(t, "for crew, ", ask("/crew/1", "Cookie: session=captain").body)
		assert.Equal(t, "for , ", ask("/crew/1", "Cookie: session=guest").body)
	}
	assert.EqualValues(t, 2, asked.Load(), "once for each session")

	c := client.New(n.ControlURL(), admin)
	e, err := c.Explain(ctx, client.ExplainRequest{URL: n.EdgeURL() + "/prices/1", Headers: map[string][]string{"Authorization": {editor[len("Authorization: "):]}}})
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(e.Key), "Gerastic-Group")
	assert.NotContains(t, fmt.Sprint(e.Key), secret)
	e, err = c.Explain(ctx, client.ExplainRequest{URL: n.EdgeURL() + "/crew/1", Headers: map[string][]string{"Cookie": {"session=new"}}})
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(e.Why), "asked for it first")
	assert.EqualValues(t, 2, asked.Load(), "an explanation asks nobody")
}
