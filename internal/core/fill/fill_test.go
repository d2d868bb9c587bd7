package fill

import (
	"context"
	"errors"
	"io"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/tags"
)

var ctx = context.Background()

// write puts text into a flight in pieces of at most n bytes.
func write(t *testing.T, f *Flight[string], text string, n int) {
	for text != "" {
		room, err := f.Room(ctx, 0)
		require.NoError(t, err)
		k := copy(room[:min(n, len(room))], text)
		f.Wrote(k)
		text = text[k:]
	}
}

func readAll(r *Reader[string]) (string, error) {
	defer r.Close()
	var b strings.Builder
	for {
		data, err := r.Next(ctx, nil)
		if err == io.EOF {
			return b.String(), nil
		}
		if err != nil {
			return b.String(), err
		}
		b.Write(data)
	}
}

// group is a group with a ledger of its own.
type group struct {
	*Group[string]
	at tags.Stamp
}

func newGroup() *group {
	g := &group{}
	g.Group = NewGroup[string](func() tags.Stamp { return g.at })
	return g
}

func (g *group) join(key string, at tags.Stamp) (*Reader[string], *Flight[string], bool) {
	g.at = at
	p := g.Join(key, nil)
	return p.Reader, p.Flight, p.Lead
}

func (g *group) alone(at tags.Stamp) (*Reader[string], *Flight[string]) {
	g.at = at
	p := g.Alone()
	return p.Reader, p.Flight
}

// TestPromise2DisownReachesWhatIsBeginning: a flight has its stamp and its place in the group at
// once. One that had the stamp of a ledger that was set back meanwhile, and was not disowned,
// would come to life again when the ledger reaches that sequence once more.
func TestPromise2DisownReachesWhatIsBeginning(t *testing.T) {
	for name, begin := range map[string]func(*Group[string]) *Flight[string]{
		"joined": func(g *Group[string]) *Flight[string] { return g.Join("k", nil).Flight },
		"alone":  func(g *Group[string]) *Flight[string] { return g.Alone().Flight },
	} {
		var g *Group[string]
		disowned := make(chan struct{})
		g = NewGroup[string](func() tags.Stamp {
			go func() {
				g.Disown()
				close(disowned)
			}()
			select {
			case <-disowned:
			case <-time.After(20 * time.Millisecond):
			}
			return 1000
		})
		f := begin(g)
		<-disowned
		assert.True(t, f.Disowned(), name)
		f.End(nil)
	}
}

func TestEveryoneReadsTheWholeStream(t *testing.T) {
	g := newGroup()
	text := strings.Repeat("Ostrel Isles ", 20_000)
	first, f, lead := g.join("k", 1)
	require.True(t, lead)
	var all sync.WaitGroup
	read := func(r *Reader[string]) {
		all.Go(func() {
			h, err := r.Wait(ctx, nil)
			assert.NoError(t, err)
			assert.Equal(t, "head", h)
			got, err := readAll(r)
			assert.NoError(t, err)
			assert.Equal(t, text, got)
		})
	}
	read(first)
	f.Publish(Head[string]{Value: "head", Kept: true, Shared: true})
	write(t, f, text[:100_000], 3000)
	for range 20 { // those who come late still read from the first byte
		r, same, lead := g.join("k", 1)
		require.False(t, lead)
		require.Same(t, f, same)
		read(r)
	}
	write(t, f, text[100_000:], 70_000)
	assert.Equal(t, text, string(f.Body()))
	f.End(nil)
	all.Wait()
	assert.Zero(t, g.Len())
}

func TestPromise2NobodyJoinsAFlightFromBeforeAPurge(t *testing.T) {
	g := newGroup()
	_, old, _ := g.join("k", 1)
	_, fresh, lead := g.join("k", 2)
	assert.True(t, lead)
	assert.NotSame(t, old, fresh)
	old.End(nil)
	_, same, lead := g.join("k", 2)
	assert.False(t, lead, "the end of the old flight does not take the new one away")
	assert.Same(t, fresh, same)
	same.Leave()
	_, _, lead = g.join("k", 2)
	assert.True(t, lead, "nobody joins what is stored already")
	assert.EqualValues(t, 2, g.Oldest(9), "it is aloft until it ends")
	same.End(nil)
	_, alone := g.alone(1)
	assert.EqualValues(t, 1, g.Oldest(9), "those that nobody can join count, too")
	alone.End(nil)
}

func TestPromise5AFlightThatBreaksOffBreaksForAll(t *testing.T) {
	g := newGroup()
	a, f, _ := g.join("k", 0)
	b, _, _ := g.join("k", 0)
	f.Publish(Head[string]{Kept: true, Shared: true})
	write(t, f, "half", 4)
	f.End(io.ErrUnexpectedEOF)
	for _, r := range []*Reader[string]{a, b} {
		got, err := readAll(r)
		assert.Equal(t, "half", got)
		assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	}
	c, f2, _ := g.join("k", 0)
	f2.End(errors.New("refused"))
	_, err := c.Wait(ctx, nil)
	assert.EqualError(t, err, "refused")
}

func TestTheLastBytesWaitForTheEnd(t *testing.T) {
	g := newGroup()
	r, f, _ := g.join("k", 0)
	f.Publish(Head[string]{Kept: true, Shared: true})
	room, err := f.Room(ctx, 8)
	require.NoError(t, err)
	copy(room, "complete")
	f.Wrote(4)
	f.HoldBack(4)
	data, err := r.Next(ctx, nil)
	require.NoError(t, err)
	assert.Equal(t, "comp", string(data))
	short, cancel := context.WithCancel(ctx)
	_, err = r.Next(short, cancel)
	assert.ErrorIs(t, err, context.Canceled, "nothing more before the end")
	assert.Equal(t, "complete", string(f.Body()))
	f.End(nil)
	data, err = r.Next(ctx, nil)
	require.NoError(t, err)
	assert.Equal(t, "lete", string(data))
}

// TestPromise6AStreamKeepsAWindowOnly: a body that is not kept is held back by its
// slowest reader, and a reader that stands still while others wait is cut off.
func TestPromise6AStreamKeepsAWindowOnly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := newGroup()
		fast, f, _ := g.join("k", 0)
		slow, _, _ := g.join("k", 0)
		f.Publish(Head[string]{Kept: true, Shared: true})
		f.Discard()
		_, _, lead := g.join("k", 0)
		assert.True(t, lead, "nobody can join what is not kept")

		const size = 8 << 20
		text := strings.Repeat("x", size)
		var most int
		go func() {
			for sent := 0; sent < size; {
				room, err := f.Room(ctx, 0)
				if err != nil {
					break
				}
				n := min(len(room), size-sent)
				copy(room, text[:n])
				f.Wrote(n)
				sent += n
				f.mu.Lock()
				most = max(most, len(f.chunks))
				f.mu.Unlock()
			}
			f.End(nil)
		}()
		began := time.Now()
		data, err := slow.Next(ctx, nil) // takes one piece and stands still
		require.NoError(t, err)
		assert.NotEmpty(t, data)
		got, err := readAll(fast)
		assert.NoError(t, err)
		assert.Len(t, got, size)
		assert.Equal(t, Patience, time.Since(began), "the others waited no longer than that")
		_, err = slow.Next(ctx, nil)
		assert.ErrorIs(t, err, ErrTooSlow)
		slow.Close()
		assert.LessOrEqual(t, most, Window/Piece+2)
	})
}

func TestALonelyFlightIsToldSo(t *testing.T) {
	g := newGroup()
	told := 0
	r, f := g.alone(0)
	f.OnLonely(func() { told++ })
	f.Publish(Head[string]{})
	assert.Zero(t, told)
	r.Close()
	assert.Equal(t, 1, told, "nobody reads it and nobody will keep it")

	r, f = g.alone(0)
	f.OnLonely(func() { told++ })
	f.Publish(Head[string]{Kept: true})
	r.Close()
	assert.Equal(t, 1, told, "it is worth keeping")
}
