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
	coding httprules.Coding
}

// NewWriter returns a writer to out in one of httprules.QuickCoding's codings. Free must be
// called.
func NewWriter(coding httprules.Coding, out io.Writer) *Writer {
	w := &Writer{quick[coding].Get().(quickEncoder), coding}
	w.Reset(out)
	return w
}

// Free gives the writer back; it is not to be used any more.
func (w *Writer) Free() {
	w.Reset(nil) // it must not hold on to the visitor
	quick[w.coding].Put(w.quickEncoder)
}

// Quickly returns a body in a coding.
func Quickly(coding httprules.Coding, body []byte) []byte {
	var out bytes.Buffer
	w := NewWriter(coding, &out)
	defer w.Free()
	_, _ = w.Write(body) // a buffer takes everything
	_ = w.Close()
	return out.Bytes()
}

// quick are the writers for what is compressed while a visitor waits.
var quick = map[httprules.Coding]*sync.Pool{
	httprules.Gzip: {New: func() any {
		w, err := gzip.NewWriterLevel(nil, gzip.BestSpeed)
		if err != nil {
			panic(err) // the level is written above
		}
		return w
	}},
	httprules.Zstd: {New: func() any {
		w, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(128<<10))
		if err != nil {
			panic(err) // the options are written above
		}
		return w
	}},
}

// quickEncoder is a writer that can send what it has.
type quickEncoder interface {
	encoder
	Flush() error
}
