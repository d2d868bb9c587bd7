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
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/client"
	"gerastic/internal/localpg"
	"gerastic/internal/node"
)

// cable is a connection to the database server that can be cut, and that leads to
// wherever the server is now.
type cable struct {
	net.Listener
	to  atomic.Value // host:port
	cut atomic.Bool
	mu  sync.Mutex
	all map[net.Conn]bool
	// stuck is held while nothing goes through, in either direction, and no connection ends.
	stuck sync.RWMutex
}

func newCable(t *testing.T, to string) *cable {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c := &cable{Listener: l, all: map[net.Conn]bool{}}
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

func (c *cable) join(near net.Conn) {
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

// through writes while the cable is not stuck.
type through struct {
	*cable
	to net.Conn
}

func (w through) Write(p []byte) (int, error) {
	w.stuck.RLock()
	defer w.stuck.RUnlock()
	return w.to.Write(p)
}

// freeze lets nothing through any more, or lets it go on.
func (c *cable) freeze(stuck bool) {
	if stuck {
		c.stuck.Lock()
	} else {
		c.stuck.Unlock()
	}
}

// sever cuts the cable, or mends it.
func (c *cable) sever(cut bool) {
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
	content    [24]atomic.Int64 // the truth, by page
	acked      [24]atomic.Int64 // the version up to which a purge was acknowledged
	cluster    *localpg.Cluster
	dir        string
	cables     [2]*cable
	settings   [2]node.Settings
	nodes      [2]atomic.Pointer[node.Node]
	reads      atomic.Int64
	hits       atomic.Int64
	purges     atomic.Int64
	refused    atomic.Int64
	violations atomic.Int64
}

const historyToken = "a token of the history"

// TestHistory: writers change a counter in the content, commit, purge and await the
// answer; no reader that began after an acknowledged purge may see an older value. With
// fills in flight, joined visitors, refreshes behind their backs, softened entries, two
// nodes of which one is restarted and cut off, and the database stopped and started.
// GERASTIC_SOAK=10m makes it longer (make soak).
func TestHistory(t *testing.T) {
	length := 12 * time.Second
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
	t.Logf("%d reads, %d of them hits; %d purges acknowledged, %d not", h.reads.Load(), h.hits.Load(), h.purges.Load(), h.refused.Load())
	assert.Zero(t, h.violations.Load())
	assert.Greater(t, h.purges.Load(), int64(20))
	assert.Greater(t, h.hits.Load(), int64(100), "it did cache meanwhile")
}

func (h *history) start() {
	t := h.t
	origin := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		k, _ := strconv.Atoi(r.URL.Path[strings.LastIndexByte(r.URL.Path, '/')+1:])
		version := h.content[k].Load()
		time.Sleep(time.Duration(rand.IntN(8)) * time.Millisecond) // an old render takes its time
		etag := fmt.Sprintf(`"%d"`, version)
		w.Header().Set("ETag", etag)
		if r.Header.Get("If-None-Match") == etag {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		fmt.Fprint(w, version)
	}))
	t.Cleanup(origin.Close)
	policy := h.dir + "/policy.yaml"
	require.NoError(t, os.WriteFile(policy, []byte(`version: 1
origins: [{ name: site, url: `+origin.URL+` }]
routes:
  - { name: dropped, match: { path: "/dropped/{k}" }, lifetime: { fresh: 200ms, stale_while_revalidate: 1m, stale_if_error: 1m, refresh_early: true }, tags: ["page:{path.k}", all] }
  - { name: softened, match: { path: "/softened/{k}" }, lifetime: { fresh: 1h }, tags: ["page:{path.k}", all] }
`), 0o600))
	h.startCluster()
	at, err := url.Parse(h.cluster.URL("history"))
	require.NoError(t, err)
	_, err = h.cluster.CreateDatabase(ctx, "history")
	require.NoError(t, err)
	for i := range h.cables {
		h.cables[i] = newCable(t, at.Host)
		own := *at
		own.Host = h.cables[i].Addr().String()
		h.settings[i] = node.Settings{Name: string(rune('a' + i)), Data: t.TempDir(), Database: own.String(), AdminToken: historyToken, PolicyFile: policy, SyncLimit: 2 * time.Second}
		h.nodes[i].Store(startNode(t, h.settings[i]))
	}
	t.Cleanup(func() { h.cluster.Stop() })
}

func (h *history) startCluster() {
	var err error
	h.cluster, err = localpg.Start(ctx, localpg.Options{Dir: h.dir + "/postgresql", Throwaway: true})
	require.NoError(h.t, err)
}

// page is where a page is: even ones are dropped, odd ones softened.
func (h *history) page(k int) string {
	return fmt.Sprintf("/%s/%d", [...]string{"dropped", "softened"}[k%2], k)
}

func (h *history) write(ctx context.Context, k int) {
	for ctx.Err() == nil {
		version := h.content[k].Add(1) // committed
		c := client.New(h.nodes[k/2%2].Load().ControlURL(), historyToken)
		r := client.PurgeRequest{Tags: []string{fmt.Sprintf("page:%d", k)}, Mode: [...]string{"drop", "stale"}[k%2]}
		switch rand.IntN(6) {
		case 0:
			r.Tags, r.Together = append(r.Tags, "all"), true
		case 1:
			r.Tags, r.URLs = nil, []client.PurgeURL{{URL: h.page(k)}}
		case 2:
			r.Tags, r.Prefixes = nil, []string{h.page(k)}
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
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(rand.IntN(60)) * time.Millisecond):
		}
	}
}

func (h *history) read(ctx context.Context) {
	visitor := http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 4}}
	defer visitor.CloseIdleConnections()
	for ctx.Err() == nil {
		k, n := rand.IntN(len(h.content)), rand.IntN(2)
		least := h.acked[k].Load()
		resp, err := visitor.Get(h.nodes[n].Load().EdgeURL() + h.page(k))
		if err != nil {
			continue // the node is being restarted
		}
		body, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		if err != nil || resp.StatusCode != http.StatusOK {
			continue
		}
		version, err := strconv.ParseInt(string(body), 10, 64)
		h.reads.Add(1)
		if strings.Contains(resp.Header.Get("Cache-Status"), "gerastic; hit") {
			h.hits.Add(1)
		}
		if err != nil || version < least {
			h.violations.Add(1)
			h.t.Errorf("%s on node %d showed %q after version %d was purged: %s", h.page(k), n, body, least, resp.Header.Get("Cache-Status"))
		}
	}
}

// disturb restarts a node, cuts it off, and stops and starts the database, in turns.
func (h *history) disturb(ctx context.Context) {
	pause := func(d time.Duration) {
		select {
		case <-ctx.Done():
		case <-time.After(d):
		}
	}
	for ctx.Err() == nil {
		pause(1500 * time.Millisecond)
		h.nodes[1].Load().Stop(ctx)
		h.nodes[1].Store(startNode(h.t, h.settings[1]))
		pause(time.Second)
		h.cables[1].sever(true) // longer than the sync limit: the other goes on without it
		pause(3500 * time.Millisecond)
		h.cables[1].sever(false)
		pause(1500 * time.Millisecond)
		h.cluster.Stop()
		pause(500 * time.Millisecond)
		h.startCluster()
		at, err := url.Parse(h.cluster.URL("history"))
		require.NoError(h.t, err)
		for _, c := range h.cables {
			c.to.Store(at.Host)
			c.sever(false)
		}
		pause(2 * time.Second)
	}
}
