package coding

import (
	"bytes"
	"io"
	"runtime"
	"sync"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/tasks"
)

// Coder makes the coded forms of stored identity answers, one at a time, behind the visitors who
// would like them; until one is there, they get another. What does not gain a tenth is left plain.
// So many workers leave half of the cores to visitors. What waits is not held: an entry that
// leaves the store meanwhile is gone, and one that finds the queue full is asked for again by its
// next hit.
type Coder struct {
	store *store.Memory
	marks *tags.Marks
	tasks *tasks.Group
	queue chan job

	thorough, quick map[httprules.Coding]*sync.Pool // of writers
}

// job is a form that is to be made.
type job struct {
	entry  store.Ref
	coding httprules.Coding
}

// maxWaiting is how many forms may wait.
const maxWaiting = 1024

// New returns a coder whose workers end with the group of tasks.
func New(stored *store.Memory, marks *tags.Marks, workers *tasks.Group) *Coder {
	c := &Coder{store: stored, marks: marks, tasks: workers, queue: make(chan job, maxWaiting), thorough: thorough(), quick: quick()}
	for range max(1, runtime.GOMAXPROCS(0)/2) {
		workers.Go(c.work)
	}
	return c
}

// Want asks for a coded form of a stored answer, unless it is being made, or would not gain.
func (c *Coder) Want(entry *store.Entry, coding httprules.Coding) {
	if !entry.Compress || len(entry.Body) == 0 || !entry.Wants(coding) {
		return
	}
	select {
	case c.queue <- job{entry.Ref(), coding}:
	default:
		entry.NotEncoded(coding)
	}
}

func (c *Coder) work() {
	for {
		select {
		case waiting := <-c.queue:
			if entry := c.store.Get(waiting.entry); entry != nil {
				c.code(entry, waiting.coding)
			}
		case <-c.tasks.Life().Done():
			return
		}
	}
}

// code makes a form, unless a purge was faster.
func (c *Coder) code(entry *store.Entry, coding httprules.Coding) {
	if entry.Judge(c.marks) == tags.Dropped || entry.Encoded(coding).Coding == coding {
		entry.NotEncoded(coding)
		return
	}
	began := time.Now()
	if coded := c.encode(coding, entry.Body); len(coded) < len(entry.Body)*9/10 {
		c.store.AddEncoded(entry, coding, coded, time.Since(began))
	} else {
		entry.Useless(coding)
	}
}

// encoder is what the writers of the libraries can do; one takes a MiB, so they are used again.
type encoder interface {
	io.WriteCloser
	Reset(io.Writer)
}

// thorough returns the writers for what is stored: they take their time. Their windows are those of pages:
// a writer keeps its window, which would be 16 MiB after one long body.
func thorough() map[httprules.Coding]*sync.Pool {
	return map[httprules.Coding]*sync.Pool{
		httprules.Brotli: {New: func() any { return brotli.NewWriterOptions(nil, brotli.WriterOptions{Quality: 5, LGWin: 18}) }},
		httprules.Gzip:   {New: func() any { return must(gzip.NewWriterLevel(nil, 6)) }},
		httprules.Zstd: {New: func() any {
			return must(zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(256<<10), zstd.WithLowerEncoderMem(true)))
		}},
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
