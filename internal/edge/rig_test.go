package edge

import (
	"context"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/barrier"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/fetch"
	"gerastic/internal/gate"
)

// rig is an edge with a clock of its own between a visitor and an origin, both on
// loopback.
type rig struct {
	t      *testing.T
	edge   *Edge
	url    string
	origin atomic.Pointer[http.HandlerFunc]
	asked  atomic.Int64 // requests that reached the origin
	clock  atomic.Int64 // unix ns
	ledger atomic.Uint64
	sent   atomic.Int64 // requests of do, get and post
	inside atomic.Int64 // requests that have come to the edge, since the start
	comers atomic.Int64 // of those, how many there are to be before meet returns
	gone   atomic.Int64 // visitors who left before they were answered
	purges sync.Mutex
	purged []tags.Purge
	server *httptest.Server
	gate   *gate.Listener
	app    *httptest.Server
	lines  atomic.Int64    // connections that the origin holds
	others map[string]bool // goroutines that were there before
}

const routesYAML = `
  - name: port
    match: { path: "/ports/{port}" }
    key: { query: { only: [page] } }
    lifetime: { fresh: 1m, by_status: { 404: 10s } }
    tags: ["port:{port}"]
  - name: stale
    match: { path: "/stale/{x...}" }
    lifetime: { fresh: 1m, stale_while_revalidate: 1m, stale_if_error: 1h }
  - name: page
    match: { path: "/page/{x...}" }
    key: { cookies: [currency], headers: [Accept-Language] }
    lifetime: { fresh: 1m, browser: 5s }
    admit: { max_body: 100KiB, cookies: strip }
  - name: mine
    match: { path: "/mine/{x...}" }
    key: { identity: authorization }
    lifetime: { fresh: 1m }
  - name: wallet
    match: { path: "/wallet" }
    key: { identity: "cookie:session" }
    lifetime: { fresh: 1m }
  - name: ask
    match: { path: "/ask", methods: [POST, QUERY] }
    key: { body: json }
    lifetime: { fresh: 1m }
  - name: graphql
    match: { path: "/graphql", methods: [GET, POST] }
    key: { body: graphql }
    lifetime: { fresh: 1m }
  - name: obeys
    match: { path: "/obeys/{x...}" }
    lifetime: { fresh: 1m }
    obey_visitor: all
  - name: compared
    match: { path: "/compared" }
    key: { query: none }
    lifetime: { fresh: 1m }
    compare: { share: 100%, per_second: 100, ignore: ["token=[a-z]*;"] }
  - name: composed
    match: { path: "/composed/{x...}" }
    lifetime: { fresh: 1m }
    compose: true
  - name: piece
    match: { path: "/piece/{x...}" }
    lifetime: { fresh: 10s, by_status: { 404: 10s } }
    tags: ["piece:{x}"]
  - name: sorted
    match: { path: "/sorted" }
    key: { query: { except: [utm_*] } }
  - name: sockets
    match: { path: "/sockets/{x...}" }
    lifetime: { fresh: 1m }
    upgrade: true
  - name: any
    match: { path: "/{x...}" }
`

func newRig(t *testing.T, handler http.HandlerFunc) *rig {
	return newRigOf(t, "routes:"+routesYAML, handler)
}

// newRigOf is a rig whose policy is given, but for its origins: SITE stands for the
// origin's address where it names its own.
func newRigOf(t *testing.T, rest string, handler http.HandlerFunc) *rig {
	s := &rig{t: t, others: map[string]bool{}}
	for id := range goroutines() {
		s.others[id] = true
	}
	rigs.Add(1)
	s.clock.Store(time.Date(2026, 5, 17, 12, 0, 0, 0, time.UTC).UnixNano())
	s.origin.Store(&handler)
	s.app = httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.asked.Add(1)
		w.Header().Set("Date", s.now().UTC().Format(http.TimeFormat))
		(*s.origin.Load())(w, r)
	}))
	s.app.Config.ConnState = func(_ net.Conn, state http.ConnState) {
		switch state {
		case http.StateNew:
			s.lines.Add(1)
		case http.StateClosed, http.StateHijacked:
			s.lines.Add(-1)
		}
	}
	s.app.Start()
	origins := "origins:\n  - { name: slow, url: SITE, hosts: [slow.example], timeout: { answer: 400ms } }\n  - { name: site, url: SITE, timeout: { connect: 20s, answer: 20s } }\n"
	if strings.Contains(rest, "origins:") {
		origins = ""
	}
	p, err := policy.Outside{}.Parse("test.yaml", []byte(strings.ReplaceAll("version: 1\n"+origins+rest, "SITE", s.app.URL)))
	require.NoError(t, err)
	config := emptyConfig(s.now)
	config.MayExplain = func(token string) bool { return token == "may explain" }
	config.Purge = func(_ context.Context, p tags.Purge, _, _ string) error {
		s.purge(p)
		return nil
	}
	s.edge = New(config)
	s.apply(p)
	s.server = httptest.NewUnstartedServer(http.HandlerFunc(s.admit))
	s.gate = gate.New(s.server.Listener, gate.Options{Connections: 1000})
	s.server.Listener, s.server.Config.ConnState = s.gate, s.gate.ConnState
	s.server.Config.Protocols = new(http.Protocols)
	s.server.Config.Protocols.SetHTTP1(true)
	s.server.Config.Protocols.SetUnencryptedHTTP2(true)
	s.server.Start()
	s.url = s.server.URL
	t.Cleanup(s.close)
	return s
}

// admit counts who comes, and who leaves, and lets the edge answer.
func (s *rig) admit(w http.ResponseWriter, r *http.Request) {
	s.inside.Add(1)
	stays := context.AfterFunc(r.Context(), func() { s.gone.Add(1) })
	defer stays()
	s.edge.ServeHTTP(w, r)
}

// meet holds an origin's answer back until all who ask together have come to the edge.
func (s *rig) meet() {
	assert.Eventually(s.t, func() bool { return s.inside.Load() >= s.comers.Load() }, 5*time.Second, time.Millisecond, "some who ask together have not come")
}

// close ends the rig, and holds it to leaving nothing behind: no fill, no reserved or
// miscounted byte, no connection to the origin, no goroutine.
func (s *rig) close() {
	s.server.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	assert.NoError(s.t, s.edge.Shutdown(ctx), "what the edge started does not end")
	assert.Zero(s.t, s.edge.fetch.Flights.Aloft(), "fills are left")
	assert.Zero(s.t, s.edge.fetch.Flights.Len(), "fills can still be joined")
	for _, o := range s.edge.Policy().Origins {
		c := s.edge.inForce.Load().origins.To(o)
		assert.Eventually(s.t, func() bool { return c.Paced() == 0 }, 5*time.Second, time.Millisecond, "places at visitors' pace stay taken")
	}
	f := s.edge.store.Figures()
	entries, bytes := s.edge.store.Audit()
	assert.Zero(s.t, f.Reserved, "bytes stay reserved")
	assert.Zero(s.t, f.Pinned, "entries that left are still read")
	assert.Equal(s.t, bytes+f.Aside+f.Ready+f.Structure, f.Used, "the store's account")
	assert.Equal(s.t, entries, f.Entries, "the store's account")
	assert.Eventually(s.t, func() bool { return s.lines.Load() == 0 }, 5*time.Second, time.Millisecond, "connections to the origin are left")
	s.app.Close()
	if rigs.Add(-1) > 0 {
		return // the last one looks: those of others may have begun since this one did
	}
	var left []string
	for until := time.Now().Add(5 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		if left = s.left(); left == nil || time.Now().After(until) {
			break
		}
	}
	assert.Empty(s.t, left, "goroutines are left")
}

// left are the stacks of goroutines that were not there before the rig.
func (s *rig) left() (left []string) {
	for id, stack := range goroutines() {
		if !s.others[id] {
			left = append(left, stack)
		}
	}
	return left
}

// rigs is how many rigs there are.
var rigs atomic.Int64

// goroutines are the stacks of those that run the project's own code, but for tests, by
// their ids.
func goroutines() map[string]string {
	stacks := make([]byte, 4<<20)
	stacks = stacks[:runtime.Stack(stacks, true)]
	ours := map[string]string{}
	for stack := range strings.SplitSeq(string(stacks), "\n\n") {
		if slices.ContainsFunc(strings.Split(stack, "\n"), projectFile) {
			id, _, _ := strings.Cut(stack, " [")
			ours[id] = stack
		}
	}
	return ours
}

// projectFile reports whether a line of a stack names a file of the project that is no test.
func projectFile(line string) bool {
	file, _, _ := strings.Cut(strings.TrimSpace(line), ":")
	return strings.HasPrefix(file, projectRoot) && strings.HasSuffix(file, ".go") && !strings.HasSuffix(file, "_test.go")
}

// projectRoot is where the project's packages are.
var projectRoot = func() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Dir(filepath.Dir(file)) + "/"
}()

// emptyConfig is that of an edge with nothing stored.
func emptyConfig(now func() time.Time) Config {
	stored := store.NewMemory(8<<20, time.Now())
	return Config{Store: stored, Barrier: barrier.New(tags.NewMarks(0, 100), stored), Meter: &meter.Meter{}, Log: slog.New(slog.DiscardHandler), Now: now}
}

// apply puts a policy in force, all of it switched on.
func (s *rig) apply(p *policy.Policy) { s.edge.Apply(&policy.InForce{Policy: p}) }

// onFinding sets what takes findings; nothing may have been asked yet.
func (s *rig) onFinding(take func(fetch.Finding)) {
	s.edge.config.Found, s.edge.fetch.Found = take, take
}

func (s *rig) now() time.Time { return time.Unix(0, s.clock.Load()) }

func (s *rig) pass(d time.Duration) { s.clock.Add(int64(d)) }

func (s *rig) answer(h http.HandlerFunc) { s.origin.Store(&h) }

// purge applies a purge the way a node does: marks, then the sweep.
func (s *rig) purge(p tags.Purge) store.Matched {
	s.purges.Lock()
	defer s.purges.Unlock()
	p.Sequence = tags.Stamp(s.ledger.Add(1))
	s.purged = append(s.purged, p)
	s.edge.barrier.Apply(p)
	return s.edge.store.Sweep(p)
}

type answer struct {
	status int
	header http.Header
	body   string
	state  string // our member of Cache-Status
}

// do makes a request; headers come as "Name: value".
func (s *rig) do(method, path string, headers ...string) answer {
	a, err := s.try(method, path, headers...)
	require.NoError(s.t, err)
	return a
}

func (s *rig) try(method, path string, headers ...string) (answer, error) {
	return s.send(method, path, "", headers...)
}

func (s *rig) post(method, path, body string, headers ...string) answer {
	a, err := s.send(method, path, body, headers...)
	require.NoError(s.t, err)
	return a
}

func (s *rig) send(method, path, content string, headers ...string) (answer, error) {
	req, err := http.NewRequest(method, s.url+path, strings.NewReader(content))
	require.NoError(s.t, err)
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		if name == "Host" {
			req.Host = value
		}
		req.Header.Add(name, value)
	}
	defer s.sent.Add(1)
	resp, err := (&http.Transport{DisableCompression: true, DisableKeepAlives: true}).RoundTrip(req)
	if err != nil {
		return answer{}, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	states := strings.Split(strings.Join(resp.Header["Cache-Status"], ", "), "gerastic; ")
	return answer{resp.StatusCode, resp.Header, string(body), states[len(states)-1]}, err
}

func (s *rig) get(path string, headers ...string) answer { return s.do("GET", path, headers...) }

// text answers with a counting body and the given header lines.
func text(body string, headers ...string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		for _, h := range headers {
			name, value, _ := strings.Cut(h, ": ")
			w.Header().Add(name, value)
		}
		_, _ = io.WriteString(w, body)
	}
}

func (a answer) hit() bool { return strings.HasPrefix(a.state, "hit") }
