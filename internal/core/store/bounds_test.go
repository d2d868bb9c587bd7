package store

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/tags"
)

// TestABoundKeepsOneFromPushingOutOthers: what is bounded stays within its bound, and its least
// worth go for its newest; nobody else's go.
func TestABoundKeepsOneFromPushingOutOthers(t *testing.T) {
	m := NewMemory(8<<20, time.Now())
	other := entry("/other", 100, "a")
	require.NoError(t, m.Put(other, time.Now()))
	bound := Bound{Name: "route greedy", AtMost: 1 << 20}
	for i := range 2000 {
		e := entry(fmt.Sprint("/greedy/", i), 4<<10, "a")
		e.Subject.Route, e.Bound = "greedy", bound
		require.NoError(t, m.Put(e, time.Now()))
		if hot := m.Find([]byte("/greedy/0"), nil).Entry; hot != nil {
			m.mu.Lock()
			m.policy.Use(hot.kept.Load().place, 1)
			m.mu.Unlock()
		}
	}
	bytes := m.RouteBytes("greedy")
	assert.LessOrEqual(t, bytes, bound.AtMost)
	assert.Greater(t, bytes, bound.AtMost*9/10)
	assert.NotNil(t, m.Find([]byte(other.Key), nil).Entry)
	assert.NotNil(t, m.Find([]byte("/greedy/0"), nil).Entry, "it is asked for")
	assert.Equal(t, []string{"a"}, m.Some("", "greedy", "", 1)[0].Subject.Tags, "the bound's name is no tag")
	big := entry("/greedy/big", 2<<20)
	big.Bound = bound
	assert.ErrorIs(t, m.Put(big, time.Now()), ErrNoRoom)
	m.Sweep(tags.Purge{Sequence: 9, All: true})
	assert.Empty(t, m.bounds)
}
