package node

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

func named(tag string) records.Order {
	return records.Order{Purge: tags.Purge{Tags: []string{tag}, Mode: tags.Soften, URLs: []tags.URL{{Host: "h", Path: "/p", AnyQuery: true}}}, Actor: "origin", Reason: "POST /" + tag}
}

// TestPromise8WhatIsOwedSurvivesACrash at any moment: what was kept is there again, each once, and
// what was only half kept counts as everything.
func TestPromise8WhatIsOwedSurvivesACrash(t *testing.T) {
	path := filepath.Join(t.TempDir(), "owed")
	reopened := func() []records.Order {
		o, err := openOwed(path)
		require.NoError(t, err)
		orders, _, err := o.begin()
		require.NoError(t, err)
		return orders
	}
	o, err := openOwed(path)
	require.NoError(t, err)
	assert.Empty(t, reopened())
	for _, tag := range []string{"a", "b", "a", "c"} {
		require.NoError(t, o.owe(named(tag)))
	}
	want := []records.Order{named("a"), named("b"), named("c")}
	assert.Equal(t, want, reopened(), "each once")

	// While these are being written to the ledger, the same may change again.
	orders, end, err := o.begin()
	require.NoError(t, err)
	assert.Equal(t, want, orders)
	require.NoError(t, o.owe(named("b")))
	require.NoError(t, o.owe(named("b")))
	assert.Len(t, reopened(), 4, "a crash loses neither")
	require.NoError(t, end(true))
	assert.Equal(t, []records.Order{named("b")}, reopened(), "it is not covered by what was written before")
	assert.Equal(t, 1, o.len())

	_, end, err = o.begin()
	require.NoError(t, err)
	require.NoError(t, o.owe(named("d")))
	require.NoError(t, end(false))
	require.NoError(t, o.owe(named("b")))
	assert.Equal(t, []records.Order{named("b"), named("d")}, reopened(), "the ledger did not take it")
	o.close()

	text, err := os.ReadFile(path)
	require.NoError(t, err)
	for cut := 1; cut < 40; cut++ {
		require.NoError(t, os.WriteFile(path, text[:len(text)-1-cut], 0o600))
		got := reopened()
		require.Len(t, got, 1)
		assert.True(t, got[0].All, "half of an order may be any")
	}
	assert.True(t, reopened()[0].All, "and is kept as such")
}

// TestWhatIsOwedByManyIsSyncedTogether: who owes waits for the disk about twice, however many do.
func TestWhatIsOwedByManyIsSyncedTogether(t *testing.T) {
	o, err := openOwed(filepath.Join(t.TempDir(), "owed"))
	require.NoError(t, err)
	var all sync.WaitGroup
	for i := range 300 {
		all.Go(func() { assert.NoError(t, o.owe(named(fmt.Sprint(i%200)))) })
	}
	all.Wait()
	o.close()
	again, err := openOwed(o.path)
	require.NoError(t, err)
	assert.Equal(t, 200, again.len())
	require.NoError(t, again.owe(records.Order{Purge: tags.Purge{Tags: []string{"\xff"}}}))
	orders, _, err := again.begin()
	require.NoError(t, err)
	assert.True(t, orders[200].All, "what is not text may be anything")
	again.close()
}

// TestPromise6WhatIsOwedIsBounded: beyond so many they become one purge of everything.
func TestPromise6WhatIsOwedIsBounded(t *testing.T) {
	o, err := openOwed(filepath.Join(t.TempDir(), "owed"))
	require.NoError(t, err)
	for i := range mostOwed { // without waiting for the disk each time
		line, err := json.Marshal(named(fmt.Sprint(i)))
		require.NoError(t, err)
		o.lines, o.known[string(line)] = append(o.lines, line), true
	}
	_, end, err := o.begin()
	require.NoError(t, err)
	require.NoError(t, o.owe(named("one more")))
	require.NoError(t, end(true), "what is everything now is not paid by what was written before")
	orders, _, err := o.begin()
	require.NoError(t, err)
	require.Len(t, orders, 1)
	assert.True(t, orders[0].All)
	require.NoError(t, o.owe(named("after")))
	assert.Equal(t, 2, o.len())
	o.close()
}
