package warm

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"gerastic/internal/core/policy"
	"gerastic/internal/edge"
	"gerastic/internal/prime"
	"gerastic/internal/tasks"
)

// site is one on which something else is asked for each time, and which remembers a hundred.
type site struct {
	prime.Site
	first int
}

func (s *site) Asked() (all []edge.Asked) {
	for i := range 100 {
		all = append(all, edge.Asked{ID: fmt.Sprint(s.first + i), Route: "r", URL: fmt.Sprintf("http://h/%d", s.first+i), At: time.Now()})
	}
	s.first += 100
	return all
}

func (s *site) ForgetAsked(string) {}
func (s *site) Peek(*http.Request) edge.Peeked {
	return edge.Peeked{Route: "r", Fresh: true, Left: time.Hour, Life: time.Hour}
}
func (s *site) Policy() *policy.InForce { return nil }

// TestWhatIsRememberedIsBounded: what the site has forgotten is not kept for as long as its route says.
func TestWhatIsRememberedIsBounded(t *testing.T) {
	k := New(Parts{Site: &site{}, Base: func() string { return "http://h" }, Tasks: tasks.NewGroup(), Log: slog.New(slog.DiscardHandler)})
	routes := map[string]*policy.Route{"r": {Name: "r", Warm: &policy.Warm{AskedWithin: 24 * time.Hour}}}
	for range 50 {
		k.round(context.Background(), routes, time.Now())
	}
	assert.Len(t, k.items, 100)
}
