package protocol

import (
	"errors"
	"io"
)

// Reader reads messages as they come.
type Reader struct {
	source io.Reader
	data   []byte // not read yet
	tried  int    // bytes that were there when they were not enough
	ended  bool
}

// step is how much room is made at a time, where nothing else is known.
const step = 32 << 10

// NewReader reads from a source that is expected to bring so many bytes; -1: that is not known.
func NewReader(source io.Reader, expect int64) *Reader {
	r := &Reader{source: source}
	if expect >= 0 {
		r.data = make([]byte, 0, min(expect, 8*step)+1) // room to see the end
	}
	return r
}

// Next reads the next message; io.EOF after the last, and io.ErrUnexpectedEOF within one.
func (r *Reader) Next(message any) error {
	for {
		if r.ended && len(r.data) == 0 {
			return io.EOF
		}
		if r.ended || len(r.data) > 0 && r.worthTrying() {
			rest, err := Next(r.data, message)
			if err == nil {
				r.data, r.tried = rest, 0
				return nil
			}
			if r.ended || !errors.Is(err, io.ErrUnexpectedEOF) {
				return err
			}
			r.tried = len(r.data)
		}
		if err := r.fill(); err != nil {
			return err
		}
	}
}

// worthTrying reports whether so much more is there than when it was not enough that reading it
// again costs, in all, no more than a few times its length.
func (r *Reader) worthTrying() bool { return len(r.data) < step || len(r.data) >= r.tried+r.tried/4 }

// fill reads more. What was handed out before stays as it is: bytes move to new room, never
// within it.
func (r *Reader) fill() error {
	if len(r.data) == cap(r.data) {
		r.data = append(make([]byte, 0, 2*len(r.data)+step), r.data...)
	}
	n, err := r.source.Read(r.data[len(r.data):cap(r.data)])
	r.data = r.data[:len(r.data)+n]
	if err == io.EOF {
		r.ended = true
		return nil
	}
	return err
}
