package readahead

import (
	"bytes"
	"context"
	"io"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// account counts the room that is asked for, and gives as much as there is.
type account struct{ room, taken int64 }

func (a *account) take(n int64) bool {
	if a.taken+n > a.room {
		return false
	}
	a.taken += n
	return true
}

func (a *account) give(n int64) { a.taken -= n }

// TestWhatIsReadAheadIsWhatWasSent, in whichever pieces it comes and is wanted, and no room stays
// taken.
func TestWhatIsReadAheadIsWhatWasSent(t *testing.T) {
	for _, size := range []int{0, 1, First, First + 1, Most - 1, 5 * Most} {
		for name, pieces := range map[string]func(io.Reader) io.Reader{"as it comes": func(r io.Reader) io.Reader { return r }, "half of what is wanted": iotest.HalfReader, "its end with data": iotest.DataErrReader} {
			sent := bytes.Repeat([]byte("Ostrel Isles "), size/13+1)[:size]
			a := &account{room: 1 << 20}
			r := New(pieces(bytes.NewReader(sent)).Read, int64(size), a.take, a.give)
			go r.Run()
			whole := r.Settle(context.Background(), 10*time.Second)
			assert.Equal(t, size < Most, whole, "%d bytes, %s: what is longer than is read ahead is not all there", size, name)
			if whole {
				assert.Equal(t, sent, append([]byte{}, r.Bytes()...))
			}
			got, err := io.ReadAll(r)
			require.NoError(t, err)
			assert.Equal(t, sent, got)
			r.End(func() { t.Error("it has ended by itself") })
			assert.Zero(t, a.taken)
		}
	}
}

// TestWithoutRoomTheSourceWaits for whoever reads; unless it must not: then it ends.
func TestWithoutRoomTheSourceWaits(t *testing.T) {
	in, out := io.Pipe()
	a := &account{}
	r := New(in.Read, -1, a.take, a.give)
	go r.Run()
	go func() { _, _ = out.Write(make([]byte, 3*First)) }()
	assert.False(t, r.Settle(context.Background(), 10*time.Second), "as much as there is room for")
	assert.Len(t, r.Bytes(), First)
	r.GoOn(1 << 20)
	n, err := io.Copy(io.Discard, r)
	assert.ErrorIs(t, err, ErrBehind)
	assert.LessOrEqual(t, n, int64(2*First))
	r.End(func() { in.Close() })
}

// TestTheEndUnblocksTheSource: nobody reads it afterwards.
func TestTheEndUnblocksTheSource(t *testing.T) {
	in, out := io.Pipe()
	r := New(in.Read, -1, (&account{}).take, (&account{}).give)
	go r.Run()
	go func() { _, _ = out.Write([]byte("half")) }()
	assert.False(t, r.Settle(context.Background(), time.Millisecond))
	r.End(func() { in.Close() })
	_, err := out.Write([]byte("more"))
	assert.ErrorIs(t, err, io.ErrClosedPipe)
	never := New(in.Read, -1, (&account{}).take, (&account{}).give)
	never.Never()
	never.End(func() {})
}
