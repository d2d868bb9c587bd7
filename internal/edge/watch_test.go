package edge

import (
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/watching"
)

func TestWatchingNeverSlowsARequest(t *testing.T) {
	s := newRig(t, text("x"))
	ws, wanted := s.edge.Watchers(), watching.Wanted[Event]{Wants: func(*Event) bool { return true }}
	slow, keys := ws.Watch(wanted), ws.Watch(watching.Wanted[Event]{Exact: true, Wants: func(e *Event) bool { return strings.HasSuffix(e.URL, "=1") }})
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
	for range 15_000 {
		visit(2)
	}
	assert.Eventually(t, func() bool { return slow.Missed.Load() > 0 }, 5*time.Second, time.Millisecond, "who does not read misses events, and is told")
	assert.LessOrEqual(t, len(slow.Events), cap(slow.Events))
	var more []*watching.Watch[Event]
	for range watching.MaxWatches - 2 {
		more = append(more, ws.Watch(wanted))
	}
	assert.Nil(t, ws.Watch(wanted), "no more may watch")
	for _, w := range append(more, keys) {
		w.Close()
	}
	again := ws.Watch(wanted)
	require.NotNil(t, again)
	again.Close()
}
