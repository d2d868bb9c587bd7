package main

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// adminToken opens the control side.
const adminToken = "the token of the attack's own node"

const policyText = `version: 1
origins: [{ name: site, url: SITE }]
routes:
  - { name: pages, match: { path: "/pages/{x...}" }, key: { query: { only: [page] } }, lifetime: { fresh: 10m } }
  - { name: composed, match: { path: "/composed/{x...}" }, lifetime: { fresh: 1s }, compose: true }
  - { name: ask, match: { path: "/ask", methods: [POST] }, key: { body: json }, lifetime: { fresh: 1m } }
  - { name: rest, match: { path: "/{x...}" } }
changes:
  sources: [{ name: hook, kind: webhook }]
  rules: [{ kind: item, tags: ["item:{a}:{b}"] }]
`

// site is a node before an origin, each with what it takes.
type site struct {
	edge, control string // HOST:PORT
	origin        *httptest.Server
	node          *exec.Cmd
	dir           string
	resident      atomic.Int64 // bytes, the most that was seen
	watching      sync.WaitGroup
	stop          chan struct{}
}

// open starts a site of its own.
func open(ctx context.Context, program string, memory int) (s *site, err error) {
	s = &site{stop: make(chan struct{}), origin: httptest.NewServer(http.HandlerFunc(answer))}
	if s.dir, err = os.MkdirTemp("", "gerastic-attack-"); err != nil {
		return nil, err
	}
	policy := filepath.Join(s.dir, "policy.yaml")
	if err := os.WriteFile(policy, []byte(strings.ReplaceAll(policyText, "SITE", s.origin.URL)), 0o600); err != nil {
		return nil, err
	}
	s.node = exec.Command(program, "serve", "--private-database", "--data", filepath.Join(s.dir, "data"), "--policy", policy,
		"--edge", "127.0.0.1:0", "--control", "127.0.0.1:0", "--memory", strconv.Itoa(memory)+"MiB")
	s.node.Env = append(os.Environ(), "GERASTIC_ADMIN_TOKEN="+adminToken)
	s.node.Stderr = io.Discard
	said, err := s.node.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := s.node.Start(); err != nil {
		return nil, err
	}
	line, err := bufio.NewReader(said).ReadString('\n')
	if err != nil {
		s.close()
		return nil, fmt.Errorf("the node did not start: %w", err)
	}
	for word := range strings.FieldsSeq(line) {
		if at, ok := strings.CutPrefix(word, "edge=http://"); ok {
			s.edge = at
		} else if at, ok := strings.CutPrefix(word, "control=http://"); ok {
			s.control = at
		}
	}
	s.watching.Go(s.watch)
	return s, ctx.Err()
}

// close ends what open started, and no more.
func (s *site) close() {
	close(s.stop)
	s.watching.Wait()
	if s.node.Process != nil {
		_ = s.node.Process.Signal(syscall.SIGTERM)
		ended := time.AfterFunc(20*time.Second, func() { _ = s.node.Process.Kill() })
		_ = s.node.Wait()
		ended.Stop()
	}
	s.origin.CloseClientConnections()
	s.origin.Close()
	_ = os.RemoveAll(s.dir)
}

// watch notes the most memory that is resident.
func (s *site) watch() {
	for {
		select {
		case <-s.stop:
			return
		case <-time.After(100 * time.Millisecond):
		}
		status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.node.Process.Pid))
		if err != nil {
			return
		}
		_, rest, _ := strings.Cut(string(status), "VmHWM:")
		fields := strings.Fields(rest)
		if len(fields) > 0 {
			kib, _ := strconv.ParseInt(fields[0], 10, 64)
			s.resident.Store(max(s.resident.Load(), kib<<10))
		}
	}
}

// visits is what ordinary visitors got.
type visits struct {
	hits             int // a second
	misses, answered int // pages that nobody had asked for
	longest          time.Duration
}

var pageNumber atomic.Int64

// transport is the ordinary visitors'.
var transport = &http.Transport{MaxIdleConnsPerHost: 64, DisableCompression: true}

// visit sends ordinary visitors for a while: two who ask for what is stored, one for what is not.
func (s *site) visit(ctx context.Context, length time.Duration) (v visits) {
	ctx, end := context.WithTimeout(ctx, length)
	defer end()
	began := time.Now()
	var hits atomic.Int64
	var all sync.WaitGroup
	for range 2 {
		all.Go(func() {
			for ctx.Err() == nil {
				if s.get(ctx, transport, "/pages/hot") {
					hits.Add(1)
				}
			}
		})
	}
	all.Go(func() {
		for ctx.Err() == nil {
			one, give := context.WithTimeout(context.Background(), 5*time.Second)
			asked := time.Now()
			v.misses++
			if s.get(one, transport, fmt.Sprintf("/pages/new/%d", pageNumber.Add(1))) {
				v.answered++
			}
			give()
			v.longest = max(v.longest, time.Since(asked))
			select {
			case <-time.After(20 * time.Millisecond):
			case <-ctx.Done():
			}
		}
	})
	all.Wait()
	v.hits = int(float64(hits.Load()) / time.Since(began).Seconds())
	return v
}

func (s *site) get(ctx context.Context, by http.RoundTripper, path string, headers ...string) bool {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+s.edge+path, nil)
	if err != nil {
		return false
	}
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		r.Header.Set(name, value)
	}
	resp, err := by.RoundTrip(r)
	if err != nil {
		return false
	}
	defer resp.Body.Close()
	_, err = io.Copy(io.Discard, resp.Body)
	return err == nil && resp.StatusCode == http.StatusOK
}

// dial opens a connection that reads as little as it can; it ends with the context.
func dial(ctx context.Context, to string) net.Conn {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", to)
	if err != nil {
		return nil
	}
	_ = conn.(*net.TCPConn).SetReadBuffer(4 << 10)
	context.AfterFunc(ctx, func() { conn.Close() })
	return conn
}

var (
	page  = []byte(strings.Repeat("<p>The ferry leaves at noon.</p>\n", 500))
	large = make([]byte, 6<<20)
)

// answer is the origin.
func answer(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Content-Type", "text/html")
	_, _ = io.Copy(io.Discard, r.Body)
	switch kind, _, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/"); kind {
	case "events":
		h.Set("Content-Type", "text/event-stream")
		for {
			if _, err := io.WriteString(w, "data: x\n\n"); err != nil {
				return
			}
			_ = http.NewResponseController(w).Flush()
			select {
			case <-r.Context().Done():
				return
			case <-time.After(200 * time.Millisecond):
			}
		}
	case "private":
		h.Set("Cache-Control", "no-store")
		_, _ = w.Write(large)
	case "large":
		h.Set("Cache-Control", "max-age=600")
		h.Set("Content-Type", "application/octet-stream")
		h.Set("Content-Length", strconv.Itoa(len(large)))
		_, _ = w.Write(large)
	case "unique":
		h.Set("Cache-Control", "max-age=600")
		_, _ = fmt.Fprintf(w, "<h1>%s</h1>", r.URL.Path)
		text := make([]byte, 12<<10) // of random words, so that compressing it takes its time
		_, _ = rand.Read(text)
		_, _ = io.WriteString(w, base64.StdEncoding.EncodeToString(text))
	case "long":
		h.Set("Cache-Control", "no-store")
	case "include":
		h.Set("Cache-Control", "no-store")
		_, _ = w.Write(large)
		_, _ = w.Write(large)
	case "composed":
		_, _ = io.WriteString(w, skeletons[strings.TrimPrefix(r.URL.Path, "/composed/")])
	default:
		_, _ = w.Write(page)
	}
}

var skeletons = map[string]string{
	"marks":     strings.Repeat("<!--esi ", 500_000) + "-->",
	"includes":  strings.Repeat(`<esi:include src="/include/a"/>`, 60),
	"variables": "<esi:vars>" + strings.Repeat("$(HTTP_COOKIE{long})", 25_000) + "</esi:vars>",
}
