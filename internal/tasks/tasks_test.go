package tasks

import (
	"context"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestShutdownWaitsForEveryTask, and lets no more begin.
func TestShutdownWaitsForEveryTask(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := NewGroup()
		var ended atomic.Int64
		for i := range 3 {
			assert.True(t, g.Go(func() {
				<-g.Life().Done()
				time.Sleep(time.Duration(i) * time.Second)
				ended.Add(1)
			}))
		}
		short, cancel := context.WithTimeout(t.Context(), time.Second/2)
		defer cancel()
		assert.ErrorIs(t, g.Shutdown(short), context.DeadlineExceeded)
		assert.EqualValues(t, 1, ended.Load())
		assert.False(t, g.Go(func() { t.Error("it began after the end") }))
		assert.NoError(t, g.Shutdown(t.Context()))
		assert.EqualValues(t, 3, ended.Load())
	})
}
