package tasks

import (
	"context"
	"sync"
)

// Group is a set of tasks that end together. Its zero value cannot be used; see NewGroup.
type Group struct {
	life   context.Context // ends with Shutdown
	end    context.CancelFunc
	all    sync.WaitGroup
	ending sync.RWMutex // held to end, and to begin a task
}

// NewGroup returns a group without tasks.
func NewGroup() *Group {
	g := &Group{}
	g.life, g.end = context.WithCancel(context.Background())
	return g
}

// Life ends when the group is shut down: tasks that wait give up then.
func (g *Group) Life() context.Context { return g.life }

// Go starts a task; it reports false, and does not, when the group has been shut down.
func (g *Group) Go(task func()) bool {
	g.ending.RLock()
	defer g.ending.RUnlock()
	if g.life.Err() != nil {
		return false
	}
	g.all.Go(task)
	return true
}

// Shutdown ends the group's life, and returns when all its tasks have ended, or with the
// context's error.
func (g *Group) Shutdown(ctx context.Context) error {
	g.ending.Lock()
	g.end()
	g.ending.Unlock()
	ended := make(chan struct{})
	go func() {
		g.all.Wait()
		close(ended)
	}()
	select {
	case <-ended:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
