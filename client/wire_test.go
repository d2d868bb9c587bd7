package client

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client/protocol"
)

// TestCallsShareAConnection: an answer is read to its end, so that its connection is free for the
// next call; and an answer that is only half there is none.
func TestCallsShareAConnection(t *testing.T) {
	var connections atomic.Int64
	var broken atomic.Bool
	node := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		out := []any{protocol.LookupHead{Namespace: "site"}, protocol.LookupAnswer{At: 1, State: "fresh", Left: 60, Body: []byte("b")}, protocol.LookupAnswer{At: 0, State: "fresh", Left: 60, Body: []byte("a")}}
		if broken.Load() {
			out = out[:2]
		}
		for _, m := range out {
			_ = protocol.Write(w, m)
			_ = http.NewResponseController(w).Flush()
		}
	}))
	node.Config.ConnState = func(_ net.Conn, state http.ConnState) {
		if state == http.StateNew {
			connections.Add(1)
		}
	}
	node.Start()
	defer node.Close()
	fragments := New(node.URL, "token").Fragments(FragmentOptions{Timeout: 10 * time.Second})
	load := func() ([][]byte, error) {
		all := []Fragment{{Name: "a", Lifetime: time.Hour}, {Name: "b", Lifetime: time.Hour}}
		return fragments.LoadOrFillAll(context.Background(), all, func(context.Context, int) ([]byte, error) { return []byte("made here"), nil })
	}
	for range 20 {
		got, err := load()
		require.NoError(t, err)
		assert.Equal(t, [][]byte{[]byte("a"), []byte("b")}, got)
	}
	assert.EqualValues(t, 1, connections.Load())
	broken.Store(true)
	got, err := load()
	require.NoError(t, err)
	assert.Equal(t, [][]byte{[]byte("made here"), []byte("made here")}, got)
}
