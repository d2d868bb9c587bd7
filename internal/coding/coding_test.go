package coding

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"
	"time"

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
	return &shelf{t, store.NewMemory(8<<20, time.Now()), tags.NewMarks(0, 100)}
}

func (s *shelf) made(key string) *store.Entry {
	e := &store.Entry{
		Key: key, Method: "GET", Scheme: "http", Status: 200, Compress: true, Body: []byte(strings.Repeat(key+" ", 1000)),
		Header: httprules.Header{"Content-Type": {"text/html"}, "Etag": {`"` + key + `"`}}, Browser: httprules.Unset, Idle: httprules.Unset, LifeLimit: httprules.Unset,
	}
	e.Prepare()
	return e
}

func (s *shelf) put(key string) *store.Entry {
	e := s.made(key)
	require.NoError(s.t, s.store.Put(e, time.Now()))
	return e
}

// idle is a coder for which nobody works.
func (s *shelf) idle(waiting int) *Coder {
	return &Coder{store: s.store, marks: s.marks, tasks: tasks.NewGroup(), queue: make(chan job, waiting), thorough: thorough(), quick: quick()}
}

// found is what the store has for a key now.
func (s *shelf) found(key string) *store.Entry { return s.store.Find([]byte(key), nil).Entry }

// TestCompressionHoldsNothing: what waits for its codings is not held when it leaves the
// store, and what found no place in the queue may ask again.
func TestCompressionHoldsNothing(t *testing.T) {
	s := newShelf(t)
	c := s.idle(2)
	for i := range 5 {
		c.Want(s.put(fmt.Sprint("page ", i)), httprules.Gzip)
	}
	assert.Len(t, c.queue, 2)
	s.store.Sweep(tags.Purge{All: true, Sequence: 1})
	assert.Eventually(t, func() bool {
		runtime.GC()
		first := <-c.queue
		c.queue <- first
		return first.entry.Value() == nil
	}, 5*time.Second, time.Millisecond, "an entry that left is held by the queue")
	assert.Nil(t, s.store.Get((<-c.queue).entry))
	late := s.put("late")
	c.Want(late, httprules.Gzip)
	c.Want(late, httprules.Brotli)
	assert.Len(t, c.queue, 2, "there is no place for it")
	<-c.queue
	c.Want(late, httprules.Gzip)
	assert.Len(t, c.queue, 1, "one that waits is not asked for twice")
	c.Want(late, httprules.Brotli)
	assert.Len(t, c.queue, 2)
}

// TestCodedFormsFollowTheLatest: an entry that was renewed with the same body, while it was coded
// or before, has the forms; one with another body has none; and nothing is made for what a purge has
// dropped.
func TestCodedFormsFollowTheLatest(t *testing.T) {
	s := newShelf(t)
	c := s.idle(1)
	first := s.put("page")
	s.put("page")
	for _, coding := range httprules.Codings {
		c.code(first, coding)
	}
	s.put("page")
	for _, coding := range httprules.Codings {
		form := s.found("page").Encoded(coding)
		assert.Equal(t, coding, form.Coding)
		assert.Less(t, len(form.Body), len(first.Body)/10)
	}
	before := s.store.Figures().Used
	other := s.made("page")
	other.Body = append([]byte("x"), other.Body...)
	require.NoError(t, s.store.Put(other, time.Now()))
	assert.Equal(t, httprules.Identity, s.found("page").Encoded(httprules.Gzip).Coding)
	assert.Less(t, s.store.Figures().Used, before, "they are not left behind")

	dropped := s.put("dropped")
	s.marks.Apply(tags.Purge{All: true, Sequence: 1})
	c.code(dropped, httprules.Gzip)
	assert.Equal(t, httprules.Identity, s.found("dropped").Encoded(httprules.Gzip).Coding)
}

// TestWhatDoesNotGainIsTriedOnce.
func TestWhatDoesNotGainIsTriedOnce(t *testing.T) {
	s := newShelf(t)
	c := s.idle(2)
	e := s.made("noise")
	e.Body = make([]byte, 5000)
	_, _ = rand.NewChaCha8([32]byte{1}).Read(e.Body)
	require.NoError(t, s.store.Put(e, time.Now()))
	c.Want(e, httprules.Gzip)
	c.code(s.store.Get((<-c.queue).entry), httprules.Gzip)
	c.Want(s.found("noise"), httprules.Gzip)
	assert.Empty(t, c.queue)
}
