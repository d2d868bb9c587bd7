package origin

import (
	"io"
	"sync"
)

// rewinder is a visitor's body that can be read once more from its beginning, as long as
// little of it was read: for a request of which nothing got onto the connection.
type rewinder struct {
	mu   sync.Mutex
	body io.Reader
	seen []byte // what was read so far
	at   int    // what of it is read again
	gone bool   // too much was read to keep it
	err  error  // that reading it ended with, but for io.EOF
}

// maxRewind is how much of a body is kept, in bytes: more than the transport reads before it
// writes.
const maxRewind = 64 << 10

func (b *rewinder) Read(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.at < len(b.seen) {
		n := copy(p, b.seen[b.at:])
		b.at += n
		return n, nil
	}
	n, err := b.body.Read(p)
	if err != nil && err != io.EOF {
		b.err = err
	}
	if b.gone {
		return n, err
	}
	if len(b.seen)+n > maxRewind {
		b.gone, b.seen, b.at = true, nil, 0
		return n, err
	}
	b.seen = append(b.seen, p[:n]...)
	b.at = len(b.seen)
	return n, err
}

// Close leaves the body to whoever serves the visitor: it may be read again.
func (b *rewinder) Close() error { return nil }

// broken is the error that reading the body ended with, nil if none.
func (b *rewinder) broken() error {
	if b == nil {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.err
}

// rewind goes back to the beginning, if that is still there.
func (b *rewinder) rewind() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.at = 0
	return !b.gone
}
