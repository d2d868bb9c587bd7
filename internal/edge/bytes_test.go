package edge

import (
	"cmp"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/tags"
)

// TestACodingIsServedOnlyToThoseWhoTakeIt, whatever Vary says.
func TestACodingIsServedOnlyToThoseWhoTakeIt(t *testing.T) {
	negotiating := func(vary bool) http.HandlerFunc { // a static-file middleware
		return func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Cache-Control", "max-age=60")
			w.Header().Set("Etag", `"v1"`) // the same for all, as careless ones do
			if vary {
				w.Header().Set("Vary", "Accept-Encoding")
			}
			coding := "identity"
			for _, known := range []string{"gzip", "br"} {
				if strings.Contains(r.Header.Get("Accept-Encoding"), known) {
					coding = known
					w.Header().Set("Content-Encoding", known)
				}
			}
			if r.Header.Get("If-None-Match") != "" {
				w.WriteHeader(http.StatusNotModified)
				return
			}
			_, _ = io.WriteString(w, coding)
		}
	}
	for _, vary := range []bool{false, true} {
		s := newRig(t, negotiating(vary))
		for range 2 {
			for _, accept := range []string{"br, gzip", "gzip", "", "identity", "gzip;q=0, br", "*"} {
				var fields []string
				if accept != "" {
					fields = []string{"Accept-Encoding: " + accept}
				}
				a := s.get("/static.css", fields...)
				coding := a.header.Get("Content-Encoding")
				assert.Equal(t, cmp.Or(coding, "identity"), a.body, "head and body belong together")
				assert.True(t, coding == "" || accept == "*" || strings.Contains(accept, coding) && !strings.Contains(accept, coding+";q=0"), "%q was given to %q (Vary: %v): %s", coding, accept, vary, a.state)
			}
		}
		assert.Equal(t, 200, s.get("/static.css", "Range: bytes=1-2", `If-Range: "v1"`).status, "that tag is no ground to go on with a part")
		assert.Equal(t, "de", s.get("/static.css", "Range: bytes=1-2").body)
		s.pass(2 * time.Minute)
		assert.Equal(t, "identity", s.get("/static.css").body, "a 304 with that tag confirms nothing of another coding")
	}
	always := newRig(t, text("packed", "Cache-Control: max-age=60", "Content-Encoding: gzip")) // prerendered
	assert.Contains(t, always.get("/page.gz", "Accept-Encoding: gzip").state, "stored")
	assert.True(t, always.get("/page.gz", "Accept-Encoding: x-gzip").hit())
	assert.False(t, always.get("/page.gz").hit(), "who says nothing is given what the origin gives them")
	meeting := newRig(t, nil)
	meeting.answer(func(w http.ResponseWriter, r *http.Request) {
		meeting.meet()
		negotiating(false)(w, r)
	})
	answers := meeting.together("/static.css", "Accept-Encoding: br", "Accept-Encoding: gzip", "")
	for i, coding := range []string{"br", "gzip", ""} {
		assert.Contains(t, []string{coding, ""}, answers[i].header.Get("Content-Encoding"), "nor to those who ask together")
		assert.Equal(t, cmp.Or(answers[i].header.Get("Content-Encoding"), "identity"), answers[i].body)
	}
}

func TestA304NeverNarrowsVary(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=60")
		w.Header().Set("Etag", `"`+r.Header.Get("X-Device")+`"`)
		if r.Header.Get("If-None-Match") != "" {
			w.Header().Set("Vary", "Origin")
			w.WriteHeader(http.StatusNotModified)
			return
		}
		w.Header().Set("Vary", "X-Device")
		_, _ = io.WriteString(w, r.Header.Get("X-Device"))
	})
	s.get("/x", "X-Device: phone")
	s.pass(2 * time.Minute)
	assert.Contains(t, s.get("/x", "X-Device: phone").state, "fwd-status=304")
	assert.Equal(t, "X-Device, Origin", s.get("/x", "X-Device: phone").header.Get("Vary"))
	assert.Equal(t, "desk", s.get("/x", "X-Device: desk").body)
}

// TestNothingIsInvented: an answer without Content-Type goes out without, on every way.
func TestNothingIsInvented(t *testing.T) {
	const page = "<html><script>alert(1)</script></html>"
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header()["Content-Type"] = nil
		w.Header().Set("X-Content-Type-Options", "nosniff")
		w.Header().Set("Etag", `"v1"`)
		w.Header().Set("Cache-Control", map[bool]string{true: "no-store", false: "max-age=60"}[strings.HasPrefix(r.URL.Path, "/x/unstored")])
		_, _ = io.WriteString(w, page)
	})
	for _, c := range []struct {
		name, method, path string
		fields             []string
		status             int
	}{
		{"a miss", "GET", "/x/a", nil, 200}, {"a hit", "GET", "/x/a", nil, 200}, {"a hit's head", "HEAD", "/x/a", nil, 200},
		{"a part", "GET", "/x/a", []string{"Range: bytes=0-5"}, 206}, {"parts", "GET", "/x/a", []string{"Range: bytes=0-1,4-5"}, 206}, {"no part", "GET", "/x/a", []string{"Range: bytes=999-"}, 416},
		{"unchanged", "GET", "/x/a", []string{`If-None-Match: "v1"`}, 304}, {"not stored", "GET", "/x/unstored", nil, 200}, {"passed", "POST", "/x/a", nil, 200},
		{"passed for a part", "GET", "/x/unstored", []string{"Range: bytes=0-5"}, 200}, {"composed", "GET", "/composed/a", nil, 200}, {"a fill for a part", "GET", "/x/b", []string{"Range: bytes=0-5"}, 206},
	} {
		a := s.do(c.method, c.path, c.fields...)
		assert.Equal(t, c.status, a.status, c.name)
		if c.name == "parts" {
			assert.NotContains(t, a.body, "Content-Type", c.name)
			continue
		}
		assert.Empty(t, a.header["Content-Type"], c.name)
	}
}

// TestCORSAnswersKeepTheirFields: of several entries that match, one whose Vary matches
// goes before one without (RFC 9111 §4.1).
func TestCORSAnswersKeepTheirFields(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=60")
		if from := r.Header.Get("Origin"); strings.HasPrefix(from, "http://ok") {
			w.Header().Set("Access-Control-Allow-Origin", from)
			w.Header().Set("Vary", "Origin")
		}
		_, _ = io.WriteString(w, "font")
	})
	visit := func(from string) answer {
		if from == "" {
			return s.get("/font")
		}
		return s.get("/font", "Origin: "+from)
	}
	visit("http://ok.a") // a variant is known to depend on Origin
	visit("")
	for round := range 2 {
		for _, from := range []string{"http://ok.a", "", "http://ok.b", "http://no.c"} {
			want := ""
			if strings.HasPrefix(from, "http://ok") {
				want = from
			}
			a := visit(from)
			assert.Equal(t, want, a.header.Get("Access-Control-Allow-Origin"), "%s: %s", from, a.state)
			if round > 0 {
				assert.True(t, a.hit(), "%s: %s", from, a.state)
			}
		}
	}
}

// TestAStaleAnswerThatVariesGoesBeforeAFreshOneThatDoesNot: it is asked about.
func TestAStaleAnswerThatVariesGoesBeforeAFreshOneThatDoesNot(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=600")
		if from := r.Header.Get("Origin"); from != "" {
			w.Header().Set("Cache-Control", "max-age=10")
			w.Header().Set("Access-Control-Allow-Origin", from)
			w.Header().Set("Vary", "Origin")
		}
		_, _ = io.WriteString(w, "font")
	})
	s.get("/font", "Origin: http://a")
	s.pass(20 * time.Second)
	s.get("/font")
	for range 2 {
		assert.Equal(t, "http://a", s.get("/font", "Origin: http://a").header.Get("Access-Control-Allow-Origin"))
	}
	assert.True(t, s.get("/font", "Origin: http://a").hit())
	assert.True(t, s.get("/font").hit())
}

// TestAnOriginMayVaryNoMore: what it once depended on separates nothing for longer than
// answers that say so are fresh.
func TestAnOriginMayVaryNoMore(t *testing.T) {
	s := newRig(t, text("nb", "Cache-Control: max-age=60", "Vary: Accept-Language"))
	s.get("/x", "Accept-Language: nb")
	s.answer(text("all", "Cache-Control: max-age=60"))
	s.pass(2 * time.Minute)
	assert.Equal(t, "all", s.get("/x", "Accept-Language: gd").body)
	for _, language := range []string{"gd", "en", "nb"} {
		s.get("/x", "Accept-Language: "+language)
		assert.True(t, s.get("/x", "Accept-Language: "+language).hit(), language)
		assert.Equal(t, "all", s.get("/x", "Accept-Language: "+language).body)
	}
	assert.LessOrEqual(t, s.asked.Load(), int64(3))
}

func TestWhatIsTrueOfTheWholeIsNotSaidOfAPart(t *testing.T) {
	s := newRig(t, text(strings.Repeat("hello ", 300), "Content-Type: text/html", "Cache-Control: max-age=60", "Content-Digest: sha-256=:AA==:", "Repr-Digest: sha-256=:AA==:", "Content-MD5: AA==", "Accept-Ranges: none"))
	whole := s.get("/x", "Accept-Encoding: br")
	assert.NotEmpty(t, whole.header.Get("Content-Digest"))
	part := s.get("/x", "Range: bytes=0-4")
	require.Equal(t, 206, part.status)
	assert.Empty(t, part.header["Content-Digest"])
	assert.Empty(t, part.header["Content-Md5"])
	assert.NotEmpty(t, part.header["Repr-Digest"], "it is of the whole, whatever is sent (RFC 9530 §3)")
	assert.Equal(t, "bytes", part.header.Get("Accept-Ranges"))
	require.Eventually(t, func() bool { return s.get("/x", "Accept-Encoding: br").header.Get("Content-Encoding") == "br" }, 5*time.Second, 5*time.Millisecond)
	coded := s.get("/x", "Accept-Encoding: br")
	for _, name := range []string{"Content-Digest", "Repr-Digest", "Content-Md5"} {
		assert.Empty(t, coded.header[name], name)
	}
}

func TestEntityTagsWithoutQuotesAreComparedAsTheyAre(t *testing.T) {
	s := newRig(t, text("x", "ETag: abc-1", "Cache-Control: max-age=60"))
	s.get("/x")
	for condition, status := range map[string]int{"abc-1": 304, `"q", abc-1`: 304, "abc-1, other": 304, "abc-2": 200, "abc": 200, `"abc-1"`: 200} {
		assert.Equal(t, status, s.get("/x", "If-None-Match: "+condition).status, condition)
	}
	assert.Equal(t, 206, s.get("/x", "Range: bytes=0-0", "If-Range: abc-1").status)
	assert.Equal(t, 200, s.get("/x", "Range: bytes=0-0", "If-Range: abc-2").status)
}

// TestStoredIsNotClaimedForWhatIsDropped: Cache-Status says what became of the answer.
func TestStoredIsNotClaimedForWhatIsDropped(t *testing.T) {
	s := newRig(t, text(`{"errors":[{"message":"no"}]}`, "Content-Type: application/json"))
	question := `{"query":"{ sailings { id } }"}`
	a := s.post("POST", "/graphql", question, "Content-Type: application/json")
	assert.NotContains(t, a.state, "stored", "an answer with errors")
	s.answer(text(`{"data":{}}`, "Content-Type: application/json"))
	tried := 0
	require.Eventually(t, func() bool { // one whose head is out before its body says nothing of it
		tried++
		another := fmt.Sprintf(`{"query":"{ sailings(day: %d) { id } }"}`, tried)
		return strings.Contains(s.post("POST", "/graphql", another, "Content-Type: application/json").state, "stored")
	}, 5*time.Second, time.Millisecond)
	s.answer(func(w http.ResponseWriter, _ *http.Request) { // too long, which shows only as it comes
		for range 10 {
			_, _ = io.WriteString(w, strings.Repeat("x", 20<<10))
			_ = http.NewResponseController(w).Flush()
		}
	})
	long := s.get("/page/long")
	assert.Len(t, long.body, 200<<10)
	assert.NotContains(t, long.state, "stored")
	s.answer(func(w http.ResponseWriter, _ *http.Request) {
		s.purge(tags.Purge{Tags: []string{"port:a"}}) // while the page is made
		_, _ = io.WriteString(w, "old")
	})
	assert.NotContains(t, s.get("/ports/a").state, "stored", "a purge was faster")
	refused := s.get("/x", "Cache-Control: only-if-cached")
	assert.Equal(t, 504, refused.status)
	assert.Equal(t, "gerastic", refused.header.Get("Cache-Status"), "our own answer says whose it is")
	s.answer(func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) })
	assert.Equal(t, "gerastic; fwd=uri-miss", s.get("/x/failing").header.Get("Cache-Status"))
}

// TestConnectionHidesNothingFromTheKey: what Connection names ends here, so that no key
// may hold it.
func TestConnectionHidesNothingFromTheKey(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Vary", "X-Device")
		w.Header().Set("Cache-Control", "max-age=60")
		fmt.Fprintf(w, "%q %q %q", r.Header["Cookie"], r.Header["Accept-Language"], r.Header["X-Device"])
	})
	for _, hidden := range []string{"Cookie: currency=kr", "Accept-Language: nb", "X-Device: phone"} {
		name, _, _ := strings.Cut(hidden, ":")
		path := "/page/" + name
		poison := s.get(path, hidden, "Connection: close, "+name)
		want := s.get(path).body
		assert.Equal(t, want, poison.body, "it counts as absent")
		assert.NotEqual(t, want, s.get(path, hidden).body, hidden)
	}
	s.answer(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, r.Header.Get("Cookie")) })
	assert.Equal(t, "currency=kr", s.get("/page/c", "Cookie: currency =kr").body)
	assert.True(t, s.get("/page/c", "Cookie: currency=kr").hit(), "origins read both alike")
	assert.False(t, s.get("/page/c", "Cookie: \u00a0currency=kr").hit(), "and this as another")
}

func TestQueriesGoAsTheyCame(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=60")
		_, _ = io.WriteString(w, r.RequestURI)
	})
	for _, target := range []string{"/x?b=1&a=2", "/x?a=2&b=1", "/x?a=%7e", "/x?a=~", "/x?", "/x", "/x?&&", "/x?a+b=%20"} {
		_, resp, in := s.raw("GET " + target + " HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
		resp.Body.Close()
		body, _ := io.ReadAll(in)
		assert.Equal(t, target, string(body), "byte for byte, and each an entry of its own")
	}
}

func TestPurgesReachEquivalentURLs(t *testing.T) {
	s := newRig(t, text("x", "Cache-Control: max-age=60"))
	for stored, changed := range map[string]string{"/caf%c3%a9": "/caf%C3%A9", "/%7euser/a": "/~user/a", "/d?q=%c3%a9": "/d?q=%C3%A9", "/e": "/x/../e"} {
		s.get(stored)
		require.True(t, s.get(stored).hit())
		_, resp, _ := s.raw("POST " + changed + " HTTP/1.1\r\nHost: " + strings.TrimPrefix(s.url, "http://") + "\r\nContent-Length: 0\r\n\r\n")
		resp.Body.Close()
		assert.False(t, s.get(stored).hit(), "%s after a change of %s (RFC 3986 §6.2.2)", stored, changed)
	}
}

// TestVisitorsDirectivesGoOn with a request that is forwarded (RFC 9111 §5.2), and with no
// refresh of our own.
func TestVisitorsDirectivesGoOn(t *testing.T) {
	heard := make(chan string, 10)
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		heard <- strings.Join(r.Header["Cache-Control"], "|") + " " + r.Header.Get("Pragma")
		w.Header().Set("Cache-Control", "max-age=10, stale-while-revalidate=100")
	})
	s.get("/x", "Cache-Control: max-age=5, odd=\"a b\"", "Pragma: no-cache")
	assert.Equal(t, `max-age=5, odd="a b" no-cache`, <-heard)
	s.do("POST", "/x", "Cache-Control: no-store, only-if-cached")
	assert.Equal(t, "no-store ", <-heard)
	s.get("/stale/a", "Cache-Control: max-stale=7, odd=1")
	assert.Equal(t, "max-stale=7 ", <-heard, "what no standard knows could be in the page")
	s.pass(time.Minute)
	assert.True(t, s.get("/stale/a", "Cache-Control: max-stale=7").hit())
	assert.Equal(t, " ", <-heard, "the visitor does not wait for the refresh")
}

// Test304sGiveTheirCookieToOneVisitor, with and without a route that takes cookies off.
func Test304sGiveTheirCookieToOneVisitor(t *testing.T) {
	for _, path := range []string{"/page/a", "/ports/a"} {
		n := 0
		s := newRig(t, nil)
		s.answer(func(w http.ResponseWriter, r *http.Request) {
			n++
			w.Header().Set("Etag", `"v1"`)
			w.Header().Set("Cache-Control", `max-age=60, private="X-User"`)
			if n == 1 {
				_, _ = io.WriteString(w, "page")
				return
			}
			w.Header().Set("Set-Cookie", fmt.Sprintf("session=%d", n))
			w.Header().Set("X-User", fmt.Sprint(n))
			require.NotEmpty(t, r.Header.Get("If-None-Match"), "what is here is asked about")
			w.WriteHeader(http.StatusNotModified)
		})
		s.get(path)
		for range 2 {
			s.pass(2 * time.Minute)
			caused := s.get(path)
			assert.Equal(t, "page", caused.body)
			assert.Equal(t, fmt.Sprintf("session=%d", n), caused.header.Get("Set-Cookie"), path)
			assert.Equal(t, fmt.Sprint(n), caused.header.Get("X-User"))
			s.pass(2 * time.Minute)
			unchanged := s.get(path, `If-None-Match: "v1"`)
			assert.Equal(t, 304, unchanged.status)
			assert.Equal(t, fmt.Sprintf("session=%d", n), unchanged.header.Get("Set-Cookie"), "also with a 304 of their own")
			if path == "/page/a" {
				later := s.get(path)
				assert.True(t, later.hit(), later.state)
				assert.Empty(t, later.header["Set-Cookie"])
				assert.Empty(t, later.header["X-User"])
			}
		}
	}
}

// TestVisitorsAskForThemselvesWhatIsNotStored: where the last answer of a key could not be
// stored, the origin is told what the visitor has, and renders nothing for who has it.
func TestVisitorsAskForThemselvesWhatIsNotStored(t *testing.T) {
	rendered := 0
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Etag", `"v1"`)
		w.Header().Set("Set-Cookie", "rolling=1")
		if r.Header.Get("If-None-Match") == `"v1"` {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		rendered++
		_, _ = io.WriteString(w, "page")
	})
	s.get("/ports/a")
	first := rendered
	for range 3 {
		s.pass(time.Hour)
		a := s.get("/ports/a", `If-None-Match: "v1"`)
		assert.Equal(t, 304, a.status, a.state)
		assert.Equal(t, "rolling=1", a.header.Get("Set-Cookie"))
	}
	assert.Equal(t, first, rendered)
	assert.Equal(t, "page", s.get("/ports/a", `If-None-Match: "v0"`).body)
	s.answer(text("storable", `ETag: "v2"`))
	s.pass(time.Hour)
	assert.Contains(t, s.get("/ports/a", `If-None-Match: "v1"`).state, "stored", "once it can be, it is")
	assert.True(t, s.get("/ports/a").hit())
}

func TestWhatIsForOneStaysPrivate(t *testing.T) {
	s := newRigOf(t, "routes: [{ name: mine, match: { path: \"/mine\" }, key: { identity: \"cookie:session\" }, lifetime: { browser: 5s } }, { name: all, match: { path: \"/{x...}\" }, lifetime: { browser: 5s } }]",
		text("x", "Cache-Control: max-age=60, no-transform"))
	for _, state := range []string{"stored", "hit"} {
		mine, all := s.get("/mine", "Cookie: session=ada"), s.get("/all")
		assert.Contains(t, mine.state, state)
		assert.Equal(t, "private, max-age=5, no-transform", mine.header.Get("Cache-Control"))
		assert.Equal(t, "max-age=5, no-transform", all.header.Get("Cache-Control"))
		assert.Equal(t, "max-age=5, no-transform", s.get("/mine").header.Get("Cache-Control"), "nobody's")
	}
	s.answer(text("x", `Cache-Control: private="X-User", max-age=60`))
	assert.Equal(t, `max-age=5, private="X-User"`, s.get("/fields").header.Get("Cache-Control"))
}

// TestVaryOnWhatWeSetOurselves: what is compared is what was sent.
func TestVaryOnWhatWeSetOurselves(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Vary", "X-Forwarded-For")
		w.Header().Set("Cache-Control", "max-age=60")
		_, _ = io.WriteString(w, r.Header.Get("X-Forwarded-For"))
	})
	from := func(ip string) string {
		dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(ip)}}
		resp, err := (&http.Transport{DialContext: dialer.DialContext, DisableKeepAlives: true}).RoundTrip(&http.Request{Method: "GET", URL: mustURL(s.url + "/x"), Header: http.Header{"X-Forwarded-For": {"10.9.9.9"}}})
		require.NoError(t, err)
		defer resp.Body.Close()
		body, _ := io.ReadAll(resp.Body)
		return string(body)
	}
	for range 2 {
		assert.Equal(t, "127.0.0.1", from("127.0.0.1"))
		assert.Equal(t, "127.0.0.2", from("127.0.0.2"))
	}
	assert.EqualValues(t, 2, s.asked.Load())
}

func mustURL(text string) *url.URL {
	u, err := url.Parse(text)
	if err != nil {
		panic(err)
	}
	return u
}
