package origin

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// machine is one address of an origin: it counts what reaches it, and breaks off or answers.
type machine struct {
	url          string
	visits       atomic.Int64 // requests, without checks
	broken, sick atomic.Bool  // breaks connections off; fails its checks
}

func newMachine(t *testing.T) *machine {
	m := &machine{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path != "/healthy":
			if m.visits.Add(1); m.broken.Load() {
				panic(http.ErrAbortHandler)
			}
		case m.sick.Load():
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	t.Cleanup(s.Close)
	m.url = s.URL
	return m
}

func TestAnotherAddressStepsIn(t *testing.T) {
	bad, good := newMachine(t), newMachine(t)
	bad.broken.Store(true)
	both := newClient(t, fmt.Sprintf("url: [%q, %q]", bad.url, good.url))
	for range 6 {
		_, err := ask(t, both, "GET", "")
		assert.NoError(t, err)
	}
	assert.EqualValues(t, 1, bad.visits.Load(), "an address that failed is passed over for a while")
	assert.EqualValues(t, 6, good.visits.Load())

	for method, times := range map[string]int64{"POST": 1, "GET": 2} { // what is idempotent is repeated, once
		before := bad.visits.Load()
		_, err := ask(t, newClient(t, "url: "+bad.url), method, "")
		assert.Error(t, err)
		assert.Equal(t, times, bad.visits.Load()-before, method)
	}
}

func TestTheBreakerOpensAndLetsATrialThrough(t *testing.T) {
	m := newMachine(t)
	m.broken.Store(true)
	c := newClient(t, "url: "+m.url+", breaker: { after: 4, retry: 200ms }")
	for range 10 {
		_, err := ask(t, c, "GET", "")
		assert.Error(t, err)
	}
	assert.EqualValues(t, 4, m.visits.Load(), "then it is left alone")
	m.broken.Store(false)
	answers := func() bool {
		_, err := ask(t, c, "GET", "")
		return err == nil
	}
	require.Eventually(t, answers, 5*time.Second, 20*time.Millisecond)
	assert.EqualValues(t, 5, m.visits.Load(), "one trial was enough")
	assert.True(t, answers())
}

func TestChecksFindOutWhoIsWell(t *testing.T) {
	one, two := newMachine(t), newMachine(t)
	c := newClient(t, fmt.Sprintf("url: [%q, %q], check: { path: /healthy, every: 20ms, timeout: 1s }", one.url, two.url))
	asked := func() int64 { // of the first, by four who are answered
		before := one.visits.Load()
		for range 4 {
			_, err := ask(t, c, "GET", "")
			require.NoError(t, err)
		}
		return one.visits.Load() - before
	}
	one.sick.Store(true)
	require.Eventually(t, func() bool { return asked() == 0 }, 5*time.Second, 20*time.Millisecond)
	one.sick.Store(false)
	require.Eventually(t, func() bool { return asked() > 0 }, 5*time.Second, 20*time.Millisecond)
}
