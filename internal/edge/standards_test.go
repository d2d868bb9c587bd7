package edge

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"net/http/httptrace"
	"net/textproto"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/tags"
	"gerastic/internal/fetch"
)

func (a answer) hit() bool { return strings.HasPrefix(a.state, "hit") }

func TestRangesColdAndStored(t *testing.T) {
	const body = "0123456789"
	for _, c := range []struct {
		name    string
		headers []string
		status  int
		content string
		part    string // Content-Range
	}{
		{"the first bytes", []string{"Range: bytes=0-3"}, 206, "0123", "bytes 0-3/10"},
		{"from one on", []string{"Range: bytes=7-"}, 206, "789", "bytes 7-9/10"},
		{"the last bytes", []string{"Range: bytes=-2"}, 206, "89", "bytes 8-9/10"},
		{"beyond the end", []string{"Range: bytes=8-99"}, 206, "89", "bytes 8-9/10"},
		{"backwards is none", []string{"Range: bytes=5-2"}, 200, body, ""},
		{"another unit is ignored", []string{"Range: lines=1-2"}, 200, body, ""},
		{"If-Range holds", []string{"Range: bytes=0-0", `If-Range: "v1"`}, 206, "0", "bytes 0-0/10"},
		{"If-Range does not hold", []string{"Range: bytes=0-0", `If-Range: "v0"`}, 200, body, ""},
		{"If-Range needs a strong validator", []string{"Range: bytes=0-0", `If-Range: W/"v1"`}, 200, body, ""},
		{"a condition goes first", []string{"Range: bytes=0-0", `If-None-Match: "v1"`}, 304, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRig(t, text(body, `ETag: "v1"`, "Content-Type: text/plain", "Content-Length: 10"))
			for _, when := range []string{"cold", "stored"} {
				a := s.get("/ports/a", c.headers...)
				assert.Equal(t, c.status, a.status, when)
				assert.Equal(t, c.content, a.body, when)
				assert.Equal(t, c.part, a.header.Get("Content-Range"), when)
			}
			assert.EqualValues(t, 1, s.asked.Load(), "the whole was stored from the first")
		})
	}
	s := newRig(t, text(body, "Content-Type: text/plain", "Content-Length: 10"))
	s.get("/ports/a")
	none := s.get("/ports/a", "Range: bytes=10-")
	assert.Equal(t, 416, none.status)
	assert.Equal(t, "bytes */10", none.header.Get("Content-Range"))
	several := s.get("/ports/a", "Range: bytes=0-1, 5-6")
	assert.Equal(t, 206, several.status)
	_, params, err := mime.ParseMediaType(several.header.Get("Content-Type"))
	require.NoError(t, err)
	parts := multipart.NewReader(strings.NewReader(several.body), params["boundary"])
	for _, want := range []string{"bytes 0-1/10 01", "bytes 5-6/10 56"} {
		p, err := parts.NextPart()
		require.NoError(t, err)
		content, _ := io.ReadAll(p)
		assert.Equal(t, want, p.Header.Get("Content-Range")+" "+string(content))
	}
	assert.Equal(t, 200, s.get("/ports/a", "Range: bytes=0-5, 2-8").status, "ranges that overlap get the whole")
}

func TestARangeOfWhatIsNotStoredGoesThrough(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		http.ServeContent(w, r, "x.txt", time.Time{}, strings.NewReader("0123456789"))
	})
	for range 3 {
		a := s.get("/ports/a", "Range: bytes=2-3")
		assert.Equal(t, 206, a.status)
		assert.Equal(t, "23", a.body)
	}
}

func decode(t *testing.T, coding, body string) string {
	var r io.Reader
	switch coding {
	case "":
		return body
	case "gzip":
		g, err := gzip.NewReader(strings.NewReader(body))
		require.NoError(t, err)
		r = g
	case "br":
		r = brotli.NewReader(strings.NewReader(body))
	case "zstd":
		z, err := zstd.NewReader(strings.NewReader(body))
		require.NoError(t, err)
		r = z
	}
	plain, err := io.ReadAll(r)
	require.NoError(t, err)
	return string(plain)
}

func TestStoredAnswersAreCompressedOnce(t *testing.T) {
	page := strings.Repeat("Ostrel Isles Ferries sail between the isles. ", 200)
	s := newRig(t, text(page, "Content-Type: text/html", `ETag: "v1"`))
	first := s.get("/ports/a", "Accept-Encoding: gzip")
	assert.Equal(t, page, first.body)
	assert.Equal(t, "Accept-Encoding", first.header.Get("Vary"), "it is said from the first answer on")
	require.Eventually(t, func() bool {
		return s.get("/ports/a", "Accept-Encoding: gzip").header.Get("Content-Encoding") == "gzip"
	}, 5*time.Second, 5*time.Millisecond)
	for _, c := range []struct{ accept, coding string }{
		{"gzip", "gzip"}, {"gzip, br", "br"}, {"gzip, br;q=0.5", "gzip"}, {"zstd", "zstd"}, {"*", "br"}, {"*;q=0.5, gzip", "gzip"},
		{"identity", ""}, {"", ""}, {"br;q=0", ""}, {"compress", ""}, {"gzip;q=0.5, identity", ""}, {"x-gzip", "gzip"},
	} {
		a := s.get("/ports/a", "Accept-Encoding: "+c.accept)
		assert.True(t, a.hit())
		assert.Equal(t, c.coding, a.header.Get("Content-Encoding"), c.accept)
		assert.Equal(t, page, decode(t, c.coding, a.body))
		assert.Equal(t, fmt.Sprint(len(a.body)), a.header.Get("Content-Length"))
		want := `"v1"`
		if c.coding != "" {
			want = `"v1+` + c.coding + `"`
			assert.Less(t, len(a.body), len(page)/2)
		}
		assert.Equal(t, want, a.header.Get("Etag"), "a strong validator names one sequence of bytes")
		assert.Equal(t, 304, s.get("/ports/a", "Accept-Encoding: "+c.accept, "If-None-Match: "+want).status)
	}
	assert.Equal(t, 304, s.get("/ports/a", "Accept-Encoding: gzip", `If-None-Match: "v1"`).status, "who has the plain form keeps it")
	assert.Equal(t, 200, s.get("/ports/a", "Accept-Encoding: gzip", `If-None-Match: "v0"`).status)
	s.answer(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNotModified) })
	s.pass(2 * time.Minute)
	renewed := s.get("/ports/a", "Accept-Encoding: br")
	assert.Contains(t, renewed.state, "fwd-status=304")
	assert.Equal(t, "br", renewed.header.Get("Content-Encoding"), "a renewed entry keeps its forms")
	assert.EqualValues(t, 2, s.asked.Swap(1))
	part := s.get("/ports/a", "Accept-Encoding: gzip", "Range: bytes=0-5")
	assert.Equal(t, "Ostrel", part.body, "ranges are of the plain form")
	assert.EqualValues(t, 1, s.asked.Load())
	for name, h := range map[string]http.HandlerFunc{
		"no-transform": text(page, "Content-Type: text/html", "Cache-Control: no-transform"),
		"an image":     text(page, "Content-Type: image/png"),
		"small":        text("small", "Content-Type: text/html", "Content-Length: 5"),
	} {
		s := newRig(t, h)
		s.get("/ports/a", "Accept-Encoding: gzip")
		a := s.get("/ports/a", "Accept-Encoding: gzip")
		assert.Empty(t, a.header.Get("Content-Encoding"), name)
		assert.Empty(t, a.header.Get("Vary"), name)
	}
}

func TestEncodedAnswersOfTheOriginAreKeptAsTheyAre(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Vary", "Accept-Encoding")
		if strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
			w.Header().Set("Content-Encoding", "gzip")
			_, _ = io.WriteString(w, "packed")
			return
		}
		_, _ = io.WriteString(w, "plain")
	})
	assert.Equal(t, "packed", s.get("/ports/a", "Accept-Encoding: gzip, deflate, br").body)
	a := s.get("/ports/a", "Accept-Encoding: br,gzip")
	assert.True(t, a.hit(), "visitors who can read the same share a variant: %s", a.state)
	assert.Equal(t, "packed", a.body)
	plain := s.get("/ports/a", "Accept-Encoding: identity")
	assert.Equal(t, "plain", plain.body)
	assert.Contains(t, plain.state, "fwd=vary-miss")
}

func TestNoVarySearch(t *testing.T) {
	for _, c := range []struct {
		name, rule, first, second string
		hit                       bool
	}{
		{"parameters that do not matter", `params=("utm" "id")`, "/x?q=1&utm=a", "/x?q=1&utm=b&id=3", true},
		{"those that do", `params=("utm")`, "/x?q=1&utm=a", "/x?q=2&utm=a", false},
		{"none matters", `params`, "/x?q=1", "/x?q=2", true},
		{"none matters, from no query at all", `params`, "/x?q=1", "/x", true},
		{"none but those named", `params, except=("q")`, "/x?q=1&a=1", "/x?q=1&a=2", true},
		{"none but those named, which differ", `params, except=("q")`, "/x?q=1&a=1", "/x?q=2&a=1", false},
		{"encoded names are decoded", `params=("u%20t")`, "/x?q=1&u+t=a", "/x?q=1&u%20t=b", true},
		{"except without params is not a rule", `except=("q")`, "/x?q=1&a=1", "/x?q=1&a=2", false},
		{"what does not parse is not a rule", `params=(`, "/x?q=1", "/x?q=2", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
				w.Header().Set("Cache-Control", "max-age=60")
				w.Header().Set("No-Vary-Search", c.rule)
				_, _ = io.WriteString(w, r.URL.RawQuery)
			})
			first := s.get(c.first)
			second := s.get(c.second)
			assert.Equal(t, c.hit, second.hit(), second.state)
			assert.Equal(t, c.hit, first.body == second.body)
			again := s.get(c.first)
			assert.True(t, again.hit())
			assert.Equal(t, first.body, again.body)
		})
	}
}

func TestAnAnswerWithoutTheRuleAnswersItsOwnQueryOnly(t *testing.T) {
	rule := "params"
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=60")
		if rule != "" {
			w.Header().Set("No-Vary-Search", rule)
		}
		_, _ = io.WriteString(w, r.URL.RawQuery)
	})
	s.get("/x?q=1")
	s.purge(tags.Purge{All: true})
	rule = ""
	assert.Equal(t, "q=2", s.get("/x?q=2").body)
	assert.Equal(t, "q=3", s.get("/x?q=3").body)
	assert.True(t, s.get("/x?q=2").hit())
}

func TestAWriteForgetsWhatAnswersItsURLByNoVarySearch(t *testing.T) {
	s := newRig(t, text("x", "Cache-Control: max-age=60", "No-Vary-Search: params"))
	s.get("/x?q=1")
	assert.True(t, s.get("/x?q=2").hit())
	s.do("POST", "/x?q=2")
	assert.False(t, s.get("/x?q=2").hit(), "it was answered by the entry of another query")
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

func TestQuestionsInTheBody(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "%s %s %s", r.Method, r.Header.Get("Content-Type"), body)
	})
	const isJSON = "Content-Type: application/json"
	ask := func(method, body string, headers ...string) answer { return s.post(method, "/ask", body, headers...) }
	first := ask("POST", `{"from":"tholm","page":1}`, isJSON)
	assert.Equal(t, `POST application/json {"from":"tholm","page":1}`, first.body, "the origin gets the question as it was asked")
	for _, c := range []struct {
		name, method, body, kind string
		same                     bool
	}{
		{"the order of members does not matter", "POST", `{"page":1.0, "from":"tholm"}`, isJSON, true},
		{"values do", "POST", `{"from":"tholm","page":2}`, isJSON, false},
		{"types do", "POST", `{"from":"tholm","page":"1"}`, isJSON, false},
		{"the method does", "QUERY", `{"from":"tholm","page":1}`, isJSON, false},
		{"the media type does", "POST", `{"from":"tholm","page":1}`, "Content-Type: text/plain", false},
		{"a member twice is another text", "POST", `{"from":"tholm","page":1,"page":1}`, isJSON, false},
	} {
		assert.Equal(t, c.same, ask(c.method, c.body, c.kind).hit(), c.name)
	}
	assert.False(t, ask("POST", `{"n":9007199254740993}`, isJSON).hit())
	assert.False(t, ask("POST", `{"n":9007199254740992}`, isJSON).hit(), "numbers that a double would merge are kept apart")
	long := strings.Repeat("x", 70<<10)
	for range 2 {
		a := ask("POST", long, "Content-Type: text/plain")
		assert.Equal(t, "fwd=bypass", a.state)
		assert.True(t, strings.HasSuffix(a.body, long), "what no key can hold passes whole")
	}
}

func TestGraphQL(t *testing.T) {
	var n atomic.Int64
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", "application/json")
		if strings.Contains(string(body)+r.URL.RawQuery, "broken") {
			fmt.Fprintf(w, `{"errors":[{"message":"no"}],"data":%d}`, n.Add(1))
			return
		}
		fmt.Fprintf(w, `{"data":%d}`, n.Add(1))
	})
	ask := func(body string) answer { return s.post("POST", "/graphql", body, "Content-Type: application/json") }
	query := func(q, rest string) string { return fmt.Sprintf(`{"query":%q%s}`, q, rest) }
	first := ask(query("query Board($p: ID!) { port(id: $p) { name } }", `,"variables":{"p":"tholm","n":1}`))
	for _, c := range []struct {
		name, body string
		same       bool
	}{
		{"spacing and comments do not matter", query("query Board($p: ID!)\n# the quay\n{ port(id: $p) {\n name }}", `,"variables":{"n":1,"p":"tholm"}`), true},
		{"variables do", query("query Board($p: ID!) { port(id: $p) { name } }", `,"variables":{"p":"saltern","n":1}`), false},
		{"so do fields", query("query Board($p: ID!) { port(id: $p) { island } }", `,"variables":{"p":"tholm","n":1}`), false},
		{"and the operation's name", query("query Board($p: ID!) { port(id: $p) { name } }", `,"operationName":"Board","variables":{"p":"tholm","n":1}`), false},
	} {
		a := ask(c.body)
		assert.Equal(t, c.same, a.hit(), c.name)
		assert.Equal(t, c.same, a.body == first.body, c.name)
	}
	two := `query A { ports { name } } mutation B { delay }`
	for name, body := range map[string]string{
		"a mutation": query("mutation { delay }", ""), "a subscription": query("subscription { board }", ""), "a document that does not parse": query("query {", ""),
		"two operations and no choice": query(two, ""), "the mutation of two": query(two, `,"operationName":"B"`), "an unknown member": query("{ ports }", `,"user":"x"`), "no JSON": "{ ports }",
	} {
		for range 2 {
			assert.NotContains(t, ask(body).state, "hit", name)
		}
	}
	assert.False(t, ask(query(two, `,"operationName":"A"`)).hit())
	assert.True(t, ask(query(two, `,"operationName":"A"`)).hit(), "the query of two is cached")
	for range 2 {
		assert.False(t, ask(query("{ broken }", "")).hit(), "an answer with errors is never stored")
	}
	assert.False(t, s.get("/graphql?query={ports{name}}").hit())
	assert.True(t, s.get("/graphql?query=%7B%0Aports%7Bname%7D%7D").hit(), "GET likewise")
	assert.True(t, s.get("/graphql?query={ports{%20name%20}}&operationName=").hit(), "an empty name is none")
	assert.NotContains(t, s.get("/graphql?query=mutation{delay}").state, "hit")
	assert.NotContains(t, s.get("/graphql?query=mutation{delay}").state, "hit")
}

func TestA304ConfirmsTheVariantThatItNames(t *testing.T) {
	var seen atomic.Value
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		lang := r.Header.Get("X-Lang")
		tag := map[string]string{"nb": `"north"`, "nn": `"north"`, "gd": `"west"`}[lang]
		w.Header().Set("Vary", "X-Lang")
		w.Header().Set("ETag", tag)
		w.Header().Set("Cache-Control", "max-age=60")
		seen.Store(r.Header.Get("If-None-Match"))
		if strings.Contains(r.Header.Get("If-None-Match"), tag) {
			w.WriteHeader(304)
			return
		}
		_, _ = io.WriteString(w, "in "+tag)
	})
	s.get("/x", "X-Lang: nb")
	s.get("/x", "X-Lang: gd")
	a := s.get("/x", "X-Lang: nn")
	assert.Equal(t, `in "north"`, a.body, "the answer in another variant's name")
	assert.Contains(t, a.state, "fwd=vary-miss; fwd-status=304")
	assert.ElementsMatch(t, []string{`"west"`, `"north"`}, strings.Split(fmt.Sprint(seen.Load()), ", "))
	for lang, body := range map[string]string{"nb": `in "north"`, "nn": `in "north"`, "gd": `in "west"`} {
		again := s.get("/x", "X-Lang: "+lang)
		assert.True(t, again.hit(), lang)
		assert.Equal(t, body, again.body)
	}
}

// TestA304MayTakeAnAnswerBack: what a 304 makes private goes to nobody who joined.
func TestA304MayTakeAnAnswerBack(t *testing.T) {
	const visitors = 5
	gate := make(chan struct{})
	s := newRig(t, text("shared", `ETag: "v1"`))
	s.get("/ports/a")
	s.pass(2 * time.Minute)
	s.answer(func(w http.ResponseWriter, r *http.Request) {
		<-gate
		w.Header().Set("Cache-Control", "private")
		w.Header().Set("ETag", `"v1"`)
		if r.Header.Get("If-None-Match") != "" {
			w.WriteHeader(304)
		}
	})
	before := s.asked.Load()
	done := make(chan answer, visitors)
	for range visitors {
		go func() { a, _ := s.try("GET", "/ports/a"); done <- a }()
	}
	require.Eventually(t, func() bool { return s.edge.waiting() == visitors }, 5*time.Second, time.Millisecond)
	close(gate)
	for range visitors {
		assert.NotContains(t, (<-done).state, "collapsed")
	}
	assert.EqualValues(t, visitors, s.asked.Load()-before, "everyone asked for themselves")
	assert.Zero(t, s.edge.store.Figures().Entries)
}

// TestWhoCannotBeToldApartAsksAlone: an absent and an empty field under Vary, while
// the answer to the other is still under way.
func TestWhoCannotBeToldApartAsksAlone(t *testing.T) {
	gate := make(chan struct{})
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Vary", "X-A")
		_, present := r.Header["X-A"]
		fmt.Fprintf(w, "present: %v", present)
		w.(http.Flusher).Flush()
		if !present {
			<-gate
		}
	})
	first := make(chan answer)
	go func() { a, _ := s.try("GET", "/ports/a"); first <- a }()
	require.Eventually(t, func() bool { return s.asked.Load() == 1 }, 5*time.Second, time.Millisecond)
	assert.Equal(t, "present: true", s.get("/ports/a", "X-A: ").body)
	close(gate)
	assert.Equal(t, "present: false", (<-first).body)
}

func TestWhatOfAQuestionReachesTheOrigin(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, `{"data":"%s|%s|%s"}`, body, r.Header.Get("Content-Type"), r.Header.Get("Content-Encoding"))
	})
	a, err := s.send("GET", "/graphql?query={a}", "poison", "Content-Type: text/poison")
	require.NoError(t, err)
	assert.Equal(t, `{"data":"||"}`, a.body, "a body of a GET is not sent on")
	b := s.post("POST", "/ask", `{}`, "Content-Type: application/json; charset=poison")
	assert.Equal(t, `{"data":"{}|application/json|"}`, b.body, "nor are parameters that the key leaves out")
	s.post("POST", "/ask", `{"x":1}`, "Content-Type: application/json", "Content-Encoding: poison")
	assert.False(t, s.post("POST", "/ask", `{"x":1}`, "Content-Type: application/json").hit(), "an encoded body is another")
}

func TestInterimAnswersAndTrailersArePassedOn(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Link", "</style.css>; rel=preload")
		w.WriteHeader(http.StatusEarlyHints)
		w.Header().Del("Link")
		w.Header().Set("Trailer", "Checksum")
		_, _ = io.WriteString(w, "body")
		w.(http.Flusher).Flush()
		w.Header().Set("Checksum", "abc")
	})
	for _, path := range []string{"/ports/a", "/x"} { // stored, and not stored
		var hints []string
		req, _ := http.NewRequest("GET", s.url+path, nil)
		req = req.WithContext(httptrace.WithClientTrace(req.Context(), &httptrace.ClientTrace{Got1xxResponse: func(code int, h textproto.MIMEHeader) error {
			hints = append(hints, fmt.Sprint(code, h.Get("Link")))
			return nil
		}}))
		resp, err := http.DefaultTransport.RoundTrip(req)
		require.NoError(t, err)
		_, _ = io.ReadAll(resp.Body)
		resp.Body.Close()
		assert.Equal(t, []string{"103</style.css>; rel=preload"}, hints, path)
		assert.Empty(t, resp.Header.Get("Link"))
		assert.Equal(t, "abc", resp.Trailer.Get("Checksum"), path)
	}
}

func TestEventsStreamThroughAsTheyCome(t *testing.T) {
	next := make(chan string)
	s := newRig(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		for event := range next {
			fmt.Fprintf(w, "data: %s\n\n", event)
			w.(http.Flusher).Flush()
		}
	})
	go func() { next <- "one" }()
	req, err := http.NewRequest("GET", s.url+"/ports/a", nil)
	require.NoError(t, err)
	req.Header.Set("Accept", "text/event-stream")
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	room := make([]byte, 100)
	for _, event := range []string{"one", "two"} {
		if event == "two" {
			next <- "two"
		}
		n, err := resp.Body.Read(room)
		require.NoError(t, err)
		assert.Equal(t, "data: "+event+"\n\n", string(room[:n]))
	}
	close(next)
	assert.Zero(t, s.edge.store.Figures().Entries)
}

func TestExplainTokens(t *testing.T) {
	s := newRig(t, text("x"))
	const may = "Gerastic-Explain: may explain"
	cold := s.get("/ports/a?page=2", may)
	assert.Contains(t, cold.state, `path=/ports/a query=page=2"; detail="cold"`)
	assert.Contains(t, s.get("/ports/a?page=2", may).state, `hit; ttl=60; key="route=port@`)
	assert.NotContains(t, s.get("/ports/a?page=2", "Gerastic-Explain: guess").state, "key=")
}

func TestMaxStaleWhereTheRouteObeys(t *testing.T) {
	s := newRig(t, text("x"))
	s.get("/obeys/a")
	s.pass(90 * time.Second)
	assert.Equal(t, "hit; ttl=-30", s.get("/obeys/a", "Cache-Control: max-stale=40").state)
	assert.Equal(t, "hit; ttl=-30", s.get("/obeys/a", "Cache-Control: max-stale").state)
	assert.Contains(t, s.get("/obeys/a", "Cache-Control: max-stale=10").state, "fwd=stale")
	assert.NotContains(t, s.get("/obeys/b", "Cache-Control: no-store").state, "stored")
	assert.False(t, s.get("/obeys/b").hit(), "the visitor asked for it not to be stored")
}

// several returns an edge with one origin at the given addresses.
func several(t *testing.T, origin string) *rig {
	return newRigOf(t, "origins: [{ name: site, "+origin+" }]\nroutes: [{ name: all, match: { path: \"/{x...}\" } }]\n", nil)
}

func status(t *testing.T, method, url string) int {
	req, _ := http.NewRequest(method, url, bytes.NewReader(nil))
	resp, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(t, err)
	resp.Body.Close()
	return resp.StatusCode
}

func TestAnotherAddressStepsIn(t *testing.T) {
	var broken, well, posts atomic.Int64
	bad := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		broken.Add(1)
		if r.Method == "POST" {
			posts.Add(1)
		}
		panic(http.ErrAbortHandler)
	}))
	defer bad.Close()
	good := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { well.Add(1) }))
	defer good.Close()
	s := several(t, fmt.Sprintf("url: [%q, %q]", bad.URL, good.URL))
	for range 6 {
		assert.Equal(t, 200, status(t, "GET", s.url+"/a"))
	}
	assert.EqualValues(t, 1, broken.Load(), "an address that failed is passed over for a while")
	assert.EqualValues(t, 6, well.Load())

	alone := several(t, "url: "+bad.URL)
	assert.Equal(t, 502, status(t, "POST", alone.url+"/a"))
	assert.EqualValues(t, 1, posts.Load(), "what is not idempotent is not repeated")
	before := broken.Load()
	assert.Equal(t, 502, status(t, "GET", alone.url+"/a"))
	assert.EqualValues(t, 2, broken.Load()-before, "what is, once")
}

func TestTheBreakerOpensAndLetsATrialThrough(t *testing.T) {
	var asked atomic.Int64
	var well atomic.Bool
	o := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		asked.Add(1)
		if !well.Load() {
			panic(http.ErrAbortHandler)
		}
	}))
	defer o.Close()
	s := several(t, "url: "+o.URL+", breaker: { after: 4, retry: 200ms }")
	for range 10 {
		assert.Equal(t, 502, status(t, "GET", s.url+"/a"))
	}
	assert.EqualValues(t, 4, asked.Load(), "then it is left alone")
	well.Store(true)
	require.Eventually(t, func() bool { return status(t, "GET", s.url+"/a") == 200 }, 5*time.Second, 20*time.Millisecond)
	assert.EqualValues(t, 5, asked.Load(), "one trial was enough")
	assert.Equal(t, 200, status(t, "GET", s.url+"/a"))
}

func TestProbesFindOutWhoIsWell(t *testing.T) {
	var sick atomic.Bool
	var visits atomic.Int64
	one := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/healthy" {
			visits.Add(1)
		}
		if sick.Load() {
			w.WriteHeader(503)
		}
	}))
	defer one.Close()
	two := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer two.Close()
	s := several(t, fmt.Sprintf("url: [%q, %q], check: { path: /healthy, every: 20ms, timeout: 1s }", one.URL, two.URL))
	sick.Store(true)
	require.Eventually(t, func() bool {
		before := visits.Load()
		for range 4 {
			status(t, "GET", s.url+"/a")
		}
		return visits.Load() == before
	}, 5*time.Second, 20*time.Millisecond)
	sick.Store(false)
	require.Eventually(t, func() bool {
		before := visits.Load()
		for range 4 {
			status(t, "GET", s.url+"/a")
		}
		return visits.Load() > before
	}, 5*time.Second, 20*time.Millisecond)
}

// TestCompareNamesWhatTheKeyLacks: hits are asked again, and a finding names the part
// that separates the answers.
func TestCompareNamesWhatTheKeyLacks(t *testing.T) {
	for _, c := range []struct {
		name     string
		answer   func(r *http.Request) string
		visitors [2][]string // path, headers
		kind     string
		by       string
	}{
		{"a cookie", func(r *http.Request) string {
			c, _ := r.Cookie("currency")
			return fmt.Sprint(c != nil && c.Value == "eur")
		}, [2][]string{{"/compared"}, {"/compared", "Cookie: a=1; currency=eur; b=2"}}, "key", "cookie currency"},
		{"a header", func(r *http.Request) string { return r.Header.Get("X-Device") }, [2][]string{{"/compared"}, {"/compared", "X-Device: phone", "X-Other: 1"}}, "key", "header X-Device"},
		{"a parameter", func(r *http.Request) string { return r.URL.Query().Get("ref") }, [2][]string{{"/compared"}, {"/compared?ref=friend&utm=x"}}, "key", "parameter ref"},
		{"nothing", func(*http.Request) string { return "same" }, [2][]string{{"/compared"}, {"/compared?ref=friend", "X-Device: phone"}}, "", ""},
		{"what the route ignores", func(r *http.Request) string { return "token=" + r.Header.Get("X-Device") + ";" }, [2][]string{{"/compared"}, {"/compared", "X-Device: phone"}}, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			found := make(chan fetch.Finding, 10)
			s := newRig(t, func(w http.ResponseWriter, r *http.Request) { _, _ = io.WriteString(w, c.answer(r)) })
			s.onFinding(func(f fetch.Finding) { found <- f })
			s.get(c.visitors[0][0], c.visitors[0][1:]...)
			a := s.get(c.visitors[1][0], c.visitors[1][1:]...)
			assert.True(t, a.hit(), "the visitor notices nothing")
			if c.kind == "" {
				require.Eventually(t, func() bool { return s.asked.Load() >= 2 }, 5*time.Second, time.Millisecond)
				time.Sleep(20 * time.Millisecond)
				assert.Empty(t, found)
				return
			}
			select {
			case f := <-found:
				assert.Equal(t, c.kind, f.Kind)
				assert.Equal(t, c.by, f.Separator)
				assert.NotEqual(t, f.Stored, f.Origin)
				assert.Contains(t, f.Key, "path=/compared")
			case <-time.After(5 * time.Second):
				t.Fatal("nothing was found")
			}
			before := s.asked.Load()
			s.get(c.visitors[1][0], c.visitors[1][1:]...)
			assert.Equal(t, before, s.asked.Load(), "a key with a finding is left alone for a while")
		})
	}
	found := make(chan fetch.Finding, 10)
	s := newRig(t, text("old"))
	s.onFinding(func(f fetch.Finding) { found <- f })
	s.get("/compared")
	s.answer(text("new"))
	s.get("/compared")
	assert.Equal(t, "changed", (<-found).Kind, "the content changed, and nobody purged")
}

func TestCompareIsBounded(t *testing.T) {
	s := newRig(t, text("same"))
	s.onFinding(func(fetch.Finding) {})
	for range 200 {
		s.get("/compared")
	}
	time.Sleep(50 * time.Millisecond)
	assert.LessOrEqual(t, s.asked.Load(), int64(1+100), "one fill, and what one second allows: the clock stands still")
}

func TestWatchingNeverSlowsARequest(t *testing.T) {
	s := newRig(t, text("x"))
	all := func(*Event) bool { return true }
	slow, keys := s.edge.Watch(Wanted{Wants: all}), s.edge.Watch(Wanted{Keys: true, Wants: func(e *Event) bool { return strings.HasSuffix(e.URL, "=1") }})
	defer slow.Close()
	visit := func(page int) {
		s.edge.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", fmt.Sprintf("http://h/ports/a?page=%d", page), nil))
	}
	for range 20 {
		visit(2)
		visit(1)
		e := <-keys.Events
		assert.Equal(t, "port", e.Sample.Route)
		assert.Contains(t, e.Key, "path=/ports/a")
		assert.Equal(t, "http://h/ports/a?page=1", e.URL, "what it does not want is neither shown nor missed")
	}
	assert.Zero(t, keys.Missed.Load())
	assert.Empty(t, (<-slow.Events).Key)
	for range 3 * handedRate {
		visit(2)
	}
	assert.Eventually(t, func() bool { return slow.Missed.Load() > 0 }, 5*time.Second, time.Millisecond, "who does not read misses events, and is told")
	assert.LessOrEqual(t, len(slow.Events), watchRoom)
	var more []*Watch
	for range MaxWatches - 2 {
		more = append(more, s.edge.Watch(Wanted{Wants: all}))
	}
	assert.Nil(t, s.edge.Watch(Wanted{Wants: all}), "no more may watch")
	for _, w := range append(more, keys) {
		w.Close()
	}
	again := s.edge.Watch(Wanted{Wants: all})
	require.NotNil(t, again)
	again.Close()
}
