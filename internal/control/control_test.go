package control

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/core/barrier"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/edge"
	"gerastic/internal/prime"
	"gerastic/internal/records"
	"gerastic/internal/tasks"
	"gerastic/internal/watching"
)

// fakeNode is a node without a database, which remembers what it was told to purge.
type fakeNode struct {
	Node
	purged []tags.Purge
	fails  error
}

func (n *fakeNode) Name() string                      { return "a" }
func (n *fakeNode) SaveSizes(context.Context) error   { return nil }
func (n *fakeNode) Curve() Curve                      { return Curve{} }
func (n *fakeNode) Primes() *prime.Primer             { return nil }
func (n *fakeNode) Status() client.Node               { return client.Node{Node: "a"} }
func (n *fakeNode) Ready() error                      { return n.fails }
func (n *fakeNode) Records() (records.Records, error) { return nil, context.DeadlineExceeded }

func (n *fakeNode) TokenFor(secret string) (records.Token, bool) {
	rights := map[string][]records.Right{"reader": {records.Read}, "purger": {records.Purging}, "admin": {records.Admin}}
	return records.Token{Name: secret, Rights: rights[secret]}, rights[secret] != nil
}

func (n *fakeNode) Purge(_ context.Context, p tags.Purge, actor, _ string) (tags.Stamp, []records.Applied, error) {
	n.purged = append(n.purged, p)
	return 7, []records.Applied{{Node: "a", Matched: store.Matched{Entries: 3}}, {Node: "b", Missing: true}}, n.fails
}

// fakeEdge has a policy, and that is all.
type fakeEdge struct{ policy *policy.InForce }

func (e fakeEdge) Policy() *policy.InForce                        { return e.policy }
func (e fakeEdge) Explain(*http.Request) (edge.Explanation, bool) { return edge.Explanation{}, false }
func (e fakeEdge) Watchers() *watching.Watchers[edge.Event] {
	return watching.New[edge.Event](tasks.NewGroup())
}
func (e fakeEdge) Recents() []edge.Recent { return nil }

func newControl(t *testing.T) (*Control, *fakeNode) {
	p, err := policy.Outside{}.Parse("test.yaml", []byte("version: 1\norigins: [{ name: site, url: http://127.0.0.1:1 }]\nroutes: [{ name: ports, match: { path: \"/ports/{port}\" }, key: { query: { only: [page] } } }]\n"))
	require.NoError(t, err)
	n, stored := &fakeNode{}, store.NewMemory(1<<20, time.Now())
	c := New(Config{
		Node: n, Edge: fakeEdge{&policy.InForce{Policy: p}}, Store: stored, Barrier: barrier.New(tags.NewMarks(0, 100), stored), Meter: &meter.Meter{},
		Console: fstest.MapFS{"index.html": {Data: []byte("the console")}}, Log: slog.New(slog.DiscardHandler), Now: time.Now, Hosts: []string{"console.example"},
	})
	return c, n
}

// ask makes a call with a token.
func ask(c *Control, token, method, path, body string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, "http://127.0.0.1:8490"+path, strings.NewReader(body))
	r.Header.Set("Content-Type", "application/json")
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	w := httptest.NewRecorder()
	c.ServeHTTP(w, r)
	return w
}

// TestPurgesAreTranslated: what a call names is what the node is told, and what cannot be is
// refused with how to write it.
func TestPurgesAreTranslated(t *testing.T) {
	c, n := newControl(t)
	for body, want := range map[string]tags.Purge{
		`{"tags":["a","b"],"together":true,"mode":"stale"}`:     {Tags: []string{"a", "b"}, Together: true, Mode: tags.Soften},
		`{"urls":["https://H:443/ports/tholm?page=2&utm=1"]}`:   {URLs: []tags.URL{{Host: "h", Path: "/ports/tholm", Query: "page=2"}}},
		`{"urls":[{"url":"/ports/tholm","any_query":true}]}`:    {URLs: []tags.URL{{AnyHost: true, Path: "/ports/tholm", AnyQuery: true}}},
		`{"urls":["/elsewhere?x=1"]}`:                           {URLs: []tags.URL{{AnyHost: true, Path: "/elsewhere", Query: "x=1"}}},
		`{"below":["/p%6Frts/"],"hosts":["H.example:8080"]}`:    {Below: []tags.Below{{AnyHost: true, Path: "/ports/"}}, Hosts: []string{"h.example:8080"}},
		`{"routes":["ports"],"reason":"rebuilt","mode":"drop"}`: {Routes: []string{"ports"}},
		`{"all":true}`: {All: true},
	} {
		n.purged = nil
		w := ask(c, "purger", "POST", "/v1/purges", body)
		require.Equal(t, 200, w.Code, "%s: %s", body, w.Body)
		assert.Equal(t, []tags.Purge{want}, n.purged, body)
		var got client.PurgeResult
		require.NoError(t, json.Unmarshal(w.Body.Bytes(), &got))
		assert.EqualValues(t, 7, got.Sequence)
		assert.EqualValues(t, 3, got.Matched.Entries)
		assert.Equal(t, []client.PurgeNode{{Node: "a", Applied: true}, {Node: "b"}}, got.Nodes)
	}
	n.purged = nil
	for body, says := range map[string]string{
		`{}`:                       "names nothing",
		`{"together":true}`:        "there are none",
		`{"tags":[""]}`:            "1 to 1024 bytes",
		`{"urls":["ports"]}`:       "is not a URL",
		`{"below":["ports"]}`:      "is not a path to be below",
		`{"hosts":["http://h/"]}`:  "is not a host",
		`{"routes":["port"]}`:      "the routes are ports",
		`{"routes":["site/card"]}`: "nothing of the name",
		`{"prefixes":["/ports/"]}`: "unexpected property",
	} {
		w := ask(c, "purger", "POST", "/v1/purges", body)
		assert.Equal(t, 422, w.Code, body)
		assert.Contains(t, w.Body.String(), says, body)
	}
	assert.Empty(t, n.purged)
	assert.Equal(t, 200, ask(c, "purger", "POST", "/v1/purges", `{"tags":["a"],"preview":true}`).Code)
	assert.Empty(t, n.purged, "a preview changes nothing")
	n.fails = records.ErrUnsure
	w := ask(c, "purger", "POST", "/v1/purges", `{"tags":["a"]}`)
	assert.Equal(t, 503, w.Code)
	assert.Contains(t, w.Body.String(), "purge 7 is in the ledger")
}

// TestWhoMayCall: health is open, all else wants a token with the right, under a name of this
// node's own.
func TestWhoMayCall(t *testing.T) {
	c, n := newControl(t)
	for _, x := range []struct {
		token, method, path string
		status              int
	}{
		{"", "GET", "/healthz", 200}, {"", "GET", "/readyz", 200}, {"", "GET", "/", 200}, {"", "GET", "/metrics", 401},
		{"", "GET", "/v1/routes", 401}, {"unknown", "GET", "/v1/routes", 401}, {"purger", "GET", "/v1/routes", 403}, {"reader", "POST", "/v1/purges", 403},
		{"reader", "GET", "/v1/routes", 503}, {"admin", "GET", "/v1/purges", 503}, {"reader", "DELETE", "/v1/routes", 405}, {"reader", "GET", "/v1/none", 404},
	} {
		assert.Equal(t, x.status, ask(c, x.token, x.method, x.path, "{}").Code, "%s %s by %q", x.method, x.path, x.token)
	}
	for host, status := range map[string]int{"console.example": 200, "LOCALHOST:8490": 200, "[::1]:8490": 200, "evil.example": 421} {
		r := httptest.NewRequest("GET", "http://"+host+"/", nil)
		w := httptest.NewRecorder()
		c.ServeHTTP(w, r)
		assert.Equal(t, status, w.Code, host)
	}
	n.fails = context.Canceled
	assert.Equal(t, 503, ask(c, "", "GET", "/readyz", "").Code)
}

// TestSessionsEnd with their time, with their token, and the oldest with one too many.
func TestSessionsEnd(t *testing.T) {
	s := sessions{open: map[string]session{}}
	known := func(secret string) (records.Token, bool) { return records.Token{Name: secret}, secret != "revoked" }
	now := time.Now()
	first := s.begin("a", now)
	_, ok := s.token(first, now.Add(sessionLength-time.Second), known)
	assert.True(t, ok)
	_, ok = s.token(first, now.Add(sessionLength+time.Second), known)
	assert.False(t, ok)
	_, ok = s.token(s.begin("revoked", now), now, known)
	assert.False(t, ok)
	other := s.begin("b", now)
	first = s.begin("a", now)
	for i := range maxSessions {
		s.begin("a", now.Add(time.Duration(i+1)*time.Second))
	}
	_, ok = s.token(first, now, known)
	assert.False(t, ok, "the oldest of its own")
	_, ok = s.token(other, now, known)
	assert.True(t, ok, "nobody else's")
}
