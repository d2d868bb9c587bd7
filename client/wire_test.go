package client

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
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

// TestSeveralKeysInOneAnswer: what is known is told of together; each key has its own age, life and tags, and an
// answer that does not fit the lookup is none.
func TestSeveralKeysInOneAnswer(t *testing.T) {
	sequence := func(messages ...any) *bytes.Buffer {
		b := new(bytes.Buffer)
		for _, m := range messages {
			require.NoError(t, protocol.Append(b, m))
		}
		return b
	}
	head := protocol.LookupHead{Namespace: "shop", Stamp: 7}
	var known protocol.LookupSame
	for i, tags := range [][]string{nil, {"vessel:3"}, nil} {
		known.Add(2*i, float64(i), float64(60+i), tags)
	}
	have := []string{"a", "", "b", "", "c"}
	a, err := readAnswers(sequence(head, protocol.LookupAnswer{At: 3, State: "yours", Lease: "l"}, &known, protocol.LookupAnswer{At: 1, State: "fresh", Body: protocol.Bytes("x")}), -1, 5, have)
	require.NoError(t, err)
	for i, at := range []int{0, 2, 4} {
		one := &a.items[at]
		assert.True(t, one.same)
		assert.Equal(t, []any{"fresh", float64(i), float64(60 + i)}, []any{one.State, one.Age, one.Left})
		assert.Equal(t, at == 2, slices.Equal(one.Tags, []string{"vessel:3"}), one.Tags)
	}
	assert.Equal(t, []any{"yours", "x", false}, []any{a.items[3].State, string(a.items[1].Body), a.items[1].same})
	for what, bad := range map[string]protocol.LookupSame{
		"more than was asked for": {Same: []int{5}, Ages: []float64{1}, Lives: []float64{1}},
		"a place below the first": {Same: []int{-1}, Ages: []float64{1}, Lives: []float64{1}},
		"one place twice":         {Same: []int{0, 0}, Ages: []float64{1, 1}, Lives: []float64{1, 1}},
		"what it has not":         {Same: []int{1}, Ages: []float64{1}, Lives: []float64{1}},
		"no ages":                 {Same: []int{0}, Lives: []float64{1}},
		"fewer tags than keys":    {Same: []int{0, 2}, Ages: []float64{1, 1}, Lives: []float64{1, 1}, TagSets: [][]string{{"a"}}},
		"nothing":                 {Same: []int{}},
	} {
		_, err := readAnswers(sequence(head, &bad), -1, 5, have)
		assert.Error(t, err, what)
	}
}
