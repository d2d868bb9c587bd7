package coding

import (
	"bytes"
	"io"
	"sync"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"gerastic/internal/core/httprules"
)

// Writer compresses what is sent while a visitor waits: fast, and able to send what it has.
type Writer struct {
	quickEncoder
	from *sync.Pool
}

// quickEncoder is a writer that can send what it has.
type quickEncoder interface {
	encoder
	Flush() error
}

// NewWriter returns a writer to out in one of httprules.QuickCoding's codings. Free must be
// called.
func (c *Coder) NewWriter(coding httprules.Coding, out io.Writer) *Writer {
	from := c.quick[coding]
	w := &Writer{from.Get().(quickEncoder), from}
	w.Reset(out)
	return w
}

// Free gives the writer back; it is not to be used any more.
func (w *Writer) Free() {
	w.Reset(nil) // it must not hold on to the visitor
	w.from.Put(w.quickEncoder)
}

// Quickly returns a body in a coding.
func (c *Coder) Quickly(coding httprules.Coding, body []byte) []byte {
	var out bytes.Buffer
	w := c.NewWriter(coding, &out)
	defer w.Free()
	_, _ = w.Write(body) // a buffer takes everything
	_ = w.Close()
	return out.Bytes()
}

// quick returns the writers for what is compressed while a visitor waits.
func quick() map[httprules.Coding]*sync.Pool {
	return map[httprules.Coding]*sync.Pool{
		httprules.Gzip: {New: func() any { return must(gzip.NewWriterLevel(nil, gzip.BestSpeed)) }},
		httprules.Zstd: {New: func() any {
			return must(zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(128<<10)))
		}},
	}
}
