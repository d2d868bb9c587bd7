package test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"
)

// TestASlowPageBecomesFastAndIsNewAfterAPurge is the product in one test: a page is
// cached, its content changes, the desk purges by tag, the next visitor sees the new
// page, and everybody can read what happened.
func TestASlowPageBecomesFastAndIsNewAfterAPurge(t *testing.T) {
	path, id := aSailing(t)
	desk(t, id, `{"status":"on time"}`)
	visit(t, path)
	before := renders(t)
	for range 10 {
		p := visit(t, path)
		assert.True(t, p.hit())
		assert.Contains(t, p.header.Get("Cache-Groups"), "sailing:"+id)
	}
	assert.Equal(t, before, renders(t), "the application rendered nothing for them")
	other := visit(t, "/ports/saltern/departures")
	require.NotContains(t, other.header.Get("Cache-Groups"), `"sailing:`+id+`"`)

	desk(t, id, `{"status":"cancelled"}`)
	after := visit(t, path)
	assert.False(t, after.hit())
	assert.Contains(t, after.body, `class="cancelled"`)
	assert.True(t, visit(t, path).hit())
	assert.True(t, visit(t, "/ports/saltern/departures").hit(), "what did not show the sailing stays")

	purges, err := api().Purges(ctx, 0, 1)
	require.NoError(t, err)
	assert.Equal(t, "operations desk", purges[0].Actor)
	assert.Equal(t, []string{"sailing:" + id}, purges[0].Tags)
	assert.Contains(t, purges[0].Reason, "cancelled")
	assert.GreaterOrEqual(t, purges[0].Matched.Entries, int64(1))
	again, err := api().PurgeBySequence(ctx, purges[0].Sequence)
	require.NoError(t, err)
	assert.Equal(t, purges[0], again)
}

func TestASailingThatMovesChangesBothPorts(t *testing.T) {
	_, id := aSailing(t)
	for _, path := range []string{"/ports/tholm/departures", "/ports/norrisay/departures", "/ports/brack-point/departures"} {
		visit(t, path)
	}
	desk(t, id, `{"from_port":"norrisay","to_port":"tholm"}`)
	assert.False(t, visit(t, "/ports/tholm/departures").hit(), "where it left from before")
	assert.False(t, visit(t, "/ports/norrisay/departures").hit(), "where it leaves from now")
	assert.True(t, visit(t, "/ports/brack-point/departures").hit())
	desk(t, id, `{"from_port":"tholm","to_port":"norrisay"}`)
}

func TestAWriteThroughTheEdgeIsReadBackAtOnce(t *testing.T) {
	path, id := aSailing(t)
	visit(t, "/sailings/"+id)
	p := fetch(t, http.MethodPost, company.Node.EdgeURL()+"/desk/sailings/"+id, `{"status":"delayed"}`, "Content-Type: application/json")
	require.Equal(t, 200, p.status, p.body)
	assert.Contains(t, p.header.Get("Cache-Group-Invalidation"), "sailing:"+id)
	for _, shown := range []string{path, "/sailings/" + id} {
		now := visit(t, shown)
		assert.False(t, now.hit(), shown)
		assert.Contains(t, now.body, "delayed")
	}
	purges, err := api().Purges(ctx, 0, 1)
	require.NoError(t, err)
	assert.Equal(t, "origin", purges[0].Actor, "what an answer calls for is in the ledger as such")
	desk(t, id, `{"status":"on time"}`)
}

// TestPromise2UnderLoad edits a sailing again and again while visitors ask for it: a
// visitor whose request began after an edit was answered never sees what was before it.
func TestPromise2UnderLoad(t *testing.T) {
	_, id := aSailing(t)
	desk(t, id, `{"status":"on time"}`)
	statuses := []string{"on time", "delayed", "cancelled"}
	var mu sync.Mutex
	current := 0 // number of the last edit that was answered
	stop := make(chan struct{})
	var all sync.WaitGroup
	var visits int
	for range 6 {
		all.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				mu.Lock()
				least := current
				mu.Unlock()
				body := visit(t, "/sailings/"+id).body
				mu.Lock()
				most := current + 1 // one more may be under way
				visits++
				mu.Unlock()
				seen := false
				for n := least; n <= most; n++ {
					seen = seen || strings.Contains(body, `<span class="status">`+statuses[n%3]+`</span>`)
				}
				if !seen {
					t.Errorf("a visitor saw a status from before edit %d", least)
					return
				}
			}
		})
	}
	for n := 1; n <= 60; n++ {
		desk(t, id, fmt.Sprintf(`{"status":%q}`, statuses[n%3]))
		mu.Lock()
		current = n
		mu.Unlock()
	}
	close(stop)
	all.Wait()
	assert.Greater(t, visits, 60)
	desk(t, id, `{"status":"on time"}`)
}

func TestPrivatePagesStayPrivate(t *testing.T) {
	for _, who := range []string{"ingrid", "calum", "ingrid"} {
		p := visit(t, "/account", "Cookie: session="+who)
		assert.False(t, p.hit())
		assert.Contains(t, p.body, who)
		home := visit(t, "/", "Cookie: session="+who)
		assert.Contains(t, home.body, "Welcome aboard, "+who)
		assert.Contains(t, home.header.Get("Cache-Control"), "private", "a shared page with a part of one visitor's is theirs")
		assert.NotContains(t, visit(t, "/").body, who)
	}
}

// TestTheHomePageIsComposed: a skeleton that all share, parts with lives of their own, and a
// greeting that is each visitor's own.
func TestTheHomePageIsComposed(t *testing.T) {
	warm := func() page { visit(t, "/"); return visit(t, "/") }
	home := warm()
	for _, part := range []string{"Between the isles", "Next departures", `<table class="board">`, "</html>"} {
		assert.Contains(t, home.body, part)
	}
	assert.NotContains(t, home.body, "esi:")
	assert.Equal(t, 304, visit(t, "/", "If-None-Match: "+home.header.Get("Etag")).status)
	before := renders(t)
	visit(t, "/", "Cookie: session=ingrid")
	assert.LessOrEqual(t, renders(t)-before, int64(1), "her greeting at most")
	p := fetch(t, http.MethodPost, company.Origin+"/desk/notices", `{"title":"Fog","text":"at sea","ports":["tholm"]}`, "Content-Type: application/json")
	require.Equal(t, 200, p.status, p.body)
	before = renders(t)
	assert.Contains(t, visit(t, "/").body, "Fog", "at once")
	made := renders(t) - before
	assert.GreaterOrEqual(t, made, int64(1))
	assert.LessOrEqual(t, made, int64(2), "the notices, and perhaps what another test changed; not the page")
	parts := visit(t, "/", "Gerastic-Explain: "+company.Token).header.Get("Gerastic-Parts")
	assert.Contains(t, parts, `"/pieces/greeting";found=hit`)
	tree, err := api().PartsTree(ctx, company.Node.EdgeURL()+"/")
	require.NoError(t, err)
	assert.Len(t, tree.Parts, 3)
	var notice struct{ Notice int }
	require.NoError(t, json.Unmarshal([]byte(p.body), &notice))
	fetch(t, http.MethodDelete, fmt.Sprintf("%s/desk/notices/%d", company.Origin, notice.Notice), "")
}

// TestWhatAPageIsMadeOf: the tree reaches down to the smallest part.
func TestWhatAPageIsMadeOf(t *testing.T) {
	visit(t, "/ports/saltern")
	made, err := api().PartsTree(ctx, "/ports/saltern")
	require.NoError(t, err)
	assert.Equal(t, "page", made.Kind)
	board := made.Parts[slices.IndexFunc(made.Parts, func(m client.PartsTree) bool { return m.Name == `site/board("saltern")` })]
	require.NotEmpty(t, board.Parts)
	card := board.Parts[0].Parts[0]
	assert.Regexp(t, `^site/card\(\d\)$`, card.Name)
	assert.Equal(t, "live", card.State)
	assert.Contains(t, made.Tags, client.EntryTag{Tag: card.Tags[0].Tag, From: "origin"}, "a card's tag is the page's, too")
	_, err = api().Purge(ctx, client.PurgeRequest{Tags: []string{card.Tags[0].Tag}})
	require.NoError(t, err)
	_, err = api().PartsTree(ctx, "/ports/saltern")
	assert.ErrorContains(t, err, "nothing is stored")
	names, err := api().FragmentNames(ctx, "1h")
	require.NoError(t, err)
	cards := names[slices.IndexFunc(names, func(n client.FragmentName) bool { return n.Name == "site/card" })]
	assert.Positive(t, cards.Requests)
	assert.Positive(t, cards.Fills)
	var sum int64
	for _, n := range cards.Outcomes {
		sum += n
	}
	assert.Equal(t, cards.Requests, sum)
	of := func(what string) (within int) {
		report, err := api().Ratio(ctx, client.RatioQuery{Since: "1h", By: "route", Of: what})
		require.NoError(t, err)
		for _, row := range report.Rows {
			if strings.Contains(row.Route, "/") {
				within++
			}
		}
		return within
	}
	assert.Zero(t, of("visitors"), "what is asked for within pages is no request of a visitor's")
	assert.Positive(t, of("parts"))
}

func TestValidatorsAndCampaigns(t *testing.T) {
	_, id := aSailing(t)
	first := visit(t, "/sailings/"+id+"?utm_source=letter")
	again := visit(t, "/sailings/"+id+"?ref=friend", "If-None-Match: "+first.header.Get("Etag"))
	assert.Equal(t, http.StatusNotModified, again.status)
	assert.True(t, again.hit(), "a campaign makes no entry of its own")
	one, two := visit(t, "/ports/tholm/departures?page=1"), visit(t, "/ports/tholm/departures?page=2")
	assert.NotEqual(t, one.body, two.body, "the page number does")
}

func TestSwitchingOffLosesNothing(t *testing.T) {
	visit(t, "/vessels/1")
	require.NoError(t, api().SwitchRoute(ctx, "vessel", false))
	assert.Contains(t, visit(t, "/vessels/1").header.Get("Cache-Status"), "fwd=bypass")
	routes, err := api().Routes(ctx, "15m")
	require.NoError(t, err)
	for _, r := range routes {
		assert.Equal(t, r.Name != "vessel", r.Enabled)
	}
	require.NoError(t, api().SwitchRoute(ctx, "*", false))
	assert.Contains(t, visit(t, "/vessels/1").header.Get("Cache-Status"), "fwd=bypass")
	require.NoError(t, api().SwitchRoute(ctx, "*", true))
	require.NoError(t, api().SwitchRoute(ctx, "vessel", true))
	assert.True(t, visit(t, "/vessels/1").hit())
}

// TestPromise7ReportsAddUp: what visitors asked is what the report says, at once.
func TestPromise7ReportsAddUp(t *testing.T) {
	since := time.Now().UTC().Format(time.RFC3339Nano)
	total := func() client.RatioReport {
		r, err := api().Ratio(ctx, client.RatioQuery{Since: "1h", By: "route"})
		require.NoError(t, err)
		return r
	}
	before := total()
	for i := range 20 {
		visit(t, fmt.Sprintf("/assets/vessels/%d.svg", 1+i%4))
	}
	visit(t, "/slow?ms=0")
	var after client.RatioReport
	eventually(t, "the report counts what was asked", func() bool {
		after = total()
		return after.Total.Requests >= before.Total.Requests+21
	})
	assert.Equal(t, before.Total.Requests+21, after.Total.Requests)
	assert.Equal(t, before.Total.Outcomes["bypass"]+1, after.Total.Outcomes["bypass"])
	var byRoute, byOutcome int64
	for _, row := range after.Rows {
		byRoute += row.Requests
		for _, n := range row.Outcomes {
			byOutcome += n
		}
	}
	assert.Equal(t, after.Total.Requests, byRoute)
	assert.Equal(t, after.Total.Requests, byOutcome)
	require.NotNil(t, after.MadeUp, "the made-up hour is marked as such")
	assert.True(t, after.MadeUp.Before(time.Now()))

	byTime, err := api().Ratio(ctx, client.RatioQuery{Since: since, By: "time", Step: "10s", Route: "assets"})
	require.NoError(t, err)
	assert.NotEmpty(t, byTime.Rows)
	assert.Nil(t, byTime.MadeUp)
}

func TestExplainSaysWhatServingDoes(t *testing.T) {
	edge := company.Node.EdgeURL()
	explain := func(method, path string, headers map[string][]string) client.Explanation {
		ex, err := api().Explain(ctx, client.ExplainRequest{Method: method, URL: edge + path, Headers: headers})
		require.NoError(t, err)
		return ex
	}
	path := "/ports/gannet-sound/departures?page=1&utm_source=x"
	_, err := api().Purge(ctx, client.PurgeRequest{Routes: []string{"departures"}})
	require.NoError(t, err)
	cold := explain("GET", path, nil)
	assert.Equal(t, "fetch", cold.Verdict)
	assert.Equal(t, "departures", cold.Route)
	assert.Equal(t, []client.ExplainedRoute{{Name: "home", Result: "the path differs"}, {Name: "port", Result: "the path differs"}, {Name: "departures", Result: "it matches"}}, cold.Routes)
	visit(t, path)
	before := renders(t)
	warm := explain("GET", path, nil)
	assert.Equal(t, "serve", warm.Verdict)
	assert.Equal(t, before, renders(t), "explaining fetches nothing")
	assert.Contains(t, strings.Join(warm.Why, " "), "lifetime is 10m (from lifetime.fresh)")
	require.Len(t, warm.Entries, 1)
	assert.True(t, warm.Entries[0].Answers)
	assert.Contains(t, warm.Entries[0].Tags, "port:gannet-sound")
	assert.Contains(t, warm.Key, client.KeyPart{Source: "query", Value: "page=1", Present: true})
	assert.Equal(t, "validate", explain("GET", path, map[string][]string{"Cache-Control": {"no-cache"}}).Verdict)
	assert.Equal(t, "pass through", explain("POST", path, nil).Verdict)
	assert.Equal(t, "method", explain("POST", path, nil).Cause)
	assert.Equal(t, "route", explain("GET", "/slow", nil).Cause)
	u, _ := url.Parse(edge)
	relative, err := api().Explain(ctx, client.ExplainRequest{URL: path, Headers: map[string][]string{"Host": {u.Host}}})
	require.NoError(t, err)
	assert.Equal(t, "serve", relative.Verdict)
}

func TestMetricsAreOpenMetrics(t *testing.T) {
	visit(t, "/vessels/2")
	p := fetch(t, http.MethodGet, company.Node.ControlURL()+"/metrics", "", "Authorization: Bearer "+company.Token, "Accept: application/openmetrics-text; version=1.0.0")
	assert.Contains(t, p.header.Get("Content-Type"), "application/openmetrics-text")
	assert.True(t, strings.HasSuffix(p.body, "# EOF\n"))
	assert.Contains(t, p.body, "# TYPE gerastic_requests counter\n")
	assert.Regexp(t, `gerastic_requests_total\{cause="[a-z:-]*",outcome="(hit|miss)",route="vessel"\} [1-9]`, p.body)
	assert.Regexp(t, `gerastic_memory_used_bytes [1-9]`, p.body)
}

func TestHealthIsOpenAndTheRestIsNot(t *testing.T) {
	control := company.Node.ControlURL()
	assert.Equal(t, "ready\n", fetch(t, http.MethodGet, control+"/readyz", "").body)
	assert.Equal(t, "ok\n", fetch(t, http.MethodGet, control+"/healthz", "").body)
	for _, path := range []string{"/v1/purges", "/v1/routes", "/v1/reports/ratio", "/v1/tags", "/v1/nodes", "/v1/policy", "/v1/tokens", "/v1/session", "/metrics"} {
		assert.Equal(t, 401, fetch(t, http.MethodGet, control+path, "").status, path)
		assert.Equal(t, 401, fetch(t, http.MethodGet, control+path, "", "Authorization: Bearer guess").status, path)
	}
	edge := fetch(t, http.MethodGet, company.Node.EdgeURL()+"/v1/purges", "", "Authorization: Bearer "+company.Token)
	assert.Equal(t, 404, edge.status, "the edge has no control side")
	page := visit(t, "/ports/tholm", "Gerastic-Explain: guess")
	assert.NotContains(t, page.header.Get("Cache-Status"), "key=", "keys are not shown to visitors")
}

func TestRightsAndSessions(t *testing.T) {
	reader, err := api().CreateToken(ctx, "reader", []string{"read"}, "")
	require.NoError(t, err)
	c := client.New(company.Node.ControlURL(), reader.Secret)
	_, err = c.Tags(ctx, "", 5)
	require.NoError(t, err)
	_, err = c.Purge(ctx, client.PurgeRequest{Tags: []string{"x"}})
	assert.Equal(t, 403, client.StatusOf(err))
	assert.ErrorContains(t, err, "lacks the right purge; make one with: gerastic token create --rights purge")
	_, err = c.ApplyPolicy(ctx, "version: 1", "")
	assert.Equal(t, 403, client.StatusOf(err))

	control := company.Node.ControlURL()
	signIn := func(token string, headers ...string) page {
		return fetch(t, http.MethodPost, control+"/v1/session", `{"token":"`+token+`"}`, append(headers, "Content-Type: application/json")...)
	}
	assert.Equal(t, 401, signIn("guess").status)
	in := signIn(company.Token)
	require.Equal(t, 200, in.status, in.body)
	cookie := in.header.Get("Set-Cookie")
	assert.Contains(t, cookie, "HttpOnly")
	assert.Contains(t, cookie, "SameSite=Strict")
	assert.NotContains(t, cookie, company.Token)
	cookie = "Cookie: " + strings.Split(cookie, ";")[0]
	assert.Equal(t, 200, fetch(t, http.MethodGet, control+"/v1/session", "", cookie).status)
	purge := func(headers ...string) int {
		return fetch(t, http.MethodPost, control+"/v1/purges", `{"tags":["none"]}`, append(headers, cookie, "Content-Type: application/json")...).status
	}
	assert.Equal(t, 200, purge("Origin: "+control))
	assert.Equal(t, 403, purge("Origin: http://evil.example"), "another site's page cannot act in our name")
	assert.Equal(t, 403, purge("Sec-Fetch-Site: cross-site"))
	assert.Equal(t, 204, fetch(t, http.MethodDelete, control+"/v1/session", "", cookie).status)
	assert.Equal(t, 401, fetch(t, http.MethodGet, control+"/v1/session", "", cookie).status)

	in = signIn(reader.Secret)
	cookie = "Cookie: " + strings.Split(in.header.Get("Set-Cookie"), ";")[0]
	require.NoError(t, api().RevokeToken(ctx, reader.ID))
	assert.Equal(t, 401, fetch(t, http.MethodGet, control+"/v1/session", "", cookie).status, "a revoked token ends its sessions")
	_, err = c.Tags(ctx, "", 5)
	assert.Equal(t, 401, client.StatusOf(err))
}

// TestBadInputsOfTheAPI: every bad form gets an error that says what to do.
func TestBadInputsOfTheAPI(t *testing.T) {
	control := company.Node.ControlURL()
	for _, c := range []struct {
		name, method, path, body string
		status                   int
		says                     string
	}{
		{"a purge of nothing", "POST", "/v1/purges", `{}`, 422, "names nothing; give tags, urls, routes"},
		{"an unknown member", "POST", "/v1/purges", `{"tag":"x"}`, 422, "unexpected property"},
		{"an unknown mode", "POST", "/v1/purges", `{"tags":["x"],"mode":"gone"}`, 422, "mode"},
		{"an unknown route", "POST", "/v1/purges", `{"routes":["departure"]}`, 422, "the routes are home, port, departures"},
		{"no URL", "POST", "/v1/purges", `{"urls":["ports/tholm"]}`, 422, "is not a URL; write https://HOST/PATH"},
		{"an empty tag", "POST", "/v1/purges", `{"tags":[""]}`, 422, "a tag has 1 to 1024 bytes"},
		{"no JSON", "POST", "/v1/purges", `tags`, 400, ""},
		{"a purge that is not there", "GET", "/v1/purges/999999", "", 404, "the ledger has no purge 999999"},
		{"a time without a unit", "GET", "/v1/reports/ratio?since=60", "", 422, "neither a length of time (15m, 1h, 7d) nor a time"},
		{"a time that is backwards", "GET", "/v1/reports/ratio?since=1h&until=2h", "", 422, "since must be before until"},
		{"steps without number", "GET", "/v1/reports/ratio?since=7d&by=time&step=10s", "", 422, "at most 2000 steps"},
		{"an unknown parameter", "GET", "/v1/reports/ratio?sinse=1h", "", 422, "sinse"},
		{"a switch of nothing", "PATCH", "/v1/routes/none", `{"enabled":false}`, 404, `no route is named \"none\"`},
		{"a policy with mistakes", "PUT", "/v1/policy", `{"source":"version: 1\norigns: []\n"}`, 422, `did you mean \"origins\"?`},
		{"a URL to explain that is none", "POST", "/v1/explain", `{"url":"tholm"}`, 422, "write http://HOST/PATH"},
		{"a token without rights", "POST", "/v1/tokens", `{"name":"x","rights":["root"]}`, 422, "rights"},
		{"a call that is not there", "GET", "/v1/nothing", "", 404, "/v1/openapi.json lists them"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := fetch(t, c.method, control+c.path, c.body, "Authorization: Bearer "+company.Token, "Content-Type: application/json")
			assert.Equal(t, c.status, p.status, p.body)
			assert.Contains(t, p.header.Get("Content-Type"), "application/problem+json")
			assert.Contains(t, p.body, c.says)
		})
	}
	big := fetch(t, "POST", control+"/v1/purges", `{"reason":"`+strings.Repeat("x", 5<<20)+`"}`, "Authorization: Bearer "+company.Token, "Content-Type: application/json")
	assert.GreaterOrEqual(t, big.status, 400)
	assert.Less(t, big.status, 500)
}

func TestURLsArePurgedByWhatTheKeyHolds(t *testing.T) {
	edge := company.Node.EdgeURL()
	warm := func() {
		for _, path := range []string{"/ports/saltern/departures?page=1", "/ports/saltern/departures?page=2", "/ports/saltern"} {
			visit(t, path)
			visit(t, path)
		}
	}
	for _, c := range []struct {
		url     client.PurgeURL
		entries int64
	}{
		{client.PurgeURL{URL: edge + "/ports/saltern/departures?utm_source=x&page=2"}, 1},
		{client.PurgeURL{URL: "/ports/saltern/departures", AnyQuery: true}, 2},
		{client.PurgeURL{URL: "/ports/saltern"}, 1},
		{client.PurgeURL{URL: "http://elsewhere.example/ports/saltern"}, 0},
	} {
		_, err := api().Purge(ctx, client.PurgeRequest{URLs: []client.PurgeURL{{URL: "/ports/saltern/departures", AnyQuery: true}, {URL: "/ports/saltern"}}})
		require.NoError(t, err)
		warm()
		preview, err := api().Purge(ctx, client.PurgeRequest{URLs: []client.PurgeURL{c.url}, Preview: true})
		require.NoError(t, err)
		assert.Equal(t, c.entries, preview.Matched.Entries, c.url)
		assert.Zero(t, preview.Sequence)
		done, err := api().Purge(ctx, client.PurgeRequest{URLs: []client.PurgeURL{c.url}})
		require.NoError(t, err)
		assert.Equal(t, c.entries, done.Matched.Entries, c.url)
		assert.True(t, done.Nodes[0].Applied)
		again, err := api().Purge(ctx, client.PurgeRequest{URLs: []client.PurgeURL{c.url}})
		require.NoError(t, err)
		assert.Zero(t, again.Matched.Entries, "the same purge twice takes nothing the second time")
	}
}

// TestWatchShowsRequestsAsTheyAreAnswered through the API, the client and the command.
func TestWatchShowsRequestsAsTheyAreAnswered(t *testing.T) {
	follow, stop := context.WithCancel(ctx)
	defer stop()
	seen := make(chan client.Event, 10)
	go func() {
		_ = api().Watch(follow, client.WatchFilter{Route: "vessel", Path: "/vessels/2", Keys: true}, func(e client.Event) error {
			seen <- e
			return nil
		})
	}()
	var e client.Event
	eventually(t, "an event comes", func() bool {
		visit(t, "/vessels/3")
		visit(t, "/vessels/2?utm_source=x")
		select {
		case e = <-seen:
			return true
		default:
			return false
		}
	})
	assert.Equal(t, "vessel", e.Route)
	assert.Equal(t, 200, e.Status)
	assert.Contains(t, e.URL, "/vessels/2?utm_source=x")
	assert.Contains(t, e.Key, "path=/vessels/2")
	assert.Contains(t, []string{"hit", "miss"}, e.Outcome)
	out := make(chan result)
	go func() { out <- run("watch", "--count", "2", "--route", "vessel") }()
	var r result
	eventually(t, "the command ends after two", func() bool {
		visit(t, "/vessels/2")
		select {
		case r = <-out:
			return true
		default:
			return false
		}
	})
	assert.Zero(t, r.code, r.errs)
	assert.Equal(t, 2, strings.Count(r.out, "GET http://"))
	assert.Contains(t, r.out, "hit")
}

func TestEveryKeyFeatureOnTheDemo(t *testing.T) {
	nb, gd := visit(t, "/fares", "Accept-Language: nb"), visit(t, "/fares", "Accept-Language: gd", "Cookie: currency=mk")
	assert.Contains(t, nb.body, "Priser")
	assert.Contains(t, gd.body, "Faraidhean")
	assert.Contains(t, gd.body, " mk")
	assert.True(t, visit(t, "/fares?utm_source=x", "Accept-Language: gd", "Cookie: other=1; currency=mk").hit())
	assert.Contains(t, visit(t, "/search?q=petrel&utm_campaign=x").body, "MV Petrel Dawn")
	assert.True(t, visit(t, "/search?utm_campaign=y&q=petrel").hit())
	assert.Contains(t, visit(t, "/api/sailings?from=tholm&size=2").body, `"size":2`)
	question := func(q string) page {
		return fetch(t, "QUERY", company.Node.EdgeURL()+"/api/sailings", q, "Content-Type: application/json")
	}
	assert.Contains(t, question(`{"from":"tholm","size":3}`).body, `"size":3`)
	assert.True(t, question(`{ "size": 3, "from": "tholm" }`).hit())
	ask := func(q string) page {
		return fetch(t, "POST", company.Node.EdgeURL()+"/graphql", q, "Content-Type: application/json")
	}
	board := `{"query":"query Board($p: ID!) { port(slug: $p) { name departures(limit: 2) { id status } } }","variables":{"p":"tholm"}}`
	first := ask(board)
	assert.Contains(t, first.body, `"name":"Tholm"`)
	assert.True(t, ask(strings.Replace(board, "{ name", "{  name", 1)).hit())
	_, id, _ := strings.Cut(first.body, `"id":`)
	id, _, _ = strings.Cut(id, ",")
	delayed := ask(`{"query":"mutation { delaySailing(id: ` + id + `, minutes: 1) { status } }"}`)
	assert.Contains(t, delayed.body, "delayed")
	after := ask(board)
	assert.False(t, after.hit(), "the mutation purged what showed the sailing")
	assert.Contains(t, after.body, "delayed")
	for range 2 {
		broken := ask(`{"query":"{ port(slug: \"nowhere\") { name } }"}`)
		assert.Contains(t, broken.body, `there is no port`)
		assert.False(t, broken.hit())
	}
	assert.Contains(t, visit(t, "/reports/punctuality?month=2026-13").body, "The month is written")
	resp, err := http.Get(company.Node.EdgeURL() + "/half")
	require.NoError(t, err)
	_, err = io.ReadAll(resp.Body)
	_ = resp.Body.Close()
	assert.Error(t, err, "half an answer does not look whole")
	assert.Equal(t, 500, visit(t, "/fail?rate=1").status)
}

func TestTheFerryCompanyItself(t *testing.T) {
	for path, says := range map[string]string{
		"/": "Next departures", "/ports/tholm": "Ticket office", "/ports/tholm/departures?date=2026-13-01": "The date is written",
		"/ports/nowhere": "no such port", "/vessels/3": "MV Brackwing", "/vessels/x": "no such vessel", "/sailings/0": "no such sailing",
		"/assets/style.css": "--sea", "/assets/vessels/2.svg": "MV Tholm Lantern", "/assets/none": "no such file", "/api/ports/saltern/board": `"port":"Saltern"`,
	} {
		p := fetch(t, http.MethodGet, company.Origin+path, "")
		assert.Contains(t, p.body, says, path)
	}
	for edit, says := range map[string]string{
		`{"status":"sunk"}`: "no such status", `{"vessel_id":99}`: "no such status, vessel or port", `{"statuss":"x"}`: "not readable", `{"from_port":"tholm","to_port":"tholm"}`: "from one port to another",
	} {
		p := fetch(t, http.MethodPost, company.Origin+"/desk/sailings/1", edit, "Content-Type: application/json")
		assert.Contains(t, []int{400, 422}, p.status)
		assert.Contains(t, p.body, says)
	}
	resp, err := http.PostForm(company.Origin+"/desk/sailings/1", url.Values{"delay_minutes": {"0"}, "status": {"on time"}})
	require.NoError(t, err)
	defer resp.Body.Close()
	body, _ := io.ReadAll(resp.Body)
	assert.Equal(t, 200, resp.StatusCode, string(body))
}
