package coding

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
	"gerastic/internal/tasks"
)

// Coder gives stored identity answers their other codings, behind visitors; until they
// are there, visitors get them plain. What does not gain a tenth is left plain. So many
// workers leave half of the cores to visitors. What waits is not held: an entry that leaves
// the store meanwhile is gone, and one that finds the queue full is asked for again by its
// next hit.
type Coder struct {
	store *store.Memory
	marks *tags.Marks
	tasks *tasks.Group
	queue chan weak.Pointer[store.Entry]

	thorough, quick map[httprules.Coding]*sync.Pool // of writers
}

// maxWaiting is how many entries may wait for their codings.
const maxWaiting = 1024

// New returns a coder whose workers end with the group of tasks.
func New(stored *store.Memory, marks *tags.Marks, workers *tasks.Group) *Coder {
	c := &Coder{store: stored, marks: marks, tasks: workers, queue: make(chan weak.Pointer[store.Entry], maxWaiting), thorough: thorough(), quick: quick()}
	for range max(1, runtime.GOMAXPROCS(0)/2) {
		workers.Go(c.work)
	}
	return c
}

// Want asks for an entry's codings, unless that was done.
func (c *Coder) Want(entry *store.Entry) {
	if !entry.Compress || len(entry.Body) == 0 || !entry.Coding.CompareAndSwap(store.NotCoded, store.ToBeCoded) {
		return
	}
	select {
	case c.queue <- weak.Make(entry):
	default:
		entry.Coding.Store(store.NotCoded)
	}
}

func (c *Coder) work() {
	for {
		select {
		case waiting := <-c.queue:
			if entry := waiting.Value(); entry != nil {
				c.code(entry)
			}
		case <-c.tasks.Life().Done():
			return
		}
	}
}

// code makes an entry's codings. They are for the one that renewed it meanwhile with the same
// body, if there is one. Where one is being renewed at the same moment, nobody may have got
// them: then they are asked for again.
func (c *Coder) code(entry *store.Entry) {
	done := store.Coded
	for _, coding := range httprules.Codings {
		if c.tasks.Life().Err() != nil || entry.Latest().Judge(c.marks) == tags.Dropped {
			return // a purge was faster
		}
		if entry.Latest().Encoded(coding).Coding == coding {
			continue
		}
		if coded := c.encode(coding, entry.Body); len(coded) < len(entry.Body)*9/10 && !c.give(entry, coding, coded) {
			done = store.NotCoded
		}
	}
	entry.Coding.Store(done)
	entry.Latest().Coding.Store(done)
}

// give adds a form to the latest of those that have the body; false if that left meanwhile, and
// no other has come yet.
func (c *Coder) give(entry *store.Entry, coding httprules.Coding, body []byte) bool {
	for latest := entry.Latest(); ; latest = entry.Latest() {
		added := c.store.AddEncoded(latest, coding, body)
		if entry.Latest() == latest {
			return added || !latest.IsRemoved() // else there is no room for it
		}
	}
}

// TakeOver gives an entry the codings of the one that it renews, whose body it has.
func (c *Coder) TakeOver(entry, before *store.Entry) {
	if !entry.Compress {
		return
	}
	before.Renewed(entry) // first: what is made from now on comes to this one
	for _, coding := range httprules.Codings {
		if form := before.Encoded(coding); form.Coding == coding && entry.Encoded(coding).Coding != coding {
			c.store.AddEncoded(entry, coding, form.Body)
		}
	}
	if before.Coding.Load() == store.Coded {
		entry.Coding.Store(store.Coded)
	}
}

// encoder is what the writers of the libraries can do; one takes a MiB, so they are used again.
type encoder interface {
	io.WriteCloser
	Reset(io.Writer)
}

// thorough returns the writers for what is stored: they take their time.
func thorough() map[httprules.Coding]*sync.Pool {
	return map[httprules.Coding]*sync.Pool{
		httprules.Brotli: {New: func() any { return brotli.NewWriterLevel(nil, 5) }},
		httprules.Gzip:   {New: func() any { return must(gzip.NewWriterLevel(nil, 6)) }},
		httprules.Zstd:   {New: func() any { return must(zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))) }},
	}
}

// must is for options that are written here, and so are right.
func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// encode writes a body in a coding.
func (c *Coder) encode(coding httprules.Coding, body []byte) []byte {
	w := c.thorough[coding].Get().(encoder)
	defer c.thorough[coding].Put(w)
	var out bytes.Buffer
	w.Reset(&out)
	_, _ = w.Write(body) // a buffer takes everything
	_ = w.Close()
	return bytes.Clone(out.Bytes())
}
