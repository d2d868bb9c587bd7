package readahead

import (
	"context"
	"errors"
	"io"
	"sync"
	"time"
)

// Most is how much is read from somebody before it is wanted, in bytes: as much as a body
// may have that is read before its origin is asked, and one more, to see its end.
const Most = 64<<10 + 1

// Reader reads from a source before what it reads is wanted, in a goroutine of its own,
// which Run is for. End ends it.
type Reader struct {
	read func(p []byte) (int, error) // the source
	take func(bytes int64) bool      // asks for room beyond the first piece
	give func(bytes int64)           // gives room back

	mu      sync.Mutex
	changed chan struct{} // closed and renewed at each change
	buffer  []byte
	from    int // what of it was not handed out
	to      int
	err     error // that the source ended with; io.EOF at its end
	closed  bool
	most    int  // bytes that are read ahead
	full    bool // once: as much came as is read ahead
	held    bool // the source must not wait for whoever reads: it ends, with ErrBehind, when there is no room
	taken   int64
	after   func() // called when the source has ended
	done    chan struct{}
}

// Never tells the reader that its source is not read: whoever would run it has ended.
func (a *Reader) Never() { close(a.done) }

// First is the room that nobody is asked for, in bytes.
const First = 4 << 10

// New returns a reader of a source that is known to send so many bytes; -1 if that is unknown.
// take asks for room beyond the first piece, and give gives it back.
func New(read func([]byte) (int, error), length int64, take func(int64) bool, give func(int64)) *Reader {
	a := &Reader{read: read, take: take, give: give, changed: make(chan struct{}), done: make(chan struct{}), most: Most}
	size := int64(First)
	if length > 0 && length < size {
		size = length + 1 // to see its end
	}
	a.buffer = make([]byte, size)
	return a
}

// Run reads until the source ends, or Close.
func (a *Reader) Run() {
	defer close(a.done)
	for {
		room := a.room()
		if room == nil {
			return
		}
		n, err := a.read(room)
		a.mu.Lock()
		a.to += n
		a.err = err
		a.full = a.full || a.to == a.most
		after := a.after
		a.change()
		a.mu.Unlock()
		if err != nil {
			if after != nil {
				after()
			}
			return
		}
	}
}

// change wakes everyone who waits. Under mu.
func (a *Reader) change() {
	close(a.changed)
	a.changed = make(chan struct{})
}

// room is where to read to; it waits while there is none. nil: it was closed.
func (a *Reader) room() []byte {
	a.mu.Lock()
	defer a.mu.Unlock()
	for {
		switch {
		case a.closed:
			return nil
		case a.from == a.to:
			a.from, a.to = 0, 0
		case a.from > len(a.buffer)/2:
			a.to = copy(a.buffer, a.buffer[a.from:a.to])
			a.from = 0
		}
		if a.to < len(a.buffer) || a.grow() {
			return a.buffer[a.to:]
		}
		a.full = true
		if a.held {
			a.err = ErrBehind
		}
		a.change()
		if a.held {
			return nil
		}
		wake := a.changed
		a.mu.Unlock()
		<-wake
		a.mu.Lock()
	}
}

// ErrBehind ends a source whose reader is so far behind that there is no room for the rest.
var ErrBehind = errors.New("the visitor reads too slowly for the rest of the answer to be kept")

// GoOn makes the source go on without waiting for whoever reads, up to so many bytes.
func (a *Reader) GoOn(most int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.most, a.held = most, true
	a.change()
}

// grow makes more room, if there may be more. Under mu.
func (a *Reader) grow() bool {
	size := min(4*len(a.buffer), a.most)
	more := int64(size - len(a.buffer))
	if more <= 0 || !a.take(more) {
		return false
	}
	a.taken += more
	larger := make([]byte, size)
	copy(larger, a.buffer[:a.to])
	a.buffer = larger
	return true
}

// Settle waits until all of the source is there, or as much as is read ahead, and reports
// whether it is all.
func (a *Reader) Settle(ctx context.Context, limit time.Duration) (whole bool) {
	timer := time.NewTimer(limit)
	defer timer.Stop()
	a.mu.Lock()
	defer a.mu.Unlock()
	for a.err == nil && !a.full {
		wake := a.changed
		a.mu.Unlock()
		late := false
		select {
		case <-wake:
		case <-timer.C:
			late = true
		case <-ctx.Done():
			late = true
		}
		a.mu.Lock()
		if late {
			break
		}
	}
	return a.err == io.EOF
}

// WhenEnded calls a function when the source has ended, at once if it has.
func (a *Reader) WhenEnded(do func()) {
	a.mu.Lock()
	ended := a.err != nil
	a.after = do
	a.mu.Unlock()
	if ended {
		do()
	}
}

// State returns how the source ended: nil as long as it has not, io.EOF at its end.
func (a *Reader) State() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.err
}

// Bytes returns those of a whole source of which nothing was read.
func (a *Reader) Bytes() []byte {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.buffer[a.from:a.to:a.to]
}

// Read implements io.Reader.
func (a *Reader) Read(p []byte) (int, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for a.from == a.to {
		if a.err != nil {
			return 0, a.err
		}
		if a.closed {
			return 0, io.ErrClosedPipe
		}
		wake := a.changed
		a.mu.Unlock()
		<-wake
		a.mu.Lock()
	}
	n := copy(p, a.buffer[a.from:a.to])
	a.from += n
	a.change()
	return n, nil
}

// End ends the reading: unblock must end a read of the source that is under way. It returns
// when nothing is read any more.
func (a *Reader) End(unblock func()) {
	a.mu.Lock()
	over := a.err != nil
	a.closed = true
	a.change()
	a.mu.Unlock()
	if !over {
		unblock()
	}
	<-a.done
	a.give(a.taken)
	a.taken = 0
}
