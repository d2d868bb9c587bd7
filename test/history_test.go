package test

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/localpg"
)

// proxy is a connection to the database server that can be cut, and that leads to
// wherever the server is now.
type proxy struct {
	net.Listener
	to  atomic.Value // host:port
	cut atomic.Bool
	mu  sync.Mutex
	all map[net.Conn]bool
	// stuck is held while nothing goes through, in either direction, and no connection ends.
	stuck sync.RWMutex
	slow  atomic.Int64 // ns that each piece takes to come through
}

func newProxy(t *testing.T, to string) *proxy {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c := &proxy{Listener: l, all: map[net.Conn]bool{}}
	c.to.Store(to)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			go c.join(near)
		}
	}()
	return c
}

func (c *proxy) join(near net.Conn) {
	defer near.Close()
	far, err := net.Dial("tcp", c.to.Load().(string))
	if err != nil {
		return
	}
	defer far.Close()
	c.mu.Lock()
	c.all[near], c.all[far] = true, true
	c.mu.Unlock()
	if !c.cut.Load() {
		go func() { _, _ = io.Copy(through{c, far}, near); far.Close() }()
		_, _ = io.Copy(through{c, near}, far)
	}
	c.mu.Lock()
	delete(c.all, near)
	delete(c.all, far)
	c.mu.Unlock()
}

// through writes while the proxy is not stuck.
type through struct {
	*proxy
	to net.Conn
}

func (w through) Write(p []byte) (int, error) {
	time.Sleep(time.Duration(w.slow.Load()))
	w.stuck.RLock()
	defer w.stuck.RUnlock()
	return w.to.Write(p)
}

// freeze lets nothing through any more, or lets it go on.
func (c *proxy) freeze(stuck bool) {
	if stuck {
		c.stuck.Lock()
	} else {
		c.stuck.Unlock()
	}
}

// sever cuts the proxy, or mends it.
func (c *proxy) sever(cut bool) {
	c.cut.Store(cut)
	c.mu.Lock()
	defer c.mu.Unlock()
	for conn := range c.all {
		conn.Close()
	}
}

// history is content that changes, two nodes in front of it, and who saw what.
type history struct {
	t          *testing.T
	content    [24]atomic.Int64    // the truth, by page
	acked      [24]atomic.Int64    // the version up to which a purge was acknowledged
	written    [2][24]atomic.Int64 // the version up to which a write through a node was answered
	cluster    *localpg.Cluster
	dir        string
	database   string // at the server
	cables     [2]*proxy
	args       [2][]string
	nodes      [2]atomic.Pointer[process]
	late       atomic.Bool // answers of the origin come late, and out of their order
	reads      atomic.Int64
	hits       atomic.Int64
	purges     atomic.Int64
	writes     atomic.Int64
	refused    atomic.Int64
	violations atomic.Int64
	fault      atomic.Value // what was broken last
}

const historyToken = "a token of the history"

// TestHistory: writers change a counter in the content, commit, purge and await the
// answer, or change it through a node; no reader that began after an acknowledged purge may see
// an older value, nor one of the node that a write was answered by. With fills in flight, joined
// visitors, refreshes behind their backs, softened entries, late answers, and two nodes, which are
// restarted, killed, stopped for a while, cut off, slowed down and frozen, in front of a database
// that is stopped and started, and set back. When all is mended, every node shows what is.
// GERASTIC_SOAK=10m makes it longer (make soak).
func TestHistory(t *testing.T) {
	length := 20 * time.Second
	if soak := os.Getenv("GERASTIC_SOAK"); soak != "" {
		var err error
		length, err = time.ParseDuration(soak)
		require.NoError(t, err)
	}
	h := &history{t: t, dir: t.TempDir()}
	h.start()
	ctx, end := context.WithTimeout(ctx, length)
	defer end()
	var all sync.WaitGroup
	for k := range h.content {
		all.Go(func() { h.write(ctx, k) })
	}
	for range 8 {
		all.Go(func() { h.read(ctx) })
	}
	h.disturb(ctx)
	all.Wait()
	t.Logf("%d reads, %d of them hits; %d purges acknowledged, %d writes answered, %d not", h.reads.Load(), h.hits.Load(), h.purges.Load(), h.writes.Load(), h.refused.Load())
	assert.Zero(t, h.violations.Load())
	assert.Greater(t, h.purges.Load(), int64(20))
	assert.Greater(t, h.writes.Load(), int64(20))
	assert.Greater(t, h.hits.Load(), int64(100), "it did cache meanwhile")
	h.converges()
}

func (h *history) start() {
	t := h.t
	origin := httptest.NewServer(http.HandlerFunc(h.origin))
	t.Cleanup(origin.Close)
	policy := h.dir + "/policy.yaml"
	require.NoError(t, os.WriteFile(policy, []byte(`version: 1
origins: [{ name: site, url: `+origin.URL+` }]
routes:
  - { name: dropped, match: { path: "/dropped/{k}" }, lifetime: { fresh: 200ms, stale_while_revalidate: 1m, stale_if_error: 1m, refresh_early: true }, tags: ["page:{k}", all] }
  - { name: softened, match: { path: "/softened/{k}" }, lifetime: { fresh: 1h }, tags: ["page:{k}", all] }
  - { name: written, match: { path: "/written/{k}" }, lifetime: { fresh: 1h } }
  - { name: declared, match: { path: "/declared/{k}" }, lifetime: { fresh: 1h }, tags: ["declared:{k}"] }
writes:
  - { match: { path: "/change/{k}" }, tags: ["declared:{k}"] }
`), 0o600))
	h.startCluster()
	_, err := h.cluster.CreateDatabase(ctx, "history")
	require.NoError(t, err)
	at, err := url.Parse(h.cluster.URL("history"))
	require.NoError(t, err)
	path := program(t)
	for i := range h.cables {
		h.cables[i] = newProxy(t, at.Host)
		own := *at
		own.Host = h.cables[i].Addr().String()
		name := string(rune('a' + i))
		h.args[i] = []string{path, "serve", "--node", name, "--data", h.dir + "/" + name, "--database", own.String(), "--policy", policy, "--sync-limit", "2s", "--memory", "16MiB", "--edge", "127.0.0.1:0", "--control", "127.0.0.1:0"}
		t.Setenv("GERASTIC_ADMIN_TOKEN", historyToken)
		h.begin(i)
	}
	t.Cleanup(func() { h.cluster.Stop() })
}

func (h *history) begin(i int) { h.nodes[i].Store(begin(h.t, h.args[i][0], h.args[i][1:]...)) }

func (h *history) origin(w http.ResponseWriter, r *http.Request) {
	k, _ := strconv.Atoi(r.URL.Path[strings.LastIndexByte(r.URL.Path, '/')+1:])
	if r.Method == http.MethodPost {
		fmt.Fprint(w, h.content[k].Add(1)) // committed
		return
	}
	version := h.content[k].Load()
	pause := rand.IntN(8) // an old render takes its time
	if h.late.Load() && rand.IntN(4) == 0 {
		pause = rand.IntN(800)
	}
	time.Sleep(time.Duration(pause) * time.Millisecond)
	etag := fmt.Sprintf(`"%d"`, version)
	w.Header().Set("ETag", etag)
	if r.Header.Get("If-None-Match") == etag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	fmt.Fprint(w, version)
}

func (h *history) startCluster() {
	var err error
	h.cluster, err = localpg.Start(ctx, localpg.Options{Dir: h.dir + "/postgresql", Throwaway: true})
	require.NoError(h.t, err)
	h.database = h.cluster.URL("history")
}

// page is where a page is: some are dropped, some softened, some written through a node, and some by a
// request elsewhere that the policy declares to change them.
func (h *history) page(k int) string {
	return fmt.Sprintf("/%s/%d", [...]string{"dropped", "softened", "written", "declared"}[k%4], k)
}

// writing is where a page is written.
func (h *history) writing(k int) string {
	if k%4 == 3 {
		return fmt.Sprintf("/change/%d", k)
	}
	return h.page(k)
}

func (h *history) write(ctx context.Context, k int) {
	for ctx.Err() == nil {
		if k%4 >= 2 {
			h.change(ctx, k)
		} else {
			h.purge(ctx, k)
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(rand.IntN(60)) * time.Millisecond):
		}
	}
}

func (h *history) purge(ctx context.Context, k int) {
	version := h.content[k].Add(1) // committed
	c := client.New(h.nodes[k/4%2].Load().control, historyToken)
	r := client.PurgeRequest{Tags: []string{fmt.Sprintf("page:%d", k)}, Mode: [...]string{"drop", "stale"}[k%4]}
	switch rand.IntN(6) {
	case 0:
		r.Tags, r.Together = append(r.Tags, "all"), true
	case 1:
		r.Tags, r.URLs = nil, []client.PurgeURL{{URL: h.page(k)}}
	case 2:
		r.Tags, r.Below = nil, []string{h.page(k)}
	}
	answer, err := c.Purge(ctx, r)
	everywhere := err == nil
	for _, n := range answer.Nodes {
		everywhere = everywhere && n.Applied
	}
	if everywhere {
		h.acked[k].Store(version)
		h.purges.Add(1)
	} else {
		h.refused.Add(1)
	}
}

// change writes a page through a node.
func (h *history) change(ctx context.Context, k int) {
	n := rand.IntN(2)
	body, _, err := h.ask(ctx, http.DefaultClient, n, http.MethodPost, h.writing(k))
	if err != nil {
		h.refused.Add(1) // nobody knows
		return
	}
	for {
		if before := h.written[n][k].Load(); before >= body || h.written[n][k].CompareAndSwap(before, body) {
			break
		}
	}
	h.writes.Add(1)
}

// ask asks a node of the one site.
func (h *history) ask(ctx context.Context, visitor *http.Client, n int, method, path string) (version int64, state string, err error) {
	req, err := http.NewRequestWithContext(ctx, method, h.nodes[n].Load().edge+path, nil)
	if err != nil {
		return 0, "", err
	}
	req.Host = "site.example"
	resp, err := visitor.Do(req)
	if err != nil {
		return 0, "", err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode != http.StatusOK {
		err = fmt.Errorf("status %d", resp.StatusCode)
	}
	if err != nil {
		return 0, "", err
	}
	version, err = strconv.ParseInt(string(body), 10, 64)
	require.NoError(h.t, err)
	return version, resp.Header.Get("Cache-Status"), nil
}

func (h *history) read(ctx context.Context) {
	visitor := http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 4}}
	defer visitor.CloseIdleConnections()
	for ctx.Err() == nil {
		k, n := rand.IntN(len(h.content)), rand.IntN(2)
		least := max(h.acked[k].Load(), h.written[n][k].Load())
		version, state, err := h.ask(context.WithoutCancel(ctx), &visitor, n, http.MethodGet, h.page(k))
		if err != nil {
			time.Sleep(time.Millisecond)
			continue // the node is being restarted
		}
		h.reads.Add(1)
		if strings.Contains(state, "gerastic; hit") {
			h.hits.Add(1)
		}
		if version < least {
			h.violations.Add(1)
			h.t.Errorf("%s on node %d showed %d after version %d was purged or written: %s (%v)", h.page(k), n, version, least, state, h.fault.Load())
		}
	}
}

// converges: when nothing is broken any more, every node comes to show what is.
func (h *history) converges() {
	for k := range h.content {
		if k%4 < 2 {
			continue // a purge that was not acknowledged may not have come to be
		}
		for n := range h.nodes {
			var seen int64
			require.Eventually(h.t, func() bool {
				var err error
				seen, _, err = h.ask(ctx, http.DefaultClient, n, http.MethodGet, h.page(k))
				return err == nil && seen == h.content[k].Load()
			}, 20*time.Second, 20*time.Millisecond, "%s on node %d", h.page(k), n)
		}
	}
}

// disturb breaks one thing after the other, and mends it.
func (h *history) disturb(ctx context.Context) {
	pause := func(d time.Duration) {
		select {
		case <-ctx.Done():
		case <-time.After(d):
		}
	}
	signal := func(s syscall.Signal) { _ = h.nodes[1].Load().Process.Signal(s) }
	longer := 3500 * time.Millisecond // than the sync limit: the other goes on without it
	faults := []struct {
		name string
		do   func()
	}{
		{"stopped", func() { signal(syscall.SIGTERM); _ = h.nodes[1].Load().Wait(); h.begin(1) }},
		{"cut off", func() { h.cables[1].sever(true); pause(longer); h.cables[1].sever(false) }},
		{"killed", func() {
			signal(syscall.SIGKILL)
			_ = h.nodes[1].Load().Wait()
			pause(300 * time.Millisecond)
			h.begin(1)
		}},
		{"set back", h.setBack},
		{"suspended", func() { signal(syscall.SIGSTOP); pause(longer); signal(syscall.SIGCONT) }},
		{"late answers", func() { h.late.Store(true); pause(1500 * time.Millisecond); h.late.Store(false) }},
		{"frozen", func() { h.cables[0].freeze(true); pause(longer); h.cables[0].freeze(false) }},
		{"slow", func() {
			h.cables[1].slow.Store(int64(150 * time.Millisecond))
			pause(2 * time.Second)
			h.cables[1].slow.Store(0)
		}},
		{"database stopped", func() { h.cluster.Stop(); pause(500 * time.Millisecond); h.startCluster(); h.reconnect() }},
	}
	for i := 0; ctx.Err() == nil; i++ {
		pause(700 * time.Millisecond)
		fault := faults[i%len(faults)]
		h.fault.Store(fault.name)
		fault.do()
	}
	for _, c := range h.cables {
		c.sever(false)
	}
}

// reconnect leads the cables to where the server is now.
func (h *history) reconnect() {
	at, err := url.Parse(h.database)
	require.NoError(h.t, err)
	for _, c := range h.cables {
		c.to.Store(at.Host)
		c.sever(false)
	}
}

// setBack takes the last purges out of the ledger, as a failover to a server that lacked them.
func (h *history) setBack() {
	conn, err := pgx.Connect(ctx, h.database)
	require.NoError(h.t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, `begin; update ledger set sequence = greatest(0, sequence - 5); delete from purge where sequence > (select sequence from ledger); commit`)
	require.NoError(h.t, err)
}
