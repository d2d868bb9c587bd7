package edge

import (
	"sync"
	"sync/atomic"

	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
)

// Event is one answered request, as those who watch see it.
type Event struct {
	Sample meter.Sample
	Method string
	URL    string
	Key    string // only if somebody asks for keys
}

// watchers get an event for each request. They never slow a request: one who does not
// keep up misses events, and is told how many.
type watchers struct {
	count atomic.Int32
	mu    sync.Mutex
	all   map[*Watch]struct{}
}

// Watch receives events until it is closed.
type Watch struct {
	Events chan Event
	Missed atomic.Int64
	keys   bool
	edge   *Edge
}

// watchRoom is how many events wait for a watcher who is slow.
const watchRoom = 512

// Watch begins to watch; keys asks for the keys of requests, too.
func (e *Edge) Watch(keys bool) *Watch {
	w := &Watch{Events: make(chan Event, watchRoom), keys: keys, edge: e}
	e.watching.mu.Lock()
	defer e.watching.mu.Unlock()
	if e.watching.all == nil {
		e.watching.all = map[*Watch]struct{}{}
	}
	e.watching.all[w] = struct{}{}
	e.watching.count.Add(1)
	return w
}

// Close ends watching.
func (w *Watch) Close() {
	w.edge.watching.mu.Lock()
	defer w.edge.watching.mu.Unlock()
	delete(w.edge.watching.all, w)
	w.edge.watching.count.Add(-1)
}

// tell shows the request to those who watch, if there are any.
func (x *exchange) tell() {
	e := x.edge
	if e.watching.count.Load() == 0 {
		return
	}
	event := Event{Sample: x.sample, Method: x.req.Method, URL: x.req.Scheme + "://" + x.req.Host + x.req.Path}
	if x.req.HasQuery {
		event.URL += "?" + x.req.Query
	}
	e.watching.mu.Lock()
	defer e.watching.mu.Unlock()
	for w := range e.watching.all {
		shown := event
		if w.keys && x.in.Plan != nil {
			shown.Key = key.Text(key.Parts(string(x.key)))
		}
		select {
		case w.Events <- shown:
		default:
			w.Missed.Add(1)
		}
	}
}
