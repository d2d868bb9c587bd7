package onward

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/policy"
	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

var ctx = context.Background()

// outer is a cache beyond: what it was told, and what it answers.
type outer struct {
	*httptest.Server
	mu     sync.Mutex
	told   []string
	answer func(asked int) int
	asked  int
}

func newOuter(t *testing.T) *outer {
	o := &outer{answer: func(int) int { return 204 }}
	o.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		o.mu.Lock()
		defer o.mu.Unlock()
		o.asked++
		status := o.answer(o.asked)
		if status == 204 || status == 0 { // 0: it takes it, and the answer is lost
			o.told = append(o.told, string(body))
		}
		if status == 0 {
			panic(http.ErrAbortHandler)
		}
		w.Header().Set("Location", "/elsewhere")
		w.WriteHeader(status)
	}))
	o.Config.ErrorLog = slog.NewLogLogger(slog.DiscardHandler, 0)
	t.Cleanup(o.Close)
	return o
}

func (o *outer) answers(answer func(asked int) int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.answer = answer
}

func (o *outer) heard() []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return append([]string{}, o.told...)
}

func (o *outer) target(t *testing.T, settings string) *policy.Onward {
	p, err := policy.Outside{}.Parse("p.yaml", fmt.Appendf(nil, "version: 1\norigins: [{ name: site, url: http://h }]\nroutes: []\nonward: [{ name: outer, url: %q, %s }]\n", o.URL+"/purge", settings))
	require.NoError(t, err)
	return p.Onward[0]
}

const byTags = `body: '{{if .All}}everything{{else}}{{join .Tags " "}}{{end}}'`

func teller(t *testing.T, rec records.Records) *Teller {
	tell := New(Parts{Log: slog.New(slog.DiscardHandler), Records: func() (records.Records, error) { return rec, nil }})
	t.Cleanup(tell.Stop)
	return tell
}

func purge(t *testing.T, rec records.Records, names ...string) {
	var orders []records.Order
	for _, name := range names {
		orders = append(orders, records.Order{Purge: tags.Purge{Tags: []string{name}}})
	}
	_, err := rec.Append(ctx, "a", orders, time.Minute)
	require.NoError(t, err)
}

func eventually(t *testing.T, ok func() bool) {
	t.Helper()
	require.Eventually(t, ok, 30*time.Second, 5*time.Millisecond)
}

// TestToldInOrderAtLeastOnce: whatever a target answers, and though two nodes want to tell it and policies
// are applied meanwhile, it takes each purge, none before one that came before.
func TestToldInOrderAtLeastOnce(t *testing.T) {
	rec, o := records.NewAlone(), newOuter(t)
	purge(t, rec, "before")
	random := rand.New(rand.NewPCG(3, 3))
	o.answers(func(int) int {
		if n := random.IntN(12); n < 4 {
			return []int{500, 302, 403, 0}[n]
		}
		return 204
	})
	target := o.target(t, byTags)
	a, b := teller(t, rec), teller(t, rec)
	a.Apply([]*policy.Onward{target})
	require.NoError(t, a.Begin(ctx, rec))
	b.Apply([]*policy.Onward{target})
	var all []string
	for i := range 40 {
		name := fmt.Sprintf("t%02d", i)
		all = append(all, name)
		purge(t, rec, name)
		a.Wake()
		if i%10 == 5 {
			a.Apply([]*policy.Onward{target})
		}
	}
	eventually(t, func() bool { return len(o.heard()) > 0 && o.heard()[len(o.heard())-1] == all[len(all)-1] })
	var once []string
	for _, told := range o.heard() {
		if len(once) == 0 || once[len(once)-1] != told {
			once = append(once, told)
		}
	}
	assert.Equal(t, all, once, "what is told again follows itself")
	eventually(t, func() bool {
		states, err := a.States(ctx)
		return err == nil && states[0].Behind == 0 && !states[0].Failing()
	})
}

func TestATargetThatCannotBeTold(t *testing.T) {
	rec, o := records.NewAlone(), newOuter(t)
	o.answers(func(int) int { return 503 })
	tell := teller(t, rec)
	tell.Apply([]*policy.Onward{o.target(t, byTags)})
	require.NoError(t, tell.Begin(ctx, rec))
	purge(t, rec, "a", "b")
	state := func() State {
		states, err := tell.States(ctx)
		require.NoError(t, err)
		return states[0]
	}
	eventually(t, func() bool { return state().Failures > 1 })
	assert.Equal(t, int64(2), state().Behind)
	assert.Equal(t, "it answered 503", state().Error)
	assert.Contains(t, tell.Trouble(), "outer (it answered 503; 2 wait)")
	skipped, err := tell.Skip(ctx, "outer")
	require.NoError(t, err)
	assert.EqualValues(t, 2, skipped)
	_, err = tell.Skip(ctx, "outr")
	assert.ErrorIs(t, err, ErrNoTarget)
	o.answers(func(int) int { return 204 })
	purge(t, rec, "c")
	eventually(t, func() bool { return strings.Join(o.heard(), " ") == "c" })
	eventually(t, func() bool { return state().Told != nil && tell.Trouble() == "" })

	tell.Apply(nil)
	many := make([]string, MostWaiting/100)
	for i := range many {
		many[i] = fmt.Sprint("m", i)
	}
	for range 101 {
		purge(t, rec, many...)
	}
	tell.Apply([]*policy.Onward{o.target(t, byTags)})
	eventually(t, func() bool { return strings.Join(o.heard(), " ") == "c everything" })
	purge(t, rec, "d")
	eventually(t, func() bool { return strings.Join(o.heard(), " ") == "c everything d" })
}

// TestWhatATargetWants: purges that it does not want are passed over; the overflow and what cannot be
// written are told as a purge of everything.
func TestWhatATargetWants(t *testing.T) {
	rec, o := records.NewAlone(), newOuter(t)
	tell := teller(t, rec)
	tell.Apply([]*policy.Onward{o.target(t, "when: tags, method: PUT, "+byTags)})
	require.NoError(t, tell.Begin(ctx, rec))
	_, err := rec.Append(ctx, "a", []records.Order{{Purge: tags.Purge{All: true}}, {Purge: tags.Purge{Routes: []string{"r"}}}}, time.Minute)
	require.NoError(t, err)
	purge(t, rec, "a", strings.Repeat("x", 5<<20), "b")
	eventually(t, func() bool { return strings.Join(o.heard(), " ") == "a everything b" })
}

// TestASetBackLedgerIsToldAsEverything: what a target knows cannot be told from what it does not.
func TestASetBackLedgerIsToldAsEverything(t *testing.T) {
	rec, o := records.NewAlone(), newOuter(t)
	target := o.target(t, byTags)
	require.NoError(t, rec.BeginOnward(ctx, []string{"outer"}))
	require.NoError(t, rec.SaveOnward(ctx, records.Position{}, records.Onward{Name: "outer", At: records.Position{Sequence: 7, RowID: "of another history"}}))
	tell := teller(t, rec)
	tell.Apply([]*policy.Onward{target})
	eventually(t, func() bool { return strings.Join(o.heard(), " ") == "everything" })
}
