package edge

import (
	"bytes"
	"io"
	"runtime"
	"sync"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"gerastic/internal/core/rules"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// compressing bounds how many entries are given other codings at a time: half of the
// cores are left to visitors.
var compressing = make(chan struct{}, max(1, runtime.GOMAXPROCS(0)/2))

// compress gives a stored identity answer its other codings, once, behind the visitor
// who brought it; until they are there, visitors get it plain. What does not gain a
// tenth is left plain. An entry that renews another with the same body takes its forms over.
func (e *Edge) compress(entry, before *store.Entry) {
	if !entry.Compress || len(entry.Body) == 0 {
		return
	}
	if before != nil {
		for _, c := range rules.Codings {
			if form := before.Form(c); form.Coding == c {
				e.Store.AddForm(entry, c, form.Body)
			}
		}
		return
	}
	e.run(func() {
		select {
		case compressing <- struct{}{}:
		case <-e.life.Done():
			return
		}
		defer func() { <-compressing }()
		for _, c := range rules.Codings {
			if e.life.Err() != nil || entry.Judge(e.Marks) == tags.Dropped {
				return // a purge was faster
			}
			if coded := encode(c, entry.Body); len(coded) < len(entry.Body)*9/10 {
				e.Store.AddForm(entry, c, coded)
			}
		}
	})
}

var zstdEncoder = sync.OnceValue(func() *zstd.Encoder {
	encoder, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		panic(err) // the options are written above
	}
	return encoder
})

// encoder is what the writers of both libraries can do; one takes a MiB, so they are
// used again.
type encoder interface {
	io.WriteCloser
	Reset(io.Writer)
}

var (
	brotliWriters = sync.Pool{New: func() any { return brotli.NewWriterLevel(nil, 5) }}
	gzipWriters   = sync.Pool{New: func() any {
		w, err := gzip.NewWriterLevel(nil, 6)
		if err != nil {
			panic(err) // the level is written above
		}
		return w
	}}
)

// quick are the writers for what is compressed while a visitor waits: fast, and able to send
// what there is.
var quick = map[rules.Coding]*sync.Pool{
	rules.Gzip: {New: func() any {
		w, err := gzip.NewWriterLevel(nil, gzip.BestSpeed)
		if err != nil {
			panic(err) // the level is written above
		}
		return w
	}},
	rules.Zstd: {New: func() any {
		w, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(128<<10))
		if err != nil {
			panic(err) // the options are written above
		}
		return w
	}},
}

// flushing is a writer that can send what it has.
type flushing interface {
	encoder
	Flush() error
}

// encode writes a body in a coding.
func encode(c rules.Coding, body []byte) []byte {
	if c == rules.Zstd {
		return zstdEncoder().EncodeAll(body, nil)
	}
	pool := &gzipWriters
	if c == rules.Brotli {
		pool = &brotliWriters
	}
	w := pool.Get().(encoder)
	defer pool.Put(w)
	var out bytes.Buffer
	w.Reset(&out)
	_, _ = w.Write(body) // a buffer takes everything
	_ = w.Close()
	return bytes.Clone(out.Bytes())
}
