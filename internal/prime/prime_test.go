package prime

import (
	"context"
	"errors"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/edge"
	"gerastic/internal/tasks"
)

// oneLane is a site whose origin takes as long for each as there are at a time.
type oneLane struct {
	lane        sync.Mutex
	under, most atomic.Int64
	fails       bool
}

func (s *oneLane) Prime(context.Context, *http.Request, edge.Priming) edge.Primed {
	if now := s.under.Add(1); now > s.most.Load() {
		s.most.Store(now)
	}
	defer s.under.Add(-1)
	s.lane.Lock()
	defer s.lane.Unlock()
	time.Sleep(3 * time.Millisecond)
	if s.fails {
		return edge.Primed{Status: 503, Why: "Service Unavailable"}
	}
	return edge.Primed{Outcome: edge.PrimeFilled, Status: 200}
}

func (s *oneLane) Read(context.Context, *http.Request, int) ([]byte, error) {
	return nil, errors.New("no sitemap here")
}

func run(t *testing.T, s *oneLane, n int) Report {
	p := &Primer{Site: s, Base: func() string { return "http://h" }, Previous: func() []Target { return nil }, Tasks: tasks.NewGroup()}
	t.Cleanup(func() { _ = p.Tasks.Shutdown(context.Background()) })
	o := Order{OnlyMissing: true}
	for i := range n {
		o.URLs = append(o.URLs, "/"+string(rune('a'+i%26))+string(rune('a'+i/26)))
	}
	began, err := p.Start(o)
	require.NoError(t, err)
	var r Report
	require.Eventually(t, func() bool { r, _ = p.Job(began.ID); return r.State != Running }, 20*time.Second, 5*time.Millisecond)
	return r
}

// TestAutoSparesAnOriginThatSlowsDown: where two at a time take twice as long each, there are
// seldom more than two.
func TestAutoSparesAnOriginThatSlowsDown(t *testing.T) {
	s := &oneLane{}
	r := run(t, s, 200)
	assert.Equal(t, 200, r.Filled)
	assert.LessOrEqual(t, s.most.Load(), int64(3))
}

// TestAJobGivesUpOnAnOriginThatIsDown, and names what failed.
func TestAJobGivesUpOnAnOriginThatIsDown(t *testing.T) {
	limit := newThrottle(Pace{})
	limit.watch(0, true)
	assert.Positive(t, limit.rest, "it goes slower")
	r := run(t, &oneLane{fails: true}, 5)
	assert.Equal(t, Done, r.State)
	assert.Equal(t, 5, r.FailedCount)
	assert.Equal(t, 503, r.Problems[0].Status)
}

func TestPacesAndSitemapsThatAreNone(t *testing.T) {
	for _, text := range []string{"fast", "0/s", "-1/s", "20000/s", "20/m"} {
		_, err := ParsePace(text)
		assert.Error(t, err, text)
	}
	p, err := ParsePace("2.5/s")
	assert.NoError(t, err)
	assert.Equal(t, 2.5, p.PerSecond)
	for _, text := range []string{"", "<html></html>", "\x1f\x8bnot packed"} {
		_, _, err := Sitemap([]byte(text))
		assert.Error(t, err, text)
	}
}
