package edge

import (
	"bytes"
	"io"
	"sync"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"gerastic/internal/core/rules"
	"gerastic/internal/core/store"
)

// compressing bounds how many entries are given other codings at a time.
var compressing = make(chan struct{}, 2)

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
	go func() {
		compressing <- struct{}{}
		defer func() { <-compressing }()
		for _, c := range rules.Codings {
			if coded := encode(c, entry.Body); len(coded) < len(entry.Body)*9/10 {
				e.Store.AddForm(entry, c, coded)
			}
		}
	}()
}

var zstdEncoder = sync.OnceValue(func() *zstd.Encoder {
	encoder, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		panic(err) // the options are written above
	}
	return encoder
})

// encode writes a body in a coding.
func encode(c rules.Coding, body []byte) []byte {
	var out bytes.Buffer
	var w io.WriteCloser
	switch c {
	case rules.Zstd:
		return zstdEncoder().EncodeAll(body, nil)
	case rules.Brotli:
		w = brotli.NewWriterLevel(&out, 5)
	default:
		w, _ = gzip.NewWriterLevel(&out, 6)
	}
	_, _ = w.Write(body) // a buffer takes everything
	_ = w.Close()
	return bytes.Clone(out.Bytes())
}
