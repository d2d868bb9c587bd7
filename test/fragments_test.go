package test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"
	"gerastic.example/client/protocol"

	"gerastic/internal/node"
)

// application makes a namespace of its own for a test, and returns its token.
func application(t testing.TB, namespace string) string {
	made, err := api().CreateToken(ctx, namespace, []string{"fragments"}, namespace)
	require.NoError(t, err)
	return made.Secret
}

// patience is for machines that are slow.
var patience = client.FragmentOptions{Timeout: 20 * time.Second, Wait: 20 * time.Second}

func fragmentsFor(t testing.TB, namespace string) *client.Fragments {
	return client.New(company.Node.ControlURL(), application(t, namespace)).Fragments(patience)
}

func text(s string) func(context.Context) ([]byte, error) {
	return func(context.Context) ([]byte, error) { return []byte(s), nil }
}

func notAgain(context.Context) ([]byte, error) {
	return nil, errors.New("it was there, and is made again")
}

func TestFragmentsByPlainHTTP(t *testing.T) {
	mine, other := "Authorization: Bearer "+application(t, "plain"), "Authorization: Bearer "+application(t, "other")
	at := company.Node.ControlURL() + "/v1/fragments/"
	const card = `card(%22tholm%22,7)`
	do := func(method, path, body string, headers ...string) page {
		return fetch(t, method, at+path, body, append(headers, mine)...)
	}
	miss := do("GET", card, "")
	assert.Equal(t, 404, miss.status)
	assert.Equal(t, "yours", miss.header.Get("Gerastic-State"))
	lease := "Gerastic-Lease: " + miss.header.Get("Gerastic-Lease")
	busy := do("GET", card+"?wait=50ms", "")
	assert.Equal(t, 202, busy.status)
	assert.Equal(t, "filling", busy.header.Get("Gerastic-State"))
	assert.Equal(t, "missing", do("GET", card+"?lease=0", "").header.Get("Gerastic-State"))
	waiting := make(chan page)
	go func() { waiting <- do("GET", card+"?wait=20s", "") }()
	put := do("PUT", card, "Petrel Dawn", lease, "Cache-Control: max-age=60, stale-while-revalidate=30", `Cache-Groups: "vessel:7", "port:tholm"`, "Content-Type: text/plain", "Gerastic-Cost: 84.5")
	assert.Equal(t, 204, put.status, put.body)
	assert.Equal(t, "Petrel Dawn", (<-waiting).body, "whoever waited gets it")
	hit := do("GET", card, "")
	assert.Equal(t, []string{"Petrel Dawn", "text/plain", "fresh", `"vessel:7", "port:tholm"`, "84.500"},
		[]string{hit.body, hit.header.Get("Gerastic-Type"), hit.header.Get("Gerastic-State"), hit.header.Get("Cache-Groups"), hit.header.Get("Gerastic-Cost")})
	assert.Regexp(t, `^\d+$`, hit.header.Get("Age"))
	assert.Equal(t, 404, fetch(t, "GET", at+card, "", other).status, "another application has its own")
	assert.Equal(t, 403, fetch(t, "GET", at+card+"?namespace=plain", "", other).status)
	admin := "Authorization: Bearer " + company.Token
	assert.Equal(t, "Petrel Dawn", fetch(t, "GET", at+card+"?namespace=plain&lease=0", "", admin).body)
	assert.Equal(t, 400, fetch(t, "GET", at+card, "", admin).status, "whose, it must say")

	for _, bad := range []struct {
		status             int
		says               string
		method, path, body string
		headers            []string
	}{
		{409, "not in force", "PUT", card, "again", []string{lease, "Cache-Control: max-age=60"}},
		{422, "needs the lease", "PUT", card, "x", []string{"Cache-Control: max-age=60"}},
		{422, "lifetime", "PUT", card, "x", []string{lease}},
		{422, "list of strings", "PUT", card, "x", []string{lease, "Cache-Control: max-age=60", "Cache-Groups: vessel 7"}},
		{400, "length of time", "GET", card + "?wait=soon", "", nil},
		{400, "no parameter", "GET", card + "?waite=1s", "", nil},
		{400, "must begin with a name", "GET", "%287%29", "", nil},
		{409, "not in force", "DELETE", card, "", []string{"Gerastic-Lease: none"}},
		{400, "is not a lookup", "POST", "lookup", "nonsense", nil},
		{400, "place 0", "POST", "store", "nonsense", nil},
	} {
		p := do(bad.method, bad.path, bad.body, bad.headers...)
		assert.Equal(t, bad.status, p.status, "%s %s", bad.method, bad.path)
		assert.Contains(t, p.body, bad.says)
	}
	assert.Equal(t, 401, fetch(t, "GET", at+card, "").status)
	reader, err := api().CreateToken(ctx, "reader of fragments", []string{"read"}, "")
	require.NoError(t, err)
	refused := fetch(t, "GET", at+card, "", "Authorization: Bearer "+reader.Secret)
	assert.Equal(t, 403, refused.status)
	assert.Contains(t, refused.body, "--rights fragments --namespace")
	_, err = api().CreateToken(ctx, "nameless", []string{"fragments"}, "")
	assert.ErrorContains(t, err, "namespace")

	renewed := do("GET", card+"?renew", "")
	assert.Equal(t, "yours", renewed.header.Get("Gerastic-State"))
	purged, err := api().Purge(ctx, client.PurgeRequest{Tags: []string{"vessel:7"}})
	require.NoError(t, err)
	assert.EqualValues(t, 1, purged.Matched.Routes["plain/card"], "a purge counts fragments by name")
	late := do("PUT", card, "old", "Gerastic-Lease: "+renewed.header.Get("Gerastic-Lease"), "Cache-Control: max-age=60", `Cache-Groups: "vessel:7"`)
	assert.Equal(t, 409, late.status)
	assert.Contains(t, late.body, "a purge came while it was being made")
	after := do("GET", card, "")
	assert.Equal(t, 404, after.status)
	assert.Equal(t, 204, do("DELETE", card, "", "Gerastic-Lease: "+after.header.Get("Gerastic-Lease")).status, "given back")
	again := do("GET", card, "")
	require.Equal(t, "yours", again.header.Get("Gerastic-State"))
	require.Equal(t, 204, do("PUT", card, "new", "Gerastic-Lease: "+again.header.Get("Gerastic-Lease"), "Cache-Control: max-age=60").status)
	dropped := do("DELETE", card, "")
	assert.Equal(t, 200, dropped.status)
	assert.Contains(t, dropped.body, `"entries":1`)
	assert.Equal(t, "missing", do("GET", card+"?lease=0", "").header.Get("Gerastic-State"))
}

// TestNothingIsInventedOfFragments: one that was stored without a type comes without.
func TestNothingIsInventedOfFragments(t *testing.T) {
	mine := "Authorization: Bearer " + application(t, "untyped")
	at := company.Node.ControlURL() + "/v1/fragments/page"
	lease := "Gerastic-Lease: " + fetch(t, "GET", at, "", mine).header.Get("Gerastic-Lease")
	require.Equal(t, 204, fetch(t, "PUT", at, "<script>alert(1)</script>", mine, lease, "Cache-Control: max-age=60").status)
	got := fetch(t, "GET", at, "", mine)
	assert.Equal(t, "<script>alert(1)</script>", got.body)
	assert.Empty(t, got.header["Gerastic-Type"])
	assert.Equal(t, "application/octet-stream", got.header.Get("Content-Type"), "no browser may take it for a page of the console's")
	assert.Contains(t, got.header.Get("Content-Security-Policy"), "sandbox")
}

// message is one message of a call for many fragments.
func message(t *testing.T, m any) []byte {
	var b bytes.Buffer
	require.NoError(t, protocol.Append(&b, m))
	return b.Bytes()
}

func TestManyAtOnceByPlainHTTP(t *testing.T) {
	token := "Authorization: Bearer " + application(t, "many")
	call := func(what string, body []byte) []byte {
		p := fetch(t, "POST", company.Node.ControlURL()+"/v1/fragments/"+what, string(body), token)
		require.Equal(t, 200, p.status, p.body)
		return []byte(p.body)
	}
	look := func() []protocol.LookupAnswer {
		answers := make([]protocol.LookupAnswer, 3)
		var head protocol.LookupHead
		rest, err := protocol.Next(call("lookup", message(t, protocol.Lookup{Keys: []string{"a", "b", "c"}})), &head)
		require.NoError(t, err)
		assert.Equal(t, "many", head.Namespace)
		for len(rest) > 0 {
			var a protocol.LookupAnswer
			rest, err = protocol.Next(rest, &a)
			require.NoError(t, err)
			answers[a.At] = a
		}
		return answers
	}
	found := look()
	body := bytes.Repeat([]byte{0, 1, 254, 255}, 50_000) // of any bytes, and large
	offer := func(key, lease string, life float64) []byte {
		return message(t, protocol.Offer{Key: key, Lease: lease, Life: life, Body: body})
	}
	rest := call("store", slices.Concat(offer("a", found[0].Lease, 60), offer("b", "wrong", 60), offer("c", found[2].Lease, 0)))
	stored := make([]protocol.Stored, 3)
	for i := range stored {
		var err error
		rest, err = protocol.Next(rest, &stored[i])
		require.NoError(t, err)
	}
	assert.Empty(t, rest)
	assert.Empty(t, stored[0].Why)
	assert.Contains(t, stored[1].Why, "not in force")
	assert.Contains(t, stored[2].Why, "lifetime")
	found = look()
	assert.EqualValues(t, body, found[0].Body)
	assert.Equal(t, []string{"fresh", "filling", "yours"}, []string{found[0].State, found[1].State, found[2].State}, "what cannot be stored as it is keeps nobody waiting")
}

func TestLoadOrFill(t *testing.T) {
	s := fragmentsFor(t, "load")
	f := client.Fragment{Name: "card", Parts: []any{3}, Lifetime: time.Minute, Tags: []string{"load:3"}}
	for _, fill := range []func(context.Context) ([]byte, error){text("Petrel Dawn"), notAgain} {
		body, err := s.LoadOrFill(ctx, f, fill)
		require.NoError(t, err)
		assert.Equal(t, "Petrel Dawn", string(body))
	}
	newer := f
	newer.Version = time.Now()
	body, err := s.LoadOrFill(ctx, newer, text("Petrel Dawn, repainted"))
	require.NoError(t, err)
	assert.Equal(t, "Petrel Dawn, repainted", string(body), "another version is another fragment")
	_, err = api().Purge(ctx, client.PurgeRequest{Tags: []string{"load:3"}})
	require.NoError(t, err)
	_, err = s.LoadOrFill(ctx, f, func(context.Context) ([]byte, error) { return nil, errors.New("no database") })
	assert.ErrorContains(t, err, "no database")
	body, err = s.LoadOrFill(ctx, f, text("Brackwing"))
	require.NoError(t, err)
	assert.Equal(t, "Brackwing", string(body), "an error is not stored, and nobody waits for it")
	assert.Panics(t, func() {
		_, _ = s.LoadOrFill(ctx, client.Fragment{Name: "panic", Lifetime: time.Minute}, func(context.Context) ([]byte, error) { panic("a bug") })
	})
	body, err = s.LoadOrFill(ctx, client.Fragment{Name: "panic", Lifetime: time.Minute}, text("mended"))
	require.NoError(t, err)
	assert.Equal(t, "mended", string(body), "a panic gives its lease back")

	large := bytes.Repeat([]byte("Ostrel Isles Ferries. "), 10_000)
	big := client.Fragment{Name: "big", Lifetime: client.Forever}
	_, err = s.LoadOrFill(ctx, big, func(context.Context) ([]byte, error) { return large, nil })
	require.NoError(t, err)
	body, err = s.LoadOrFill(ctx, big, notAgain)
	require.NoError(t, err)
	assert.Equal(t, large, body)
	list, err := api().Entries(ctx, client.EntryQuery{Route: "load/big", Limit: 1})
	entries := list.Entries
	require.NoError(t, err)
	assert.Less(t, entries[0].Bytes, int64(20_000), "what is large and repeats itself is stored compressed")
	dropped, err := s.Drop(ctx, big)
	require.NoError(t, err)
	assert.EqualValues(t, 1, dropped.Matched.Entries)
	c := s.Counts()
	assert.Equal(t, client.Counts{Reused: 2, Filled: 5}, c)
}

// TestNestedFragments: tags and the shortest life go up to what a fragment is part of.
func TestNestedFragments(t *testing.T) {
	s := fragmentsFor(t, "nested")
	made := map[string]int{}
	var mu sync.Mutex
	fragment := func(ctx context.Context, name string, life time.Duration, tag string, inside ...func(context.Context) string) string {
		body, err := s.LoadOrFill(ctx, client.Fragment{Name: name, Lifetime: life, Tags: []string{tag}}, func(ctx context.Context) ([]byte, error) {
			mu.Lock()
			made[name]++
			mu.Unlock()
			text := name
			for _, part := range inside {
				text += "[" + part(ctx) + "]"
			}
			return []byte(text), nil
		})
		require.NoError(t, err)
		return string(body)
	}
	card := func(ctx context.Context) string { return fragment(ctx, "card", time.Hour, "nested:vessel") }
	row := func(ctx context.Context) string { return fragment(ctx, "row", 20*time.Second, "nested:sailing", card) }
	sister := func(ctx context.Context) string { return fragment(ctx, "sister", time.Hour, "nested:weather") }
	page := httptest.NewServer(client.Tagging(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = fmt.Fprint(w, fragment(r.Context(), "board", time.Hour, "nested:port", row), sister(r.Context()))
	})))
	defer page.Close()
	get := func() http.Header {
		p := fetch(t, "GET", page.URL, "")
		require.Equal(t, "board[row[card]]sister", p.body)
		return p.header
	}
	h := get()
	assert.Equal(t, `"nested:port", "nested:sailing", "nested:vessel", "nested:weather"`, h.Get("Cache-Groups"))
	assert.Contains(t, h.Get("Server-Timing"), `fragments;desc="4 filled";dur=`)
	assert.Regexp(t, `^"nested/board\(\)";found=filled;depth=1;took=[0-9.]+, "nested/row\(\)";found=filled;depth=2;took=[0-9.]+, "nested/card\(\)";found=filled;depth=3;took=[0-9.]+, "nested/sister\(\)";found=filled;depth=1`, h.Get("Gerastic-Parts"))
	assert.Regexp(t, `^1\d\.\d+;as-of=\d+$`, h.Get("Gerastic-Life"), "the row's life")
	h = get()
	assert.Contains(t, h.Get("Server-Timing"), `desc="2 reused"`, "the board and the sister are all that is asked for")
	assert.Equal(t, `"nested:port", "nested:sailing", "nested:vessel", "nested:weather"`, h.Get("Cache-Groups"), "what is found hands its tags up, too")
	assert.Regexp(t, `^1[0-9]\.`, h.Get("Gerastic-Life"), "the board lives no longer than its row")
	for tag, again := range map[string]map[string]int{
		"nested:vessel":  {"card": 2, "row": 2, "board": 2, "sister": 1},
		"nested:port":    {"card": 1, "row": 1, "board": 2, "sister": 1},
		"nested:weather": {"card": 1, "row": 1, "board": 1, "sister": 2},
	} {
		for name := range made {
			made[name] = 1
		}
		_, err := api().Purge(ctx, client.PurgeRequest{Tags: []string{tag}})
		require.NoError(t, err)
		get()
		assert.Equal(t, again, made, "after a purge of %s", tag)
	}
}

func TestStaleWhileOneFills(t *testing.T) {
	s := fragmentsFor(t, "stale")
	f := client.Fragment{Name: "board", Lifetime: time.Hour, Stale: time.Hour, Tags: []string{"stale:board"}}
	_, err := s.LoadOrFill(ctx, f, text("old"))
	require.NoError(t, err)
	_, err = api().Purge(ctx, client.PurgeRequest{Tags: []string{"stale:board"}, Mode: "stale"})
	require.NoError(t, err)
	w := httptest.NewRecorder() // a page that holds it
	hold := make(chan struct{})
	client.Tagging(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		_, err := s.LoadOrFill(r.Context(), f, func(context.Context) ([]byte, error) { <-hold; return nil, errors.New("in vain") })
		assert.NoError(t, err)
	})).ServeHTTP(w, httptest.NewRequest("GET", "/", nil))
	assert.Regexp(t, `^0\.000;as-of=`, w.Header().Get("Gerastic-Life"), "a page that holds what is stale is stale, however young that is")
	close(hold)
	s.Settle()
	release := make(chan struct{})
	var fills atomic.Int64
	for range 5 {
		body, err := s.LoadOrFill(ctx, f, func(context.Context) ([]byte, error) {
			fills.Add(1)
			<-release
			return []byte("new"), nil
		})
		require.NoError(t, err)
		assert.Equal(t, "old", string(body), "nobody waits")
	}
	var nested string
	waiting := make(chan error)
	go func() { // what is stored must not hold what is stale
		_, err := s.LoadOrFill(ctx, client.Fragment{Name: "page", Lifetime: time.Hour}, func(ctx context.Context) ([]byte, error) {
			body, err := s.LoadOrFill(ctx, f, notAgain)
			nested = string(body)
			return body, err
		})
		waiting <- err
	}()
	select {
	case <-waiting:
		close(release)
		t.Fatal("it did not wait for what is fresh")
	case <-time.After(300 * time.Millisecond):
	}
	close(release)
	require.NoError(t, <-waiting)
	assert.Equal(t, "new", nested)
	s.Settle()
	assert.EqualValues(t, 1, fills.Load(), "one fills it behind them")
	body, err := s.LoadOrFill(ctx, f, notAgain)
	require.NoError(t, err)
	assert.Equal(t, "new", string(body))
}

// TestFragmentsAreSwitchedOff like routes, by name or with all; pages work without.
func TestFragmentsAreSwitchedOff(t *testing.T) {
	s := fragmentsFor(t, "switched")
	f := client.Fragment{Name: "board", Lifetime: time.Hour}
	made := 0
	load := func() {
		body, err := s.LoadOrFill(ctx, f, func(context.Context) ([]byte, error) { made++; return []byte("board"), nil })
		require.NoError(t, err)
		assert.Equal(t, "board", string(body))
	}
	load()
	load()
	assert.Equal(t, 1, made)
	for _, name := range []string{"switched/board", "*"} {
		before := made
		require.NoError(t, api().SwitchRoute(ctx, name, false))
		load()
		load()
		assert.Equal(t, before+2, made, "%s is off", name)
		require.NoError(t, api().SwitchRoute(ctx, name, true))
		load()
		assert.Equal(t, before+2, made, "what was stored is still there")
	}
}

// TestLeasesEndWithTheNode: what was being filled when a node ended is not taken by the next
// one, which knows nothing of what was purged meanwhile; the application goes on.
func TestLeasesEndWithTheNode(t *testing.T) {
	var asked atomic.Int64
	settings := node.Settings{Name: "a", Data: t.TempDir(), Database: database(t, "leases"), AdminToken: "a token of the test", PolicyFile: policyFile(t, origin(t, &asked))}
	first := startNode(t, settings)
	road := newProxy(t, strings.TrimPrefix(first.ControlURL(), "http://"))
	made, err := client.New(first.ControlURL(), settings.AdminToken).CreateToken(ctx, "site", []string{"fragments"}, "site")
	require.NoError(t, err)
	s := client.New("http://"+road.Addr().String(), made.Secret).Fragments(patience)
	f := client.Fragment{Name: "board", Lifetime: time.Hour}
	body, err := s.LoadOrFill(ctx, f, func(context.Context) ([]byte, error) {
		first.Stop(ctx)
		road.sever(true)
		second := startNode(t, settings)
		road.to.Store(strings.TrimPrefix(second.ControlURL(), "http://"))
		road.sever(false)
		return []byte("old"), nil
	})
	require.NoError(t, err)
	assert.Equal(t, "old", string(body), "for the one who made it")
	body, err = s.LoadOrFill(ctx, f, text("new"))
	require.NoError(t, err)
	assert.Equal(t, "new", string(body))
	assert.EqualValues(t, 1, s.Counts().Refused)
}

func TestManyAtOnce(t *testing.T) {
	s := fragmentsFor(t, "rows")
	const n = 2500
	all := make([]client.Fragment, n)
	for i := range all {
		all[i] = client.Fragment{Name: "row", Parts: []any{i % (n - 10)}, Lifetime: time.Hour} // ten of them twice
	}
	var fills atomic.Int64
	load := func(ctx context.Context) {
		bodies, err := s.LoadOrFillAll(ctx, all, func(_ context.Context, i int) ([]byte, error) {
			fills.Add(1)
			return fmt.Append(nil, i%(n-10)), nil
		})
		require.NoError(t, err)
		for i, body := range bodies {
			require.Equal(t, fmt.Sprint(i%(n-10)), string(body))
		}
	}
	load(ctx)
	assert.EqualValues(t, n-10, fills.Load(), "each is filled once")
	reporting := client.Tagging(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { load(r.Context()) }))
	w := httptest.NewRecorder()
	reporting.ServeHTTP(w, httptest.NewRequest("GET", "/", nil))
	assert.EqualValues(t, n-10, fills.Load())
	assert.Contains(t, w.Header().Get("Server-Timing"), "reused")
	_, err := s.LoadOrFillAll(ctx, []client.Fragment{{Name: "ok", Lifetime: time.Hour}, {Name: "fails", Lifetime: time.Hour}}, func(_ context.Context, i int) ([]byte, error) {
		if i == 1 {
			return nil, errors.New("no database")
		}
		return nil, nil
	})
	assert.ErrorContains(t, err, "filling fails(): no database")
	_, err = s.LoadOrFill(ctx, client.Fragment{Name: "ok", Lifetime: time.Hour}, notAgain)
	assert.NoError(t, err, "the others were stored")
}

// TestTwoWhoWaitForEachOther ask for the same fragments in opposite order: each has leases that
// the other needs, and neither waits before it has done its own.
func TestTwoWhoWaitForEachOther(t *testing.T) {
	token := application(t, "cross")
	var all sync.WaitGroup
	began := time.Now()
	for _, order := range [][]int{{0, 1, 2, 3}, {3, 2, 1, 0}} {
		s := client.New(company.Node.ControlURL(), token).Fragments(patience)
		all.Go(func() {
			for round := range 20 {
				wanted := make([]client.Fragment, len(order))
				for i, n := range order {
					wanted[i] = client.Fragment{Name: "mutual", Parts: []any{round, n}, Lifetime: time.Hour}
				}
				_, err := s.LoadOrFillAll(ctx, wanted, func(context.Context, int) ([]byte, error) { return []byte("x"), nil })
				assert.NoError(t, err)
			}
			assert.Zero(t, s.Counts().Alone)
		})
	}
	all.Wait()
	assert.Less(t, time.Since(began), patience.Wait, "nobody waited until they gave up")
}

func TestValuesAndTemplates(t *testing.T) {
	s := fragmentsFor(t, "typed")
	type vessel struct{ Name string }
	f := client.Fragment{Name: "vessel", Parts: []any{3}, Lifetime: time.Hour}
	for range 2 {
		v, err := client.LoadValue(ctx, s, f, client.JSON[vessel](), func(context.Context) (vessel, error) { return vessel{"Petrel Dawn"}, nil })
		require.NoError(t, err)
		assert.Equal(t, "Petrel Dawn", v.Name)
	}
	n, err := client.LoadValue(ctx, s, f, client.JSON[int](), func(context.Context) (int, error) { return 42, nil })
	require.NoError(t, err)
	assert.Equal(t, 42, n, "what an older version stored is made anew")
	names, err := client.LoadValues(ctx, s, []client.Fragment{{Name: "name", Parts: []any{1}, Lifetime: time.Hour}, {Name: "name", Parts: []any{2}, Lifetime: time.Hour}}, client.Text(),
		func(_ context.Context, i int) (string, error) { return fmt.Sprint("vessel ", i), nil })
	require.NoError(t, err)
	assert.Equal(t, []string{"vessel 0", "vessel 1"}, names)

	var pages *template.Template
	executed := 0
	pages = template.Must(template.New("").Funcs(s.Templates(func() *template.Template { return pages })).Funcs(template.FuncMap{"count": func() string { executed++; return "" }}).Parse(
		`{{define "page"}}{{fragment .Context "row" .Name (parts 7) (version "v1") (lifetime "1h") (tags "typed:row")}}{{end}}` +
			`{{define "row"}}{{count}}<b>{{.Data}}</b>{{fragment .Context "small" 1 (lifetime "1h") (tags "typed:small")}}{{end}}{{define "small"}}small{{end}}` +
			`{{define "wrong"}}{{fragment .Context "row" .Name}}{{end}}{{define "odd"}}{{fragment .Context "row" .Name (lifetime "soon")}}{{end}}`))
	execute := func(name string) (string, error) {
		var b bytes.Buffer
		err := pages.ExecuteTemplate(&b, name, map[string]any{"Context": ctx, "Name": "<Tholm>"})
		return b.String(), err
	}
	for range 2 {
		html, err := execute("page")
		require.NoError(t, err)
		assert.Equal(t, "<b>&lt;Tholm&gt;</b>small", html)
	}
	assert.Equal(t, 1, executed)
	_, err = api().Purge(ctx, client.PurgeRequest{Tags: []string{"typed:small"}})
	require.NoError(t, err)
	_, err = execute("page")
	require.NoError(t, err)
	assert.Equal(t, 2, executed, "what is nested in a template is part of it")
	html, err := execute("wrong")
	require.NoError(t, err, "a forgotten lifetime is in the log, and the page works")
	assert.Equal(t, "<b>&lt;Tholm&gt;</b>small", html)
	_, err = execute("odd")
	assert.ErrorContains(t, err, "1h30m")
}

// TestPromise2FragmentsUnderLoad: while content changes and is purged, nobody is given, on
// either node, what was before a purge that was acknowledged when they asked.
func TestPromise2FragmentsUnderLoad(t *testing.T) {
	var asked atomic.Int64
	shared := database(t, "fragments")
	var sides [2]*client.Fragments
	var controls [2]*client.Client
	for i, name := range []string{"a", "b"} {
		n := startNode(t, node.Settings{Name: name, Data: t.TempDir(), Database: shared, AdminToken: "a token of the test", PolicyFile: policyFile(t, origin(t, &asked))})
		controls[i] = client.New(n.ControlURL(), "a token of the test")
		made, err := controls[i].CreateToken(ctx, "site", []string{"fragments"}, "site")
		require.NoError(t, err)
		sides[i] = client.New(n.ControlURL(), made.Secret).Fragments(patience)
	}
	var truth, acked [6]atomic.Int64
	var found, old atomic.Int64
	began := time.Now()
	going := func() bool { // until enough was found, however slow the machine is
		took := time.Since(began)
		return took < 3*time.Second || found.Load() <= 500 && took < time.Minute
	}
	var all sync.WaitGroup
	for i := range truth {
		all.Go(func() { // the editor of this thing
			for going() {
				v := truth[i].Add(1)
				if _, err := controls[i%2].Purge(ctx, client.PurgeRequest{Tags: []string{fmt.Sprint("thing:", i)}}); assert.NoError(t, err) {
					acked[i].Store(v)
				}
				time.Sleep(2 * time.Millisecond)
			}
		})
	}
	for reader := range 16 {
		s := sides[reader%2]
		all.Go(func() {
			thing := func(ctx context.Context, i int) ([]byte, error) {
				return s.LoadOrFill(ctx, client.Fragment{Name: "thing", Parts: []any{i}, Lifetime: time.Hour, Tags: []string{fmt.Sprint("thing:", i)}}, func(context.Context) ([]byte, error) {
					v := truth[i].Load()
					time.Sleep(time.Duration(reader) * 100 * time.Microsecond) // a render
					return fmt.Append(nil, v), nil
				})
			}
			for n := reader; going(); n++ {
				i := n % len(truth)
				must := acked[i].Load()
				body, err := s.LoadOrFill(ctx, client.Fragment{Name: "page", Parts: []any{i}, Lifetime: time.Hour}, func(ctx context.Context) ([]byte, error) { return thing(ctx, i) })
				if !assert.NoError(t, err) {
					return
				}
				var v int64
				_, _ = fmt.Sscan(string(body), &v)
				if found.Add(1); v < must {
					old.Add(1)
				}
			}
		})
	}
	all.Wait()
	assert.Zero(t, old.Load(), "of %d", found.Load())
	assert.Greater(t, found.Load(), int64(500))
	c := sides[0].Counts()
	assert.Positive(t, c.Reused, "it was of use: %+v", c)
}

// TestTheJavaScriptClient runs its tests against the service.
func TestTheJavaScriptClient(t *testing.T) {
	c := exec.Command("npm", "test", "--silent")
	c.Dir = "../clients/js"
	c.Env = append(os.Environ(), "GERASTIC_CONTROL="+company.Node.ControlURL(), "GERASTIC_TOKEN="+application(t, "js"), "GERASTIC_ADMIN="+company.Token)
	out, err := c.CombinedOutput()
	assert.NoError(t, err, string(out))
	assert.Regexp(t, `# pass [1-9]`, string(out))
}
