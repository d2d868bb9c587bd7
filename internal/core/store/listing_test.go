package store

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/tags"
)

// TestAListHasEachEntryOnce: part after part, in its order, with the bytes that the store counts.
func TestAListHasEachEntryOnce(t *testing.T) {
	m := NewMemory(8<<20, noon)
	for i := range 100 {
		e := entry(fmt.Sprint(i), i*100, map[bool]string{true: "even", false: "odd"}[i%2 == 0])
		e.Freshness.Born = noon.Add(-time.Duration(i%10) * time.Minute)
		e.Filled(nil, time.Duration(1+i%7)*time.Millisecond)
		require.NoError(t, m.Put(e, noon))
		if i%3 == 0 {
			require.True(t, m.AddEncoded(e, httprules.Gzip, make([]byte, 1+i), time.Millisecond))
		}
	}
	m.Sweep(tags.Purge{Sequence: 1, Mode: tags.Soften, Tags: []string{"even"}})
	values := map[Order]func(Listed) float64{
		ByBytes: func(l Listed) float64 { return float64(l.Bytes) }, ByAge: func(l Listed) float64 { return l.Freshness.Age(noon).Seconds() },
		ByUse: func(l Listed) float64 { return l.Uses }, ByCost: func(l Listed) float64 { return float64(l.Cost()) }, ByWorth: func(l Listed) float64 { return l.Worth },
	}
	for order, value := range values {
		seen, bytes, before := map[string]bool{}, int64(0), 0.0
		for w := (Wish{By: order, Limit: 7}); ; {
			list, total := m.List(w, noon)
			assert.Equal(t, 100, total)
			for i, l := range list {
				assert.True(t, len(seen) == 0 && i == 0 || value(l) <= before, "order %d", order)
				assert.False(t, seen[l.Key])
				seen[l.Key], before, bytes = true, value(l), bytes+l.Bytes
				again, ok := m.Named(l.ID, noon)
				assert.True(t, ok && again.Key == l.Key)
			}
			if len(list) < w.Limit {
				break
			}
			at, err := ParseCursor(list[len(list)-1].At.String())
			require.NoError(t, err)
			w.After = at
		}
		assert.Len(t, seen, 100)
		assert.Equal(t, m.Figures().Kept, bytes)
	}
	for _, c := range []struct {
		wish Wish
		want int
	}{
		{Wish{Tag: "even"}, 50}, {Wish{Tag: "even", State: Live}, 0}, {Wish{State: Live}, 50}, {Wish{State: Softened, Route: "r"}, 50}, {Wish{Route: "other"}, 0}, {Wish{Host: "h"}, 100}, {Wish{Host: "g"}, 0},
		{Wish{URLs: []tags.URL{{AnyHost: true, Path: "/5", AnyQuery: true}, {AnyHost: true, Path: "/5"}}}, 1}, {Wish{Below: tags.Below{AnyHost: true, Path: "/9"}}, 11}, {Wish{Tag: "no such"}, 0},
	} {
		c.wish.Limit = 1
		list, total := m.List(c.wish, noon)
		assert.Equal(t, c.want, total, "%+v", c.wish)
		assert.Len(t, list, min(1, c.want))
	}
	for _, id := range []string{"", "m0", "m0-1", "mffffffff-1", "x"} {
		_, ok := m.Named(id, noon)
		assert.False(t, ok, id)
	}
	gone, _ := m.List(Wish{Limit: 1}, noon)
	m.Remove(gone[0].Entry, Purged)
	_, ok := m.Named(gone[0].ID, noon)
	assert.False(t, ok, "it has left")
}
