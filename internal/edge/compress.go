package edge

import (
	"bytes"
	"io"
	"runtime"
	"sync"
	"weak"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// compressor gives stored identity answers their other codings, behind visitors; until they
// are there, visitors get them plain. What does not gain a tenth is left plain. So many
// workers leave half of the cores to visitors. What waits is not held: an entry that leaves
// the store meanwhile is gone, and one that finds the queue full is asked for again by its
// next hit.
type compressor struct {
	edge  *Edge
	queue chan weak.Pointer[store.Entry]
}

// maxCompressing is how many entries may wait for their codings.
const maxCompressing = 1024

func (e *Edge) newCompressor() *compressor {
	c := &compressor{edge: e, queue: make(chan weak.Pointer[store.Entry], maxCompressing)}
	for range max(1, runtime.GOMAXPROCS(0)/2) {
		e.run(c.work)
	}
	return c
}

// want asks for an entry's codings, unless that was done.
func (c *compressor) want(entry *store.Entry) {
	if !entry.Compress || len(entry.Body) == 0 || !entry.Coding.CompareAndSwap(store.NotCoded, store.ToBeCoded) {
		return
	}
	select {
	case c.queue <- weak.Make(entry):
	default:
		entry.Coding.Store(store.NotCoded)
	}
}

func (c *compressor) work() {
	for {
		select {
		case waiting := <-c.queue:
			if entry := waiting.Value(); entry != nil {
				c.code(entry)
			}
		case <-c.edge.life.Done():
			return
		}
	}
}

// code makes an entry's codings. They are for the one that renewed it meanwhile with the same
// body, if there is one. Where one is being renewed at the same moment, nobody may have got
// them: then they are asked for again.
func (c *compressor) code(entry *store.Entry) {
	done := store.Coded
	for _, coding := range httprules.Codings {
		if c.edge.life.Err() != nil || entry.Latest().Judge(c.edge.Marks) == tags.Dropped {
			return // a purge was faster
		}
		if entry.Latest().Encoded(coding).Coding == coding {
			continue
		}
		if coded := encode(coding, entry.Body); len(coded) < len(entry.Body)*9/10 && !c.give(entry, coding, coded) {
			done = store.NotCoded
		}
	}
	entry.Coding.Store(done)
	entry.Latest().Coding.Store(done)
}

// give adds a form to the latest of those that have the body; false if that left meanwhile, and
// no other has come yet.
func (c *compressor) give(entry *store.Entry, coding httprules.Coding, body []byte) bool {
	for latest := entry.Latest(); ; latest = entry.Latest() {
		added := c.edge.Store.AddEncoded(latest, coding, body)
		if entry.Latest() == latest {
			return added || !latest.Gone() // else there is no room for it
		}
	}
}

// takeOver gives an entry the codings of the one that it renews, whose body it has.
func (c *compressor) takeOver(entry, before *store.Entry) {
	if !entry.Compress {
		return
	}
	before.Renewed(entry) // first: what is made from now on comes to this one
	for _, coding := range httprules.Codings {
		if form := before.Encoded(coding); form.Coding == coding && entry.Encoded(coding).Coding != coding {
			c.edge.Store.AddEncoded(entry, coding, form.Body)
		}
	}
	if before.Coding.Load() == store.Coded {
		entry.Coding.Store(store.Coded)
	}
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

// flushing is a writer that can send what it has.
type flushing interface {
	encoder
	Flush() error
}

// encode writes a body in a coding.
func encode(c httprules.Coding, body []byte) []byte {
	if c == httprules.Zstd {
		return zstdEncoder().EncodeAll(body, nil)
	}
	pool := &gzipWriters
	if c == httprules.Brotli {
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
