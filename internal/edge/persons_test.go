package edge

import (
	"cmp"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
)

// together makes one request for each header line, so that all are under way at once, and
// returns the answers in their order.
func (s *rig) together(path string, headers ...string) []answer {
	answers := make([]answer, len(headers))
	s.comers.Store(s.inside.Load() + int64(len(headers)))
	var wg sync.WaitGroup
	for i, h := range headers {
		wg.Go(func() {
			if h == "" {
				answers[i] = s.get(path)
			} else {
				answers[i] = s.get(path, h)
			}
		})
	}
	wg.Wait()
	return answers
}

// TestPromise1NobodyGetsAnothersAnswerBecauseTheyAskedTogether: applications as they come
// say nothing of who may have an answer; what is not fresh on arrival is for the one who
// asked.
func TestPromise1NobodyGetsAnothersAnswerBecauseTheyAskedTogether(t *testing.T) {
	for _, c := range []struct {
		name, control string
		shared        bool
	}{
		{"silent, with a validator", "", false},
		{"no-cache", "no-cache", false},
		{"max-age=0", "max-age=0", false},
		{"max-age=0, public", "public, max-age=0", false},
		{"stale on arrival, but for a while to be served so", "max-age=0, stale-while-revalidate=60", false},
		{"private", "private, max-age=60", false},
		{"fresh", "max-age=60", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRig(t, nil)
			s.answer(func(w http.ResponseWriter, r *http.Request) {
				s.meet()
				page := "page of " + r.Header.Get("X-Who")
				etag := fmt.Sprintf(`W/"%x"`, page)
				w.Header().Set("Etag", etag)
				if c.control != "" {
					w.Header().Set("Cache-Control", c.control)
				}
				if r.Header.Get("If-None-Match") == etag {
					w.WriteHeader(http.StatusNotModified)
					return
				}
				_, _ = io.WriteString(w, page)
			})
			for _, round := range []string{"first", "again, with something to validate"} {
				if round != "first" && strings.Contains(c.control, "stale-while") {
					continue // its origin says that it may be served stale
				}
				seen := map[string]int{}
				for i, a := range s.together("/me", "X-Who: ada", "X-Who: bo", "", "X-Who: cy") {
					seen[a.body]++
					if strings.Contains(c.control, "stale-while") && a.hit() {
						continue // it came late, and was served what the origin lets be served stale
					}
					if !c.shared {
						assert.Equal(t, "page of "+[]string{"ada", "bo", "", "cy"}[i], a.body, "%s: %s", round, a.state)
						assert.NotContains(t, a.state, "collapsed")
					}
				}
				assert.Equal(t, c.shared, len(seen) == 1, "%s: %v", round, seen)
			}
		})
	}
}

const statedYAML = `
visitors: { signed_in: ["cookie:session", "cookie:auth_*", "header:X-User"] }
routes:
  - name: pages
    match: { path: "/pages/{x...}" }
    key: { query: { only: [page] }, headers: [X-Region], cookies: [lang] }
    lifetime: { fresh: 10m }
    origin_also_gets: [X-Theme, "cookie:consent"]
  - name: forced
    match: { path: "/forced/{x...}" }
    lifetime: { fresh: 10m, source: forced }
  - name: mine
    match: { path: "/mine/{x...}" }
    key: { identity: "cookie:session" }
    lifetime: { fresh: 10m }
  - name: members
    match: { path: "/members/{x...}" }
    key: { identity: { from: "header:X-User", required: true } }
    lifetime: { fresh: 10m }
  - name: shared
    match: { path: "/shared/{x...}" }
    lifetime: { fresh: 10m }
    signed_in: shared
  - name: composed
    match: { path: "/composed/{x...}" }
    lifetime: { fresh: 10m }
    compose: true
  - name: piece
    match: { path: "/piece/{x...}" }
  - name: question
    match: { path: "/question", methods: [POST] }
    key: { body: json }
    lifetime: { fresh: 10m }
  - name: origin
    match: { path: "/{x...}" }
    key: { cookies: [lang] }
`

// echo answers with everything that reached the origin from the visitor.
func echo(w http.ResponseWriter, r *http.Request) {
	h := r.Header.Clone()
	for _, ours := range []string{"Forwarded", "Via", "Surrogate-Capability", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto"} {
		h.Del(ours)
	}
	_ = h.Write(w)
}

// TestPromise1WhatTheKeyLeavesOutDoesNotReachTheOrigin holds where the policy states the life.
func TestPromise1WhatTheKeyLeavesOutDoesNotReachTheOrigin(t *testing.T) {
	visitor := []string{
		"Accept: text/html", "Accept-Language: nb", "Accept-Encoding: gzip, deflate, br;q=1.0", "Cookie: theme=dark; lang=x; consent=yes; lang =y", "User-Agent: odd/1", "X-Requested-With: fetch",
		"Referer: http://r.example/", "Origin: http://o.example", "X-Region: north", "X-Theme: dark", "Sec-Fetch-Mode: cors", "X-Forwarded-For: 10.1.2.3", "X-Original-Url: /admin", "Cache-Control: max-age=5, evil=1",
		"Traceparent: 00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01", "If-Modified-Since: Sun, 17 May 2026 11:00:00 GMT", "Dnt: 1", "X-Anything: at all", "Content-Type: text/x-odd",
	}
	s := newRigOf(t, statedYAML, echo)
	got := s.get("/pages/a?page=1&utm=x", visitor...)
	assert.Equal(t, strings.ReplaceAll(`Accept: */*
Accept-Encoding: br, gzip
Cache-Control: max-age=5
Cookie: lang=x; consent=yes; lang=y
Traceparent: 00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01
User-Agent: gerastic
X-Region: north
X-Theme: dark
`, "\n", "\r\n"), got.body)
	assert.Equal(t, "Accept: */*\r\nUser-Agent: gerastic\r\n", s.get("/forced/a", "Cookie: theme=dark", "User-Agent: odd/1").body)
	other := s.get("/pages/a?page=1", "Cookie: lang=x;lang=y; theme=light", "X-Region: north", "User-Agent: other/2")
	assert.True(t, other.hit(), "so that it cannot part visitors: %s", other.state)
	s.answer(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=60")
		echo(w, r)
	})
	all := s.get("/anything", append(visitor, "X-Http-Method-Override: DELETE", "X_Rewrite_Url: /admin", "X-Forwarded-Prefix: /x", "X-Base-Uri: /x", "Front-End-Scheme: https", "X-Host: evil")...).body
	for _, sent := range []string{"Accept: text/html", "Cookie: theme=dark; lang=x; consent=yes; lang =y", "User-Agent: odd/1", "X-Anything: at all", "Referer: http://r.example/", "Cache-Control: max-age=5, evil=1"} {
		assert.Contains(t, all, sent+"\r\n", "where the origin decides, it gets what the visitor sent")
	}
	for _, steering := range []string{"Original", "Override", "Rewrite", "Prefix", "Base-Uri", "Scheme", "Host"} {
		assert.NotContains(t, strings.ToLower(all), strings.ToLower(steering), "but for what would make it answer another request")
	}
}

// TestWhatVaryNamesIsSentAndSeparates: an origin that depends on more than it was told is
// asked again, with that.
func TestWhatVaryNamesIsSentAndSeparates(t *testing.T) {
	s := newRigOf(t, statedYAML, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Vary", "Accept, X-Device, Cookie, Accept-Encoding")
		fmt.Fprintf(w, "%s for %q %q", r.Header.Get("Accept"), r.Header["X-Device"], r.Header["Cookie"])
	})
	visit := func(accept, device string) answer {
		headers := []string{"Accept: " + accept, "Cookie: a=" + device}
		if device != "" {
			headers = append(headers, "X-Device: "+device)
		}
		return s.get("/pages/a", headers...)
	}
	for i, v := range [][2]string{{"text/html", "phone"}, {"application/json", "phone"}, {"text/html", ""}, {"*/*", ""}} {
		want := fmt.Sprintf("%s for %q []", v[0], map[bool][]string{true: {v[1]}}[v[1] != ""])
		first := visit(v[0], v[1])
		assert.Equal(t, want, first.body)
		assert.Contains(t, first.state, "stored")
		assert.EqualValues(t, i+2, s.asked.Load(), "the first answer is asked for again, no later one: what it depends on is known then")
		assert.True(t, visit(v[0], v[1]).hit())
		assert.Equal(t, want, visit(v[0], v[1]).body)
	}
	s.pass(11 * time.Minute)
	s.answer(func(w http.ResponseWriter, r *http.Request) { fmt.Fprintf(w, "for %q", r.Header["X-Device"]) })
	assert.Equal(t, `for ["phone"]`, visit("text/html", "phone").body, "it depends on it no more, but was asked with it")
	assert.NotEqual(t, `for ["phone"]`, visit("text/html", "desk").body, "so that it is for nobody else")
	assert.Equal(t, `for []`, visit("text/html", "desk").body, "the next is asked for without")
	s.answer(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Vary", fmt.Sprintf("X-%d", s.asked.Load()))
		_, _ = io.WriteString(w, "x")
	})
	odd := []string{}
	for i := range 40 {
		odd = append(odd, fmt.Sprintf("X-%d: 1", i))
	}
	assert.Equal(t, 200, s.get("/pages/odd", odd...).status, "an origin that names another each time is no reason to fail")
}

// TestWhoIsSignedInPassesThrough: one row a request, and whether it may be answered with
// what others share.
func TestWhoIsSignedInPassesThrough(t *testing.T) {
	for _, c := range []struct {
		name, path string
		fields     []string
		cause      string // "" for a hit
	}{
		{"nobody", "/pages/a", nil, ""},
		{"a cookie that is not a mark", "/pages/a", []string{"Cookie: sessions=1; xsession=2; session_x=3"}, ""},
		{"the marked cookie", "/pages/a", []string{"Cookie: a=1; session=s1"}, "signed-in"},
		{"the marked cookie, empty", "/pages/a", []string{"Cookie: session="}, "signed-in"},
		{"one of several", "/pages/a", []string{"Cookie: auth_token_3=x"}, "signed-in"},
		{"the marked field", "/pages/a", []string{"X-User: ada"}, "signed-in"},
		{"the marked field on a route where the origin decides", "/x", []string{"X-User: ada"}, "signed-in"},
		{"Authorization", "/pages/a", []string{"Authorization: Bearer x"}, "signed-in"},
		{"Authorization where the origin decides", "/x", []string{"Authorization: Bearer x"}, "signed-in"},
		{"an API key", "/pages/a", []string{"X-Api-Key: k"}, "signed-in"},
		{"in another spelling", "/pages/a", []string{"x_apikey: k"}, "signed-in"},
		{"a token", "/x", []string{"X-CSRF-Token: k"}, "signed-in"},
		{"a secret", "/x", []string{"Client-SECRET: k"}, "signed-in"},
		{"where it does not matter", "/shared/a", []string{"Cookie: session=s1", "X-User: ada", "X-Api-Key: k"}, ""},
		{"whom the key names", "/mine/a", []string{"Cookie: session=s1"}, ""},
		{"whom the key does not name, with another mark", "/mine/a", []string{"Cookie: auth_x=1"}, "signed-in"},
		{"whom the key names, with a credential of more", "/mine/a", []string{"Cookie: session=s1", "Authorization: Bearer x"}, "signed-in"},
		{"a name where one is needed", "/members/a", []string{"X-User: ada"}, ""},
		{"none where one is needed", "/members/a", nil, "nameless"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRigOf(t, statedYAML, func(w http.ResponseWriter, r *http.Request) {
				w.Header().Set("Cache-Control", "max-age=60")
				echo(w, r)
			})
			s.get(c.path, "X-User: ada") // for those who are named by it
			s.get(c.path, "Cookie: session=s1")
			s.get(c.path)
			asked, before := s.asked.Load(), causes(s, meter.Bypass)[c.cause]
			for range 2 {
				a := s.get(c.path, c.fields...)
				if c.cause == "" {
					assert.True(t, a.hit(), a.state)
					continue
				}
				asked++
				assert.NotContains(t, a.state, "stored")
				assert.Equal(t, asked, s.asked.Load(), "the origin is asked each time")
				for _, f := range c.fields {
					name, value, _ := strings.Cut(f, ": ")
					assert.Contains(t, strings.ToLower(a.body), strings.ToLower(name+": "+value), "it goes with all it has")
				}
			}
			if c.cause != "" {
				assert.Equal(t, before+2, causes(s, meter.Bypass)[c.cause])
			}
		})
	}
}

// causes counts the requests that ended in an outcome by their causes.
func causes(s *rig, outcome meter.Outcome) map[string]int64 {
	assert.Eventually(s.t, func() (all bool) { // a request is recorded a moment after its answer
		var recorded int64
		for k, c := range s.edge.meter.Totals() {
			if k.Outcome != meter.Behind {
				recorded += c.Requests
			}
		}
		return recorded >= s.sent.Load()
	}, 5*time.Second, time.Millisecond)
	counted := map[string]int64{}
	for k, c := range s.edge.meter.Totals() {
		if k.Outcome == outcome && k.Cause != meter.NoCause {
			counted[k.Cause.String()] += c.Requests
		}
	}
	return counted
}

func TestAuthorizedRequestsShareOnlyWhatTheOriginLetsThem(t *testing.T) {
	s := newRigOf(t, statedYAML, text("anonymous", "Cache-Control: max-age=60"))
	s.get("/x")
	s.answer(text("for the authorized, and all", "Cache-Control: max-age=60, must-revalidate"))
	first := s.get("/x", "Authorization: Bearer one")
	assert.Equal(t, "for the authorized, and all", first.body, "what was stored before does not say that it is for them (RFC 9111 §3.5)")
	assert.Contains(t, first.state, "stored")
	assert.True(t, s.get("/x", "Authorization: Bearer two").hit())
	assert.True(t, s.get("/x").hit())
	s.answer(func(w http.ResponseWriter, r *http.Request) {
		s.meet()
		w.Header().Set("Cache-Control", "max-age=60")
		fmt.Fprint(w, r.Header.Get("Authorization"))
	})
	for i, a := range s.together("/y", "Authorization: 1", "Authorization: 2", "") {
		assert.Equal(t, []string{"1", "2", ""}[i], a.body)
	}
}

func TestSignedInVisitorsGetComposedPagesAndAskQuestions(t *testing.T) {
	s := newRigOf(t, statedYAML, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		if r.URL.Path == "/composed/a" {
			fmt.Fprintf(w, `%s: <esi:include src="/piece/a"/>`, r.Header.Get("X-User"))
			return
		}
		fmt.Fprintf(w, "piece of %s", r.Header.Get("X-User"))
	})
	assert.Equal(t, ": piece of ", s.get("/composed/a").body)
	for _, who := range []string{"ada", "bo"} {
		a := s.get("/composed/a", "X-User: "+who)
		assert.Equal(t, who+": piece of "+who, a.body, "%s", a.state)
	}
	assert.Equal(t, ": piece of ", s.get("/composed/a").body)
	s.post("POST", "/question", `{"a":1}`, "Content-Type: application/json", "X-User: ada")
	assert.Empty(t, s.purged, "a question changes nothing, whoever asks it")
}

// TestCookiesOutsideTheKey: where the origin decides it sees all of them, and an answer to
// one is for others only if the origin said for how long.
func TestCookiesOutsideTheKey(t *testing.T) {
	modified := "Last-Modified: Sun, 10 May 2026 12:00:00 GMT"
	for _, c := range []struct {
		name   string
		answer []string
		cookie string
		stored bool
	}{
		{"no cookie, a guess", []string{modified}, "", true},
		{"a cookie, a guess", []string{modified}, "a=1", false},
		{"a cookie, a guess that public allows", []string{modified, "Cache-Control: public"}, "a=1", true},
		{"a cookie, max-age", []string{"Cache-Control: max-age=60"}, "a=1", true},
		{"a cookie, Expires", []string{"Expires: Sun, 17 May 2026 13:00:00 GMT"}, "a=1", true},
		{"a cookie, a targeted life", []string{"CDN-Cache-Control: max-age=60"}, "a=1", true},
		{"a cookie, only a validator", []string{`ETag: "v1"`}, "a=1", false},
		{"a cookie that the key holds, a guess", []string{modified}, "lang=x", true},
		{"something without a name", []string{modified}, "lang", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRigOf(t, statedYAML, text("x", c.answer...))
			var fields []string
			if c.cookie != "" {
				fields = []string{"Cookie: " + c.cookie}
			}
			a := s.get("/x", fields...)
			assert.Equal(t, c.stored, strings.Contains(a.state, "stored"), a.state)
			assert.Equal(t, c.stored, s.get("/x", fields...).hit())
			if !c.stored {
				assert.Eventually(t, func() bool { return causes(s, meter.Miss)["unstorable:"+httprules.UnkeyedCookie.Name()] == 2 }, 5*time.Second, time.Millisecond)
			}
		})
	}
	// The policy's stale rules are no word of the origin's: they must not show one visitor's
	// page to another while the origin fails.
	s := newRigOf(t, "routes: [{ name: all, match: { path: \"/{x...}\" }, lifetime: { stale_if_error: 1d, stale_while_revalidate: 1d, at_least: 1h } }]", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=0")
		w.Header().Set("Etag", `"v1"`)
		fmt.Fprint(w, r.Header.Get("Cookie"))
	})
	assert.Equal(t, "session=ada", s.get("/me", "Cookie: session=ada").body)
	assert.Equal(t, "session=bo", s.get("/me", "Cookie: session=bo").body)
	s.answer(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(503) })
	assert.Equal(t, 503, s.get("/me", "Cookie: session=cy").status)
}

// TestFailuresAreNotKeptAsLongAsPages: fresh is for pages; the most exact of by_status counts.
func TestFailuresAreNotKeptAsLongAsPages(t *testing.T) {
	s := newRigOf(t, `routes:
  - { name: plain, match: { path: "/plain" }, lifetime: { fresh: 1d } }
  - { name: named, match: { path: "/named" }, lifetime: { fresh: 1d, by_status: { 404: 30s, 4xx: 1m, 5xx: 2s, any: 10s } } }
`, nil)
	for _, c := range []struct {
		path   string
		status int
		life   string // ttl of a hit; "" if it is none
	}{
		{"/plain", 200, "86400"}, {"/plain", 301, "86400"}, {"/plain", 404, ""}, {"/plain", 410, ""}, {"/plain", 302, ""}, {"/plain", 500, ""},
		{"/named", 200, "86400"}, {"/named", 404, "30"}, {"/named", 403, "60"}, {"/named", 503, "2"}, {"/named", 302, "10"}, {"/named", 204, "86400"},
	} {
		s.answer(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Last-Modified", "Sun, 10 May 2026 12:00:00 GMT")
			w.WriteHeader(c.status)
		})
		path := fmt.Sprintf("%s?%d", c.path, c.status)
		s.get(path)
		want := "hit; ttl=" + c.life
		if c.life == "" {
			assert.NotContains(t, s.get(path).state, "hit", "%s %d", c.path, c.status)
		} else {
			assert.Equal(t, want, s.get(path).state, "%s %d", c.path, c.status)
		}
	}
}

func TestStaleStandsInForTheFailuresThatTheRouteNames(t *testing.T) {
	s := newRigOf(t, `routes: [{ name: all, match: { path: "/{x...}" }, lifetime: { fresh: 10s, stale_if_error: { for: 1d, on: [429, 500] } } }]`, text("good"))
	s.get("/a")
	s.pass(time.Minute)
	for status, stands := range map[int]bool{429: true, 500: true, 503: false, 404: false} {
		s.answer(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) })
		a := s.get("/a")
		assert.Equal(t, stands, a.status == 200, "%d: %d %s", status, a.status, a.state)
	}
}

// TestPromise1PathsThatOnlyLookLikeARoute: the origin may read them as another's page.
func TestPromise1PathsThatOnlyLookLikeARoute(t *testing.T) {
	s := newRigOf(t, `routes: [{ name: static, match: { path: "/static/{x...}" }, lifetime: { fresh: 1d, source: forced } }]`, func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "%s for %s", r.RequestURI, r.Header.Get("Cookie"))
	})
	for _, path := range []string{"/static/../account", "/static/%2e%2e/account", "/static/..%2faccount", "/static/..;/account", "/static/%252e%252e/account", "/static/..%5Caccount"} {
		for _, who := range []string{"ada", "bo"} {
			_, resp, in := s.raw("GET " + path + " HTTP/1.1\r\nHost: x\r\nConnection: close\r\nCookie: " + who + "\r\n\r\n")
			resp.Body.Close()
			body, _ := io.ReadAll(in)
			assert.Contains(t, string(body), path+" for "+who)
			assert.Contains(t, resp.Header.Get("Cache-Status"), "fwd=bypass")
		}
	}
	assert.False(t, s.get("/static/app.css").hit())
	assert.True(t, s.get("/static/app.css", "Cookie: ada").hit())
}

// TestWhatIsForOneIsAskedForAsTheyDid: where the route withholds what a visitor sent, an
// answer that turns out to be for them alone is asked for again with all of it, and from
// then on at once.
func TestWhatIsForOneIsAskedForAsTheyDid(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		fields []string
		again  bool
	}{
		"it sets a cookie":            {200, []string{"Set-Cookie: a=1"}, true},
		"it is private":               {200, []string{"Cache-Control: private"}, true},
		"it must not be stored":       {200, []string{"Cache-Control: no-store"}, true},
		"it leads to the sign-in":     {302, []string{"Location: /login"}, true},
		"it is not for just anybody":  {403, nil, true},
		"there is no such page":       {404, nil, false},
		"the origin fails":            {500, nil, false},
		"nothing is said against all": {200, nil, false},
	} {
		t.Run(name, func(t *testing.T) {
			s := newRigOf(t, statedYAML, func(w http.ResponseWriter, r *http.Request) {
				for _, f := range c.fields {
					field, value, _ := strings.Cut(f, ": ")
					w.Header().Set(field, value)
				}
				w.WriteHeader(c.status)
				fmt.Fprintf(w, "for %s of %s, %q", r.Header.Get("X-Kind"), r.Header.Get("Cookie"), r.Header.Get("X-Method-Override"))
			})
			for i, asked := range []int64{2, 3, 4} {
				a := s.get("/pages/a", "X-Kind: board", "Cookie: crew=ada", "X-Method-Override: DELETE")
				if !c.again {
					assert.Equal(t, `for  of , ""`, a.body)
					continue
				}
				assert.Equal(t, `for board of crew=ada, ""`, a.body)
				assert.NotContains(t, a.state, "stored")
				assert.Equal(t, asked, s.asked.Load(), "request %d", i)
			}
			if !c.again {
				return
			}
			var counted int64
			causes(s, meter.Miss) // all is recorded
			for _, cell := range s.edge.meter.Totals() {
				counted += cell.OriginRequests
			}
			assert.Equal(t, s.asked.Load(), counted, "each request to the origin is in the figures")
			s.answer(text("for all"))
			s.pass(20 * time.Second)
			s.get("/pages/a", "X-Kind: board")
			assert.Contains(t, s.get("/pages/a", "X-Kind: board").state+s.get("/pages/a").state, "hit", "it is tried again after a while")
		})
	}
	// Asking may cost something: a message of a queue, say. Nobody's is not asked for twice.
	s := newRigOf(t, statedYAML, nil)
	s.answer(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		fmt.Fprintf(w, "message %d in %s", s.asked.Load(), r.Header.Get("Accept-Language"))
	})
	assert.Equal(t, "message 1 in ", s.get("/pages/poll", "Accept-Language: nb").body)
	for i := range 3 {
		s.pass(2 * time.Minute)
		assert.Equal(t, fmt.Sprintf("message %d in nb", i+2), s.get("/pages/poll", "Accept-Language: nb").body, "what is known not to be shared is asked for as they do")
	}
}

// TestARollingCookieIsItsVisitors: an application that renews the session with each 304 must
// not begin a new one for a visitor whose cookie it was not shown.
func TestARollingCookieIsItsVisitors(t *testing.T) {
	s := newRigOf(t, statedYAML, nil)
	s.answer(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Etag", `"v1"`)
		if s.asked.Load() > 1 {
			w.Header().Set("Set-Cookie", "crew="+cmp.Or(strings.TrimPrefix(r.Header.Get("Cookie"), "crew="), "new"))
		}
		if r.Header.Get("If-None-Match") == `"v1"` {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		_, _ = io.WriteString(w, "page")
	})
	assert.Contains(t, s.get("/pages/a").state, "stored")
	s.pass(time.Hour)
	for _, conditions := range [][]string{nil, {`If-None-Match: "v1"`}} {
		a := s.get("/pages/a", append(conditions, "Cookie: crew=ada")...)
		assert.Equal(t, "crew=ada", a.header.Get("Set-Cookie"), a.state)
		assert.Equal(t, map[bool]int{false: 200, true: 304}[conditions != nil], a.status, "the application answers what the visitor has")
	}
}

// TestOneVisitorsCookieIsNoReasonForOthersToAskAlone: what is known not to be shared is known
// of requests like it.
func TestOneVisitorsCookieIsNoReasonForOthersToAskAlone(t *testing.T) {
	s := newRigOf(t, statedYAML, nil)
	s.answer(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Cookie") == "" {
			s.meet()
			w.Header().Set("Cache-Control", "max-age=60")
		}
		_, _ = io.WriteString(w, "page")
	})
	s.get("/x", "Cookie: a=1")
	s.together("/x", "", "", "", "", "")
	assert.EqualValues(t, 2, s.asked.Load())
}

func TestIdentityKeepsEntriesApart(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "private, max-age=60")
		fmt.Fprintf(w, "for %s%s", r.Header.Get("Authorization"), r.Header.Get("Cookie"))
	})
	for _, c := range []struct{ path, one, other string }{
		{"/mine/a", "Authorization: Bearer one", "Authorization: Bearer other"},
		{"/wallet", "Cookie: session=one", "Cookie: session=other"},
	} {
		one := s.get(c.path, c.one)
		again := s.get(c.path, c.one)
		assert.True(t, again.hit(), "%s: a private answer is kept for its own", c.path)
		assert.Equal(t, one.body, again.body)
		other := s.get(c.path, c.other)
		assert.False(t, other.hit())
		assert.Contains(t, other.body, "other")
		for range 2 {
			anonymous := s.get(c.path)
			assert.False(t, anonymous.hit(), "nobody known: private is for nobody")
			assert.Equal(t, "for ", anonymous.body)
		}
	}
	s.get("/wallet", "Cookie: session=one", "Authorization: Bearer x")
	assert.False(t, s.get("/wallet", "Cookie: session=two", "Authorization: Bearer x").hit(), "one field alike is not the same person")
	shown := s.get("/mine/a", "Authorization: Bearer one", "Gerastic-Explain: may explain")
	assert.NotContains(t, shown.state, "Bearer one", "credentials are not shown")
}
