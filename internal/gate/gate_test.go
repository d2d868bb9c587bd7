package gate

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// serve starts a server behind a gate; it answers with as many bytes as the path says.
func serve(t *testing.T, o Options) (l *Listener, address string) {
	raw, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l = New(raw, o)
	server := &http.Server{ConnState: l.ConnState, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var n int
		_, _ = fmt.Sscanf(r.URL.Path, "/%d", &n)
		if n < 0 {
			w.WriteHeader(http.StatusOK)
			_ = http.NewResponseController(w).Flush()
			<-r.Context().Done()
			return
		}
		if !strings.HasSuffix(r.URL.Path, "/file") {
			_, _ = io.WriteString(w, strings.Repeat("x", n))
			return
		}
		file, err := os.Open(fileOf(t, n))
		if assert.NoError(t, err) {
			defer file.Close()
			w.Header().Set("Content-Length", fmt.Sprint(n))
			_, _ = io.Copy(w, io.LimitReader(file, int64(n)))
		}
	})}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(l) }()
	t.Cleanup(func() {
		server.Close()
		assert.ErrorIs(t, <-ended, http.ErrServerClosed)
		assert.Eventually(t, func() bool { return l.Figures().Open == 0 }, 5*time.Second, time.Millisecond, "places are left")
		assert.Empty(t, l.addresses)
		assert.Empty(t, l.open)
	})
	return l, raw.Addr().String()
}

// fileOf makes a file of so many bytes.
func fileOf(t *testing.T, n int) string {
	path := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(path, []byte(strings.Repeat("0123456789", n/10)), 0o600))
	return path
}

type visitor struct {
	net.Conn
	in *bufio.Reader
}

func visit(t *testing.T, address string) *visitor {
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	_ = conn.(*net.TCPConn).SetReadBuffer(4 << 10)
	return &visitor{conn, bufio.NewReader(conn)}
}

// get asks for a path; the answer must come within a time.
func (v *visitor) get(path string, within time.Duration) error {
	_ = v.SetDeadline(time.Now().Add(within))
	_, err := fmt.Fprintf(v, "GET %s HTTP/1.1\r\nHost: x\r\n\r\n", path)
	if err != nil {
		return err
	}
	resp, err := http.ReadResponse(v.in, nil)
	if err == nil {
		_, err = io.Copy(io.Discard, resp.Body)
	}
	return err
}

// TestPromise6ConnectionsAreBounded: at the limit, one that rests makes room; while all are busy
// whoever comes waits, and is served when one ends.
func TestPromise6ConnectionsAreBounded(t *testing.T) {
	l, address := serve(t, Options{Connections: 3})
	var resting []*visitor
	for range 3 {
		v := visit(t, address)
		require.NoError(t, v.get("/10", 5*time.Second))
		resting = append(resting, v)
		assert.Eventually(t, func() bool { return l.rest() == len(resting) }, 5*time.Second, time.Millisecond)
	}
	for i := range 2 {
		require.NoError(t, visit(t, address).get("/10", 5*time.Second))
		assert.Eventually(t, func() bool { return l.rest() == 3 }, 5*time.Second, time.Millisecond)
		assert.Error(t, resting[i].get("/10", time.Second), "the one that had rested longest was closed")
	}
	assert.NoError(t, resting[2].get("/10", 5*time.Second))
	assert.EqualValues(t, 2, l.Figures().Ended)
	assert.Eventually(t, func() bool { return l.rest() == 3 }, 5*time.Second, time.Millisecond)

	silent := visit(t, address) // says nothing, and makes room like one that rests
	assert.Eventually(t, func() bool { return l.Figures().Ended == 3 && l.rest() == 3 }, 5*time.Second, time.Millisecond)
	var busy []*visitor
	for range 3 {
		v := visit(t, address)
		_, _ = io.WriteString(v, "GET /-1 HTTP/1.1\r\nHost: x\r\n\r\n")
		_, err := http.ReadResponse(v.in, nil)
		require.NoError(t, err)
		busy = append(busy, v)
	}
	assert.Eventually(t, func() bool {
		_ = silent.SetReadDeadline(time.Now().Add(time.Millisecond))
		_, err := silent.Read(make([]byte, 1))
		return err == io.EOF || err != nil && strings.Contains(err.Error(), "reset")
	}, 5*time.Second, time.Millisecond)
	late := visit(t, address)
	assert.Error(t, late.get("/10", 100*time.Millisecond), "all are busy")
	busy[0].Close()
	assert.NoError(t, visit(t, address).get("/10", 5*time.Second))
	assert.LessOrEqual(t, l.Figures().Open, 3)
}

// TestOneMakesRoomForOne: whoever comes just as a connection comes to rest has its place, and no
// second connection is closed for it.
func TestOneMakesRoomForOne(t *testing.T) {
	const places, visitors, each = 4, 8, 200
	l, address := serve(t, Options{Connections: places})
	var all sync.WaitGroup
	for range visitors {
		all.Go(func() {
			for range each {
				_ = visit(t, address).get("/10", 5*time.Second) // and rests, unless it was closed for another
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, visitors*each-places, l.Figures().Ended)
}

// rest is how many connections rest.
func (l *Listener) rest() (n int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.open {
		if c.rests.Load() != 0 {
			n++
		}
	}
	return n
}

func TestConnectionsOfOneAddressAreBounded(t *testing.T) {
	for exempt, answered := range map[bool]int{false: 2, true: 5} {
		_, address := serve(t, Options{Connections: 10, PerAddress: 2, Exempt: func(netip.Addr) bool { return exempt }})
		got := 0
		for range 5 {
			if visit(t, address).get("/10", 5*time.Second) == nil {
				got++
			}
		}
		assert.Equal(t, answered, got)
	}
	a, b := &Conn{address: netip.MustParseAddr("2001:db8::1")}, &Conn{address: netip.MustParseAddr("2001:db8::ffff:2")}
	assert.Equal(t, a.household(), b.household())
	assert.NotEqual(t, a.household(), (&Conn{address: netip.MustParseAddr("2001:db8:1::1")}).household())
}

// TestWhoReadsNothingIsCutOff, and whoever reads slowly, but keeps the pace, is not; of memory and of a
// file.
func TestWhoReadsNothingIsCutOff(t *testing.T) {
	for _, path := range []string{"/20000000", "/20000000/file"} {
		t.Run(path, func(t *testing.T) {
			t.Parallel()
			whoReadsNothing(t, path)
		})
	}
}

func whoReadsNothing(t *testing.T, path string) {
	l, address := serve(t, Options{Connections: 10})
	nothing, slow := visit(t, address), visit(t, address)
	for _, v := range []*visitor{nothing, slow} {
		_, err := io.WriteString(v, "GET "+path+" HTTP/1.1\r\nHost: x\r\n\r\n")
		require.NoError(t, err)
	}
	stop := time.After(22 * time.Second)
	read := make([]byte, 2000)
	for waiting := true; waiting; {
		select {
		case <-stop:
			waiting = false
		case <-time.After(100 * time.Millisecond):
			_, err := slow.Read(read)
			require.NoError(t, err, "20 KB a second are enough")
		}
	}
	assert.EqualValues(t, 1, l.Figures().Slow)
	_, err := io.Copy(io.Discard, nothing)
	assert.Error(t, err, "half is nothing")
}

// TestAFileIsSentWhole, as it is.
func TestAFileIsSentWhole(t *testing.T) {
	_, address := serve(t, Options{Connections: 10})
	resp, err := http.Get("http://" + address + "/5000010/file")
	require.NoError(t, err)
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Equal(t, strings.Repeat("0123456789", 500001), string(body))
}

// TestADeadlineThatHasPassedCutsOff at once: whoever must go goes.
func TestADeadlineThatHasPassedCutsOff(t *testing.T) {
	raw, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l := New(raw, Options{Connections: 1})
	defer l.Close()
	visit(t, raw.Addr().String())
	conn, err := l.Accept()
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetWriteDeadline(time.Now().Add(time.Hour)), "the pace alone says how long a write may take")
	written := make(chan error)
	go func() {
		_, err := conn.Write(make([]byte, 50<<20))
		written <- err
	}()
	select {
	case <-written:
		t.Fatal("the peer reads nothing")
	case <-time.After(50 * time.Millisecond):
	}
	require.NoError(t, conn.SetWriteDeadline(time.Unix(1, 0)))
	assert.Error(t, <-written)
	_, err = conn.Write([]byte("more"))
	assert.Error(t, err)
}
