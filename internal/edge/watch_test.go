package edge

import (
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWatchingNeverSlowsARequest(t *testing.T) {
	s := newRig(t, text("x"))
	all := func(*Event) bool { return true }
	slow, keys := s.edge.Watch(Wanted{Wants: all}), s.edge.Watch(Wanted{Keys: true, Wants: func(e *Event) bool { return strings.HasSuffix(e.URL, "=1") }})
	defer slow.Close()
	visit := func(page int) {
		s.edge.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", fmt.Sprintf("http://h/ports/a?page=%d", page), nil))
	}
	for range 20 {
		visit(2)
		visit(1)
		e := <-keys.Events
		assert.Equal(t, "port", e.Sample.Route)
		assert.Contains(t, e.Key, "path=/ports/a")
		assert.Equal(t, "http://h/ports/a?page=1", e.URL, "what it does not want is neither shown nor missed")
	}
	assert.Zero(t, keys.Missed.Load())
	assert.Empty(t, (<-slow.Events).Key)
	for range 3 * handedRate {
		visit(2)
	}
	assert.Eventually(t, func() bool { return slow.Missed.Load() > 0 }, 5*time.Second, time.Millisecond, "who does not read misses events, and is told")
	assert.LessOrEqual(t, len(slow.Events), watchRoom)
	var more []*Watch
	for range MaxWatches - 2 {
		more = append(more, s.edge.Watch(Wanted{Wants: all}))
	}
	assert.Nil(t, s.edge.Watch(Wanted{Wants: all}), "no more may watch")
	for _, w := range append(more, keys) {
		w.Close()
	}
	again := s.edge.Watch(Wanted{Wants: all})
	require.NotNil(t, again)
	again.Close()
}
