package edge

import (
	"bufio"
	"fmt"
	"io"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// fakeOrigin answers by path, and counts what it was asked for.
type fakeOrigin struct {
	mu     sync.Mutex
	serves map[string]http.HandlerFunc
	asked  map[string]int
}

func (k *fakeOrigin) handler(w http.ResponseWriter, r *http.Request) {
	k.mu.Lock()
	k.asked[r.URL.Path]++
	serve := k.serves[r.URL.Path]
	k.mu.Unlock()
	if serve == nil {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	serve(w, r)
}

func (k *fakeOrigin) serve(path string, h http.HandlerFunc) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.serves[path] = h
}

// since returns what was asked for since the last call.
func (k *fakeOrigin) since() map[string]int {
	k.mu.Lock()
	defer k.mu.Unlock()
	asked := k.asked
	k.asked = map[string]int{}
	return asked
}

func composing(t *testing.T, serves map[string]http.HandlerFunc) (*rig, *fakeOrigin) {
	k := &fakeOrigin{serves: serves, asked: map[string]int{}}
	return newRig(t, k.handler), k
}

func TestComposedPage(t *testing.T) {
	s, k := composing(t, map[string]http.HandlerFunc{
		"/composed/home": text(`<h1><esi:include src="/wallet"/></h1><esi:include src="/piece/board"/><esi:include src="/piece/gone" onerror="continue"/>.`, `Cache-Groups: "home"`, `Etag: "skeleton"`, "Last-Modified: Sun, 17 May 2026 10:00:00 GMT"),
		"/piece/board":   text("board"),
		"/wallet": func(w http.ResponseWriter, r *http.Request) {
			c, _ := r.Cookie("session")
			w.Header().Set("Cache-Control", "private, max-age=30")
			w.Header().Set("Set-Cookie", "seen=1")
			_, _ = io.WriteString(w, "Hello "+c.Value)
		},
	})
	s.answer(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/wallet" {
			k.handler(&noCookies{w}, r)
			return
		}
		k.handler(w, r)
	})
	ingrid, calum := "Cookie: session=ingrid", "Cookie: session=calum"
	a := s.get("/composed/home", ingrid)
	assert.Equal(t, "<h1>Hello ingrid</h1>board.", a.body)
	assert.Equal(t, map[string]int{"/composed/home": 1, "/piece/board": 1, "/piece/gone": 1, "/wallet": 1}, k.since())
	assert.Equal(t, "private, no-cache", a.header.Get("Cache-Control"), "it holds what is for one visitor alone")
	for _, name := range []string{"Etag", "Last-Modified", "Age", "Gerastic-Parts"} {
		assert.Empty(t, a.header.Get(name), "%s would speak of the skeleton only", name)
	}
	assert.Equal(t, "<h1>Hello calum</h1>board.", s.get("/composed/home", calum).body)
	assert.Equal(t, map[string]int{"/wallet": 1}, k.since(), "the skeleton and the board are shared, and that one part is gone")

	s.purge(tags.Purge{Tags: []string{"piece:board"}})
	k.serve("/piece/board", text("new board"))
	assert.Equal(t, "<h1>Hello ingrid</h1>new board.", s.get("/composed/home", ingrid).body)
	assert.Equal(t, map[string]int{"/piece/board": 1}, k.since(), "only the part that was purged")
	s.purge(tags.Purge{Tags: []string{"home"}})
	k.serve("/composed/home", text(`<esi:include src="/piece/board"/>!`))
	assert.Equal(t, "new board!", s.get("/composed/home", ingrid).body)
	s.pass(11 * time.Second)
	assert.Equal(t, "new board!", s.get("/composed/home", ingrid).body)
	assert.Equal(t, map[string]int{"/composed/home": 1, "/piece/board": 1}, k.since(), "each lives as long as its own route says")

	var visitors, within, parts int64
	for key, cell := range s.edge.meter.Drain() {
		if key.Cause == meter.Includes {
			parts += cell.Requests
			assert.Equal(t, meter.Miss, key.Outcome)
		}
		if meter.Within(key.Route) {
			within += cell.Requests
		} else {
			visitors += cell.Requests
		}
	}
	assert.EqualValues(t, 5, visitors, "a page is one request of a visitor's")
	assert.EqualValues(t, 11, within)
	assert.EqualValues(t, 3, parts, "who waited for a part was not answered from the store")
}

// noCookies takes Set-Cookie away: what sets one is not stored.
type noCookies struct{ http.ResponseWriter }

func (n *noCookies) Write(p []byte) (int, error) {
	n.Header().Del("Set-Cookie")
	return n.ResponseWriter.Write(p)
}

func TestValidatorsOfComposedPages(t *testing.T) {
	s, k := composing(t, map[string]http.HandlerFunc{
		"/composed/a": text(`1<esi:include src="/piece/x"/>2<esi:include src="/piece/y"/>3`),
		"/piece/x":    text("X"), "/piece/y": text("Y"),
	})
	assert.Empty(t, s.get("/composed/a").header.Get("Etag"), "not all was at hand")
	whole := s.get("/composed/a")
	etag := whole.header.Get("Etag")
	require.NotEmpty(t, etag, "all was at hand")
	assert.Equal(t, "5", whole.header.Get("Content-Length"))
	again := s.get("/composed/a", "If-None-Match: "+etag)
	assert.Equal(t, 304, again.status)
	assert.Empty(t, again.body)
	assert.Equal(t, etag, again.header.Get("Etag"))
	ranged := s.get("/composed/a", "Range: bytes=0-1")
	assert.Equal(t, 200, ranged.status, "no part of what is put together anew each time")
	assert.Equal(t, "1X2Y3", ranged.body)
	head := s.do("HEAD", "/composed/a")
	assert.Equal(t, "5", head.header.Get("Content-Length"))
	assert.Equal(t, 200, s.get("/composed/a", `If-Match: "other"`).status, "RFC 9111 §4.3.2")

	k.serve("/piece/y", text("Z"))
	s.purge(tags.Purge{Tags: []string{"piece:y"}})
	changed := s.get("/composed/a", "If-None-Match: "+etag)
	assert.Equal(t, 200, changed.status)
	assert.Equal(t, "1X2Z3", changed.body)
	assert.NotEqual(t, etag, s.get("/composed/a", "If-None-Match: "+etag).header.Get("Etag"), "the validator covers the parts")
}

// TestComposedPagesAreCompressed, whole or as they come, with a validator of their own.
func TestComposedPagesAreCompressed(t *testing.T) {
	long := strings.Repeat("Ostrel Isles Ferries. ", 100)
	s, _ := composing(t, map[string]http.HandlerFunc{"/composed/a": text(long + `<esi:include src="/piece/x"/>`), "/piece/x": text("X")})
	plain := map[string]func(io.Reader) io.Reader{
		"gzip": func(r io.Reader) io.Reader { z, err := gzip.NewReader(r); require.NoError(t, err); return z },
		"zstd": func(r io.Reader) io.Reader { z, err := zstd.NewReader(r); require.NoError(t, err); return z },
	}
	validators := map[string]bool{}
	for _, likes := range []string{"gzip", "zstd", "gzip"} {
		s.edge.store.Sweep(tags.Purge{Sequence: 1 << 40, All: true})
		for _, ready := range []bool{false, true} {
			a := s.get("/composed/a", "Accept-Encoding: br;q=1, "+likes)
			require.Equal(t, likes, a.header.Get("Content-Encoding"))
			assert.Less(t, len(a.body), len(long)/2)
			body, err := io.ReadAll(plain[likes](strings.NewReader(a.body)))
			require.NoError(t, err)
			assert.Equal(t, long+"X", string(body))
			assert.Contains(t, a.header["Vary"], "Accept-Encoding")
			assert.Equal(t, ready, a.header.Get("Etag") != "")
			if ready {
				validators[a.header.Get("Etag")] = true
				assert.Equal(t, 304, s.get("/composed/a", "Accept-Encoding: "+likes, "If-None-Match: "+a.header.Get("Etag")).status)
			}
		}
	}
	validators[s.get("/composed/a").header.Get("Etag")] = true
	assert.Len(t, validators, 3, "plain, gzip and zstd each have their own")
}

// TestCredentialsStayWithTheirHost: parts of the page's own host get the visitor's cookies,
// those of another host do not.
func TestCredentialsStayWithTheirHost(t *testing.T) {
	tell := func(w http.ResponseWriter, r *http.Request) {
		_, _ = fmt.Fprintf(w, "[%s %s%s]", r.Host, r.Header.Get("Cookie"), r.Header.Get("Authorization"))
	}
	s, _ := composing(t, map[string]http.HandlerFunc{
		"/composed/a": text(`<esi:include src="/bypass/own"/><esi:include src="http://partner.example/bypass/other"/>`), "/bypass/own": tell, "/bypass/other": tell,
	})
	a := s.get("/composed/a", "Host: www.ostrel.example", "Cookie: session=ingrid", "Authorization: Basic eDp5")
	assert.Equal(t, "[www.ostrel.example session=ingridBasic eDp5][partner.example ]", a.body)
}

// TestStaleIncludes are put in while they are renewed behind.
func TestStaleIncludes(t *testing.T) {
	s, k := composing(t, map[string]http.HandlerFunc{"/composed/a": text(`<esi:include src="/stale/x"/>!`), "/stale/x": text("old")})
	s.get("/composed/a")
	s.pass(50 * time.Second)
	s.get("/composed/a") // renews nothing: all is fresh
	k.serve("/stale/x", text("new"))
	s.pass(15 * time.Second)
	s.purge(tags.Purge{URLs: []tags.URL{{AnyHost: true, Path: "/composed/a"}}})
	s.get("/composed/a")
	a := s.get("/composed/a")
	assert.Contains(t, []string{"old!", "new!"}, a.body)
	require.Eventually(t, func() bool { return s.get("/composed/a").body == "new!" }, 10*time.Second, time.Millisecond)
	assert.NotEmpty(t, s.get("/composed/a").header.Get("Etag"))
}

func TestFailingIncludes(t *testing.T) {
	broken := func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "100")
		_, _ = io.WriteString(w, "half of")
		panic(http.ErrAbortHandler)
	}
	s, _ := composing(t, map[string]http.HandlerFunc{
		"/composed/needs":    text(`1<esi:include src="/piece/gone"/>2`),
		"/composed/half":     text(`1<esi:include src="/piece/half"/>2`),
		"/composed/without":  text(`1<esi:include src="/piece/half" onerror="continue"/>2`),
		"/composed/instead":  text(`1<esi:include src="/piece/half" alt="/piece/ok"/>2`),
		"/composed/try":      text(`<esi:try><esi:attempt>a<esi:include src="/piece/half"/></esi:attempt><esi:except>instead</esi:except></esi:try>`),
		"/composed/self":     text(`1<esi:include src="/composed/self"/>`),
		"/composed/far":      text(`1<esi:include src="ftp://ostrel.example/x"/>`),
		"/composed/packed":   text(`1<esi:include src="/piece/packed" onerror="continue"/>2`),
		"/composed/disorder": text(`1<esi:include src="/piece/ok">2`),
		"/piece/half":        broken, "/piece/ok": text("ok"), "/piece/packed": text("\x1f\x8b", "Content-Encoding: gzip"),
	})
	for path, body := range map[string]string{"without": "12", "instead": "1ok2", "try": "instead", "packed": "12", "disorder": `1<esi:include src="/piece/ok">2`} {
		for range 2 {
			a := s.get("/composed/" + path)
			assert.Equal(t, 200, a.status, path)
			assert.Equal(t, body, a.body, path)
		}
	}
	for _, path := range []string{"needs", "half", "self", "far"} {
		a := s.get("/composed/" + path)
		assert.Equal(t, 502, a.status, path)
		assert.NotContains(t, a.body, "1", "nothing of the page goes out")
	}
}

// TestIncludesInIncludesAreBounded: a page that includes itself many times ends all the same.
func TestIncludesInIncludesAreBounded(t *testing.T) {
	s, k := composing(t, map[string]http.HandlerFunc{
		"/composed/self": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Cache-Control", "no-store") // so that each is asked for anew
			_, _ = io.WriteString(w, "x"+strings.Repeat(`<esi:include src="/composed/self" onerror="continue"/>`, 20))
		},
	})
	a := s.get("/composed/self")
	assert.Equal(t, 200, a.status)
	assert.LessOrEqual(t, len(a.body), 257)
	assert.LessOrEqual(t, k.since()["/composed/self"], 2*257, "the first of all is asked for twice: for all, and then as its visitor did")
}

// TestHeadBeforeLateIncludes: a visitor gets what there is while a part that the page can do
// without is under way.
func TestHeadBeforeLateIncludes(t *testing.T) {
	release := make(chan struct{})
	s, _ := composing(t, map[string]http.HandlerFunc{
		"/composed/a":  text(`first <esi:include src="/piece/quick"/> <esi:include src="/piece/late" onerror="continue"/> last`),
		"/piece/quick": text("quick"),
		"/piece/late": func(w http.ResponseWriter, _ *http.Request) {
			<-release
			_, _ = io.WriteString(w, "late")
		},
	})
	resp, err := http.Get(s.url + "/composed/a")
	require.NoError(t, err)
	defer resp.Body.Close()
	r := bufio.NewReader(resp.Body)
	begin := make([]byte, len("first quick "))
	_, err = io.ReadFull(r, begin)
	require.NoError(t, err)
	assert.Equal(t, "first quick ", string(begin), "before the late part was there")
	close(release)
	rest, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Equal(t, "late last", string(rest))
}

// TestIncludesAreFetchedSideBySide: twenty parts that wait for one another in groups of eight.
func TestIncludesAreFetchedSideBySide(t *testing.T) {
	var mu sync.Mutex
	came, now, most := 0, 0, 0
	eight := sync.NewCond(&mu)
	serves := map[string]http.HandlerFunc{}
	skeleton := ""
	for i := range 20 {
		path := fmt.Sprintf("/piece/%d", i)
		skeleton += `<esi:include src="` + path + `"/>`
		serves[path] = func(w http.ResponseWriter, _ *http.Request) {
			mu.Lock()
			came, now = came+1, now+1
			most = max(most, now)
			for eight.Broadcast(); now < 8 && came < 20; {
				eight.Wait()
			}
			now--
			mu.Unlock()
			_, _ = fmt.Fprint(w, i%10)
		}
	}
	serves["/composed/many"] = text(skeleton)
	s, _ := composing(t, serves)
	assert.Equal(t, strings.Repeat("0123456789", 2), s.get("/composed/many").body)
	assert.Equal(t, 8, most, "side by side, but no more at a time")
}

func TestWhoMayCompose(t *testing.T) {
	const skeleton = `<esi:include src="/piece/x"/>`
	s, k := composing(t, map[string]http.HandlerFunc{
		"/ports/tholm": text(skeleton), "/ports/saltern": text(skeleton, `Surrogate-Control: max-age=60, content="ESI/1.0"`),
		"/composed/image": text(skeleton, "Content-Type: image/png"), "/piece/x": text("X"),
		// What a visitor wrote, escaped as HTML needs: it stays text.
		"/composed/comment": text(`<p>&lt;esi:include src=&#34;/wallet&#34;/&gt;</p>`),
		"/composed/capable": func(w http.ResponseWriter, r *http.Request) {
			_, _ = io.WriteString(w, r.Header.Get("Surrogate-Capability")+r.Header.Get("Accept-Encoding"))
		},
	})
	k.serve("/composed/image", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "image/png")
		_, _ = io.WriteString(w, skeleton)
	})
	for range 2 {
		assert.Equal(t, skeleton, s.get("/ports/tholm").body, "nobody asked for it")
		a := s.get("/ports/saltern")
		assert.Equal(t, "X", a.body, "the origin asked for it")
		assert.Empty(t, a.header.Get("Surrogate-Control"), "that was for us")
		assert.Equal(t, skeleton, s.get("/composed/image").body, "what is not text is not read")
		assert.Equal(t, `<p>&lt;esi:include src=&#34;/wallet&#34;/&gt;</p>`, s.get("/composed/comment").body)
	}
	assert.Equal(t, `gerastic="ESI/1.0"`, s.get("/composed/capable", "Accept-Encoding: gzip").body)
	assert.Zero(t, k.since()["/wallet"])
}

func TestPartsAreForEngineers(t *testing.T) {
	s, _ := composing(t, map[string]http.HandlerFunc{
		"/composed/a": text(`<esi:include src="/piece/x"/><esi:include src="/piece/y" onerror="continue"/>`), "/piece/x": text("X"),
		"/ports/tholm": text("page", `Gerastic-Life: 5.000;as-of=0`, `Gerastic-Parts: "site/board(\"tholm\")";found=filled;depth=1;took=84.2, "site/row(1)";found=reused;depth=2;took=0.1;age=3`, `Cache-Groups: "vessel:3"`),
		"/bypassed":    text("page", `Gerastic-Life: 5.000;as-of=0`, "Cache-Control: no-store"),
	})
	const token = "Gerastic-Explain: may explain"
	s.get("/composed/a")
	a := s.get("/composed/a", token)
	assert.Contains(t, a.header.Get("Gerastic-Parts"), `"/piece/x";found=hit;depth=1`)
	assert.Contains(t, a.header.Get("Gerastic-Parts"), `"/piece/y";found=error`)
	for range 2 {
		assert.Contains(t, s.get("/ports/tholm", token).header.Get("Gerastic-Parts"), `"site/board(\"tholm\")";found=filled`)
		for _, path := range []string{"/ports/tholm", "/composed/a", "/bypassed"} {
			h := s.get(path).header
			assert.Empty(t, h.Get("Gerastic-Parts")+h.Get("Gerastic-Life"), path)
		}
	}
	assert.Equal(t, []string{`site/board("tholm")`}, s.edge.store.Some("vessel:3", "", "", 1)[0].Parts)

	s.pass(6 * time.Second)
	assert.NotContains(t, s.get("/ports/tholm").state, "hit", "the page lives no longer than the parts in it")
	// A node that has not yet heard of a purge handed out a part from before it.
	s.ledger.Store(7)
	s.purge(tags.Purge{Tags: []string{"vessel:3"}})
	s.answer(text("page of old parts", `Gerastic-Life: 5.000;as-of=7`, `Cache-Groups: "vessel:3"`))
	s.get("/ports/brack-point")
	assert.NotContains(t, s.get("/ports/brack-point").state, "hit", "found as of 7, purged at 8")
	s.answer(text("page of new parts", `Gerastic-Life: 5.000;as-of=8`, `Cache-Groups: "vessel:3"`))
	s.get("/ports/brack-point")
	assert.Contains(t, s.get("/ports/brack-point").state, "hit")
}

// TestPagesThatPassAreComposed: a form that comes back, whatever its method, shows no marks.
func TestPagesThatPassAreComposed(t *testing.T) {
	s, k := composing(t, map[string]http.HandlerFunc{
		"/composed/form": func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Set-Cookie", "note=sent")
			if r.Method == "POST" {
				w.WriteHeader(422)
			}
			_, _ = io.WriteString(w, r.Method+` [<esi:include src="/piece/a"/>] "`+r.Header.Get("Accept-Encoding")+`"`)
		},
		"/composed/plain": text("no marks", "X-A: 1"),
		"/sorted": func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Surrogate-Control", `content="ESI/1.0"`)
			_, _ = io.WriteString(w, `<esi:include src="/piece/a"/>!`)
		},
		"/piece/a": text("A"),
	})
	for _, method := range []string{"POST", "PUT", "DELETE"} {
		a := s.post(method, "/composed/form", "a=b", "Accept-Encoding: gzip;q=0.1, identity")
		assert.Equal(t, method+` [A] ""`, a.body)
		assert.Equal(t, "note=sent", a.header.Get("Set-Cookie"))
		assert.Equal(t, "private, no-cache", a.header.Get("Cache-Control"))
	}
	assert.Equal(t, 422, s.post("POST", "/composed/form", "").status)
	plain := s.post("POST", "/composed/plain", "")
	assert.Equal(t, "no marks", plain.body)
	assert.Equal(t, "1", plain.header.Get("X-A"))
	asked := s.post("POST", "/sorted", "")
	assert.Equal(t, "A!", asked.body, "its origin asks for it")
	assert.Empty(t, asked.header.Get("Surrogate-Control"))
	long := `<esi:include src="/piece/a"/>` + strings.Repeat("x", 3<<20)
	k.serve("/composed/long", text(long))
	assert.Equal(t, long, s.post("POST", "/composed/long", "").body, "what there is no room for goes as it came: it was carried out")
	for _, method := range []string{"POST", "GET"} {
		heard := make(chan struct{})
		k.serve("/composed/events", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/event-stream")
			_, _ = io.WriteString(w, "data: one\n\n")
			_ = http.NewResponseController(w).Flush()
			select {
			case <-heard:
			case <-time.After(5 * time.Second):
				panic(http.ErrAbortHandler)
			}
		})
		conn, resp, _ := s.raw(method + " /composed/events HTTP/1.1\r\nHost: x\r\nAccept: text/event-stream\r\nContent-Length: 0\r\n\r\n")
		line, err := bufio.NewReader(resp.Body).ReadString('\n')
		assert.NoError(t, err, "an event stream is not waited for")
		assert.Equal(t, "data: one\n", line)
		close(heard)
		conn.Close()
	}
	k.serve("/composed/form", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, `<esi:include src="/gone"/>`)
	})
	assert.Equal(t, 502, s.post("POST", "/composed/form", "").status)
}

// TestPromise6IncludesShareOneBudget: many large ones do not come together in memory.
func TestPromise6IncludesShareOneBudget(t *testing.T) {
	large := strings.Repeat("x", 4<<20)
	s, k := composing(t, map[string]http.HandlerFunc{
		"/composed/page": text(strings.Repeat(`<esi:include src="/composed/more"/>`, 30)),
		"/composed/more": text(strings.Repeat(`<esi:include src="/piece/large"/>`, 8)),
	})
	k.serve("/piece/large", text(large, "Cache-Control: no-store"))
	s.edge.store = store.NewMemory(512<<20, time.Now())
	before := heap()
	var most int64
	var mu sync.Mutex
	k.serve("/piece/large", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		_, _ = io.WriteString(w, large)
		mu.Lock()
		defer mu.Unlock()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		most = max(most, int64(m.HeapInuse))
	})
	assert.Equal(t, 502, s.get("/composed/page").status)
	mu.Lock()
	defer mu.Unlock()
	assert.Less(t, most-before, int64(300<<20), "30 pages of 8 includes of 4 MiB")
	assert.Zero(t, s.edge.store.Figures().Reserved)
}
