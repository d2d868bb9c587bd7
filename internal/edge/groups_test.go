package edge

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/policy"
)

// tokens are those that hold, until when, and what they say.
type tokens map[string]struct {
	group string
	until time.Time
}

func (k tokens) Value(_ context.Context, token string, _ policy.Claim, now time.Time) (string, time.Time, bool) {
	t, ok := k[token]
	return t.group, t.until, ok && now.Before(t.until)
}

const groupsYAML = `visitors: { signed_in: ["cookie:session", "cookie:auth_*"] }
routes:
  - { name: prices, match: { path: "/prices/{x...}" }, key: { group: { claim: role, from: [authorization, "cookie:token"], keys: /keys } }, lifetime: { fresh: 1h } }
  - { name: said, match: { path: "/said/{x...}" }, key: { group: { claim: role, from: authorization, keys: /keys, nobody: shared } } }
  - { name: asked, match: { path: "/asked/{x...}" }, key: { group: { ask: "/session/group?short", from: ["cookie:session"], keep: 5m } } }
  - { name: open, match: { path: "/open/{x...}" }, key: { group: { ask: /session/group, from: ["cookie:session"], nobody: shared } }, lifetime: { fresh: 1h } }
  - { name: shop, match: { path: "/shop" }, compose: true, lifetime: { fresh: 1h } }
  - { name: any, match: { path: "/{x...}" }, lifetime: { fresh: 1h } }
`

// groupsRig is a site that shows what reaches it of a visitor, and knows the groups of sessions.
func groupsRig(t *testing.T, answer http.HandlerFunc) (s *rig, k tokens) {
	s = newRigOf(t, groupsYAML, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=600")
		w.Header().Set("Vary", "Gerastic-Group, Authorization")
		answer(w, r)
	})
	k = tokens{}
	for _, route := range s.edge.Policy().Routes {
		if route.Group != nil && route.Group.Ask == "" {
			route.Group.Keys = k
		}
	}
	return s, k
}

// shows is a page that says what it was made of.
func shows(w http.ResponseWriter, r *http.Request) {
	fmt.Fprintf(w, "group=%s authorization=%s cookie=%s", strings.Join(r.Header["Gerastic-Group"], "|"), r.Header.Get("Authorization"), r.Header.Get("Cookie"))
	for name := range r.Header {
		if strings.Contains(name, "_") {
			fmt.Fprint(w, " "+name)
		}
	}
}

// TestGroupsShareEntries: who is of one group shares what is stored, whatever their token; the origin sees
// the group and not who it is; who has none, or says so themselves, passes.
func TestGroupsShareEntries(t *testing.T) {
	s, k := groupsRig(t, shows)
	soon := s.now().Add(time.Minute)
	for token, group := range map[string]string{"t1": "editor", "t2": "editor", "t3": "reader", "odd": "a\nb"} {
		k[token] = struct {
			group string
			until time.Time
		}{group, soon}
	}
	bearer := func(token string) string { return "Authorization: Bearer " + token }
	for _, c := range []struct {
		path, header, body string
		hit                bool
	}{
		{"/prices/1", bearer("t1"), "group=editor authorization= cookie=", false},
		{"/prices/1", bearer("t2"), "group=editor authorization= cookie=", true},
		{"/prices/1", "Cookie: token=t1; other=x", "group=editor authorization= cookie=", true},
		{"/prices/1", bearer("t3"), "group=reader authorization= cookie=", false},
		{"/prices/1", "", "group= authorization= cookie=", false},
		{"/prices/1", "Gerastic-Group: editor", "group= authorization= cookie=", false},
		{"/prices/1", "gerastic_group: editor", "group= authorization= cookie=", false},
		{"/prices/1", bearer("forged"), "group= authorization=Bearer forged cookie=", false},
		{"/prices/1", bearer("odd"), "group= authorization=Bearer odd cookie=", false},
		{"/prices/1", "Authorization: Basic t1", "group= authorization=Basic t1 cookie=", false},
		{"/prices/1", "Cookie: token=t1; auth_b=1", "group=editor authorization= cookie=token=t1; auth_b=1", false},
		{"/said/1", bearer("t1"), "group=editor authorization= cookie=", false},
		{"/said/1", bearer("t2"), "group=editor authorization= cookie=", true},
		{"/said/1", bearer("forged"), "group= authorization= cookie=", false},
		{"/said/1", "", "group= authorization= cookie=", true},
		{"/said/1", bearer("t3"), "group=reader authorization= cookie=", false},
		{"/else", "Gerastic-Group: editor", "group= authorization= cookie=", false},
	} {
		var headers []string
		if c.header != "" {
			headers = []string{c.header}
		}
		got := s.get(c.path, headers...)
		assert.Equal(t, c.body, got.body, "%s %s", c.path, c.header)
		assert.Equal(t, c.hit, got.hit(), "%s %s", c.path, c.header)
		if strings.HasPrefix(c.body, "group=") && c.body != "group= authorization= cookie=" && !strings.Contains(c.body, "Bearer") && !strings.Contains(c.body, "Basic") {
			assert.Equal(t, "private, max-age=600", got.header.Get("Cache-Control"), "no other cache can tell whose it is")
		}
	}
	s.pass(2 * time.Minute) // the tokens have expired
	assert.Equal(t, "group= authorization=Bearer t1 cookie=", s.get("/prices/1", bearer("t1")).body)
}

// TestOriginsAreAskedForGroups: once for a session however many ask at once, for as long as that is kept;
// what is no plain yes is nobody's; a failure is asked about again.
func TestOriginsAreAskedForGroups(t *testing.T) {
	var mu sync.Mutex
	asked, status, group := 0, 200, "crew"
	var s *rig
	s, _ = groupsRig(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/session/group" {
			shows(w, r)
			return
		}
		s.meet()
		mu.Lock()
		defer mu.Unlock()
		asked++
		assert.Empty(t, r.Header.Get("X-Other"))
		assert.Equal(t, "GET", r.Method)
		if r.URL.RawQuery == "short" {
			assert.NotContains(t, r.Header.Get("Cookie"), "other")
		}
		w.Header().Set("Gerastic-Group", group)
		w.WriteHeader(status)
		_, _ = io.WriteString(w, "ignored")
	})
	says := func(code int, name string) {
		mu.Lock()
		defer mu.Unlock()
		status, group = code, name
	}
	count := func() int {
		mu.Lock()
		defer mu.Unlock()
		return asked
	}
	ask := func(session string) answer {
		return s.get("/asked/1", "Cookie: other=1; session="+session, "X-Other: y")
	}
	const crew = "group=crew authorization= cookie=other=1"
	for _, got := range s.together("/asked/1", slices.Repeat([]string{"Cookie: other=1; session=a"}, 10)...) {
		assert.Equal(t, crew, got.body)
	}
	assert.Equal(t, 1, count(), "one question at a time")
	assert.Equal(t, crew, ask("b").body)
	assert.Equal(t, 2, count(), "another session is another question")
	s.pass(4 * time.Minute)
	ask("a")
	assert.Equal(t, 2, count(), "it is kept")
	says(200, "guests")
	s.pass(2 * time.Minute)
	assert.Contains(t, ask("a").body, "group=guests")
	assert.Equal(t, 3, count())
	assert.Contains(t, s.get("/asked/1").body, "group= ", "nobody is asked about nobody")
	assert.Equal(t, 3, count())

	for i, c := range []struct {
		status int
		group  string
	}{{204, "crew"}, {401, "crew"}, {302, "crew"}, {200, ""}, {200, "a\tb"}, {200, strings.Repeat("x", 300)}} {
		says(c.status, c.group)
		session := fmt.Sprint("n", i)
		got := ask(session)
		assert.Equal(t, "group= authorization= cookie=other=1; session="+session, got.body, "%d %q passes through with all that it has", c.status, c.group)
		assert.False(t, got.hit())
	}
	before := count()
	says(503, "crew")
	assert.Contains(t, ask("c").body, "group= ")
	assert.Contains(t, ask("c").body, "group= ")
	assert.Equal(t, before+1, count(), "an origin that fails is not asked by each")
	says(200, "crew")
	s.pass(2 * time.Second)
	assert.Contains(t, ask("c").body, "group=crew")

	says(200, "")
	one, two := s.get("/open/1", "Cookie: session=x"), s.get("/open/1")
	assert.Equal(t, "group= authorization= cookie=", one.body)
	assert.True(t, two.hit(), "who has no group shares an entry")
}

// TestIncludesHaveGroupsOfTheirOwn: the group of a page's route is none of an include's, and an include's
// is found out for it.
func TestIncludesHaveGroupsOfTheirOwn(t *testing.T) {
	s, k := groupsRig(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/shop" {
			_, _ = io.WriteString(w, `<p><esi:include src="/prices/1"/><esi:include src="/plain"/></p>`)
			return
		}
		_, _ = io.WriteString(w, r.URL.Path+"="+r.Header.Get("Gerastic-Group")+";")
	})
	k["t1"] = struct {
		group string
		until time.Time
	}{"editor", s.now().Add(time.Hour)}
	for range 2 {
		got := s.get("/shop", "Cookie: token=t1")
		require.Equal(t, 200, got.status)
		assert.Equal(t, "<p>/prices/1=editor;/plain=;</p>", got.body)
	}
}

// TestGroupsAreBounded: whoever makes sessions up costs no more than so much memory.
func TestGroupsAreBounded(t *testing.T) {
	var g groups
	now := time.Now()
	for i := range 3 * mostGrouped {
		g.keep(visitor{byte(i), byte(i >> 8), byte(i >> 16)}, grouped{"x", now.Add(time.Hour)})
	}
	assert.LessOrEqual(t, len(g.known), mostGrouped)
	assert.EqualValues(t, int64(len(g.known))*groupBytes, g.bytes())
	_, known := g.of(visitor{1, 2, 255}, now)
	assert.False(t, known)
	g.forget()
	assert.Zero(t, g.bytes())
}
