package fetch

import (
	"context"
	"fmt"
	"log/slog"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/barrier"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/tasks"
)

// TestPromise6SoManyDoubtsWait: who makes more of them waits for them, and none is forgotten.
func TestPromise6SoManyDoubtsWait(t *testing.T) {
	p, err := policy.Outside{}.Parse("test.yaml", []byte("version: 1\norigins: [{ name: site, url: http://127.0.0.1:1 }]\nroutes: [{ name: any, match: { path: \"/{x...}\" } }]\n"))
	require.NoError(t, err)
	stored := store.NewMemory(1<<20, time.Now())
	var ordered atomic.Int64
	f := New(Config{
		Store: stored, Barrier: barrier.New(tags.NewMarks(0, 100), stored), Meter: &meter.Meter{}, Tasks: tasks.NewGroup(), Log: slog.New(slog.DiscardHandler), Now: time.Now,
		Policy: func() *policy.InForce { return &policy.InForce{Policy: p} },
		Purge:  func(context.Context, tags.Purge, string, string) error { ordered.Add(1); return nil },
	})
	for i := range mostWaiting + 10 {
		f.doubts.about(&write{fetcher: f, host: "h", path: fmt.Sprint("/", i), method: "POST"}, time.Hour)
	}
	assert.EqualValues(t, 10, ordered.Load())
	require.NoError(t, f.Tasks.Shutdown(t.Context()))
	assert.EqualValues(t, mostWaiting+10, ordered.Load())
	assert.Zero(t, f.doubts.waiting.Load())
}
