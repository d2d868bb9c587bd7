package edge

import (
	"sync"
	"sync/atomic"
	"time"

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

// watchers get events of requests. They never slow a request: it hands its event over once, to
// a goroutine that shows it to each of them, and no more of them in a second than is cheap.
// One who does not keep up misses events, and is told how many.
type watchers struct {
	count  atomic.Int32
	keys   atomic.Int32 // of them, who ask for keys
	second atomic.Int64 // that handed counts
	handed atomic.Int64
	missed atomic.Int64 // that were not handed over
	events chan Event

	mu  sync.Mutex
	all map[*Watch]struct{}
	end chan struct{} // ends the goroutine
}

// Watch receives events until it is closed.
type Watch struct {
	Events chan Event
	Missed atomic.Int64
	wants  func(*Event) bool
	keys   bool
	edge   *Edge
	second int64 // that given counts; only the goroutine that shows events uses it
	given  int
}

const (
	// MaxWatches is how many may watch at a time.
	MaxWatches = 32
	// watchRoom is how many events wait for a watcher who is slow.
	watchRoom = 512
	// handedRate is how many events a second are handed over, and shownRate how many of those that
	// they want each watcher is shown.
	handedRate = 5000
	shownRate  = 200
)

// Watches is how many watch.
func (e *Edge) Watches() int { return int(e.watching.count.Load()) }

// Wanted is what somebody wants to see.
type Wanted struct {
	Wants func(*Event) bool
	Keys  bool // with the keys of requests
}

// Watch begins to watch the events that somebody wants. It returns nil when too many watch, or
// when the edge has ended.
func (e *Edge) Watch(what Wanted) *Watch {
	w := &Watch{Events: make(chan Event, watchRoom), keys: what.Keys, wants: what.Wants, edge: e}
	ws := &e.watching
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if len(ws.all) >= MaxWatches {
		return nil
	}
	if len(ws.all) == 0 {
		ws.all, ws.end = map[*Watch]struct{}{}, make(chan struct{})
		if ws.events == nil {
			ws.events = make(chan Event, watchRoom)
		}
		end := ws.end
		if !e.tasks.Go(func() { ws.show(end, e.tasks.Life().Done()) }) {
			return nil
		}
	}
	ws.all[w] = struct{}{}
	ws.count.Add(1)
	if what.Keys {
		ws.keys.Add(1)
	}
	return w
}

// Close ends watching.
func (w *Watch) Close() {
	ws := &w.edge.watching
	ws.mu.Lock()
	defer ws.mu.Unlock()
	delete(ws.all, w)
	ws.count.Add(-1)
	if w.keys {
		ws.keys.Add(-1)
	}
	if len(ws.all) == 0 {
		close(ws.end)
	}
}

// show shows events to those who want them.
func (ws *watchers) show(end, ended <-chan struct{}) {
	for {
		select {
		case <-end:
			return
		case <-ended:
			return
		case event := <-ws.events:
			second, missed := time.Now().Unix(), ws.missed.Swap(0)
			ws.mu.Lock()
			for w := range ws.all {
				w.Missed.Add(missed)
				w.show(event, second)
			}
			ws.mu.Unlock()
		}
	}
}

func (w *Watch) show(event Event, second int64) {
	if !w.wants(&event) {
		return
	}
	if w.second != second {
		w.second, w.given = second, 0
	}
	if !w.keys {
		event.Key = ""
	}
	if w.given++; w.given <= shownRate {
		select {
		case w.Events <- event:
			return
		default:
		}
	}
	w.Missed.Add(1)
}

// mayHand reports whether one more event may be handed over in this second.
func (ws *watchers) mayHand(now time.Time) bool {
	if second := now.Unix(); ws.second.Swap(second) != second {
		ws.handed.Store(0)
	}
	return ws.handed.Add(1) <= handedRate
}

// tell shows the request to those who watch, if there are any.
func (x *exchange) tell() {
	ws := &x.edge.watching
	if ws.count.Load() == 0 {
		return
	}
	if !ws.mayHand(time.Now()) {
		ws.missed.Add(1)
		return
	}
	event := Event{Sample: x.sample, Method: x.req.Method, URL: x.req.Scheme + "://" + x.req.Host + x.req.Path}
	if x.req.HasQuery {
		event.URL += "?" + x.req.Query
	}
	if ws.keys.Load() > 0 && x.in.Route != nil {
		event.Key = key.Text(key.Parts(string(x.key)))
	}
	select {
	case ws.events <- event:
	default:
		ws.missed.Add(1)
	}
}
