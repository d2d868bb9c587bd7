package coding

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"
	"weak"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/tasks"
)

// shelf is a store with pages that may be coded.
type shelf struct {
	t     *testing.T
	store *store.Memory
	marks *tags.Marks
}

func newShelf(t *testing.T) *shelf {
	return &shelf{t, store.NewMemory(8<<20, store.LeastRecentlyUsed()), tags.NewMarks(0, 100)}
}

func (s *shelf) put(key string) *store.Entry {
	e := &store.Entry{
		Key: key, Method: "GET", Scheme: "http", Status: 200, Compress: true, Body: []byte(strings.Repeat(key+" ", 1000)),
		Header: httprules.Header{"Content-Type": {"text/html"}, "Etag": {`"` + key + `"`}}, Browser: httprules.Unset, Idle: httprules.Unset, LifeLimit: httprules.Unset,
	}
	e.Prepare()
	require.NoError(s.t, s.store.Put(e, time.Now()))
	return e
}

// idle is a coder for which nobody works.
func (s *shelf) idle(waiting int) *Coder {
	return &Coder{store: s.store, marks: s.marks, tasks: tasks.NewGroup(), queue: make(chan weak.Pointer[store.Entry], waiting), thorough: thorough(), quick: quick()}
}

// TestCompressionHoldsNothing: what waits for its codings is not held when it leaves the
// store, and what found no place in the queue may ask again.
func TestCompressionHoldsNothing(t *testing.T) {
	s := newShelf(t)
	c := s.idle(2)
	for i := range 5 {
		c.Want(s.put(fmt.Sprint("page ", i)))
	}
	assert.Len(t, c.queue, 2)
	s.store.Sweep(tags.Purge{All: true, Sequence: 1})
	assert.Eventually(t, func() bool {
		runtime.GC()
		first := <-c.queue
		c.queue <- first
		return first.Value() == nil
	}, 5*time.Second, time.Millisecond, "an entry that left is held by the queue")
	late := s.put("late")
	c.Want(late)
	assert.Equal(t, store.NotCoded, late.Coding.Load(), "there is no place for it")
	<-c.queue
	c.Want(late)
	assert.Equal(t, store.ToBeCoded, late.Coding.Load())
}

// TestCodedFormsFollowTheLatest: an entry that was renewed while it was coded has the forms, and
// nothing is made for what a purge has dropped.
func TestCodedFormsFollowTheLatest(t *testing.T) {
	s := newShelf(t)
	c := s.idle(1)
	first := s.put("page")
	second := s.put("page")
	first.Renewed(second)
	c.code(first)
	for _, coding := range httprules.Codings {
		assert.Equal(t, coding, second.Encoded(coding).Coding)
		assert.Less(t, len(second.Encoded(coding).Body), len(second.Body)/10)
	}
	third := s.put("page")
	c.TakeOver(third, second)
	assert.Equal(t, store.Coded, third.Coding.Load())
	assert.Equal(t, httprules.Brotli, third.Encoded(httprules.Brotli).Coding)

	dropped := s.put("dropped")
	s.marks.Apply(tags.Purge{All: true, Sequence: 1})
	c.code(dropped)
	assert.Equal(t, httprules.Identity, dropped.Encoded(httprules.Gzip).Coding)
}
