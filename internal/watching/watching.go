package watching

import (
	"sync"
	"sync/atomic"
	"time"

	"gerastic/internal/tasks"
)

// Watchers get events of one kind. Whatever happens hands its event over once, to a goroutine that
// shows it to each of them, and no more events in a second than is cheap. One who does not keep up
// misses events, and is told how many. Make them with New.
type Watchers[E any] struct {
	tasks  *tasks.Group
	count  atomic.Int32
	exact  atomic.Int32 // of them, who want events in detail
	second atomic.Int64 // that handed counts
	handed atomic.Int64
	missed atomic.Int64 // that were not handed over
	events chan E

	mu  sync.Mutex
	all map[*Watch[E]]struct{}
	end chan struct{} // ends the goroutine
}

// New returns none, whose goroutine is one of a group's.
func New[E any](group *tasks.Group) *Watchers[E] {
	return &Watchers[E]{tasks: group, events: make(chan E, room), all: map[*Watch[E]]struct{}{}}
}

// Watch receives events until it is closed.
type Watch[E any] struct {
	Events chan E
	Missed atomic.Int64
	wanted Wanted[E]
	of     *Watchers[E]
	second int64 // that given counts; only the goroutine that shows events uses it
	given  int
}

const (
	// MaxWatches is how many may watch at a time.
	MaxWatches = 32
	// room is how many events wait for a watcher who is slow.
	room = 512
	// handedRate is how many events a second are handed over, and shownRate how many of those that
	// they want each watcher is shown.
	handedRate = 5000
	shownRate  = 200
)

// Count is how many watch.
func (ws *Watchers[E]) Count() int { return int(ws.count.Load()) }

// Exact reports whether somebody wants events in detail, which takes longer to tell.
func (ws *Watchers[E]) Exact() bool { return ws.exact.Load() > 0 }

// Wanted is what somebody wants to see.
type Wanted[E any] struct {
	Wants func(*E) bool
	Exact bool // in detail
}

// Watch begins to watch the events that somebody wants. It returns nil when too many watch, or
// when the group has ended.
func (ws *Watchers[E]) Watch(wanted Wanted[E]) *Watch[E] {
	w := &Watch[E]{Events: make(chan E, room), wanted: wanted, of: ws}
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if len(ws.all) >= MaxWatches {
		return nil
	}
	if len(ws.all) == 0 {
		end := make(chan struct{})
		if !ws.tasks.Go(func() { ws.show(end) }) {
			return nil
		}
		ws.end = end
	}
	ws.all[w] = struct{}{}
	ws.count.Add(1)
	if wanted.Exact {
		ws.exact.Add(1)
	}
	return w
}

// Close ends watching.
func (w *Watch[E]) Close() {
	ws := w.of
	ws.mu.Lock()
	defer ws.mu.Unlock()
	delete(ws.all, w)
	ws.count.Add(-1)
	if w.wanted.Exact {
		ws.exact.Add(-1)
	}
	if len(ws.all) == 0 {
		close(ws.end)
	}
}

// show shows events to those who want them.
func (ws *Watchers[E]) show(end <-chan struct{}) {
	for {
		select {
		case <-end:
			return
		case <-ws.tasks.Life().Done():
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

func (w *Watch[E]) show(event E, second int64) {
	if !w.wanted.Wants(&event) {
		return
	}
	if w.second != second {
		w.second, w.given = second, 0
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
func (ws *Watchers[E]) mayHand(now time.Time) bool {
	if second := now.Unix(); ws.second.Swap(second) != second {
		ws.handed.Store(0)
	}
	return ws.handed.Add(1) <= handedRate
}

// Tell shows an event, which is made only if somebody may see it, to those who watch.
func (ws *Watchers[E]) Tell(event func() E) {
	if ws.count.Load() == 0 {
		return
	}
	if !ws.mayHand(time.Now()) {
		ws.missed.Add(1)
		return
	}
	select {
	case ws.events <- event():
	default:
		ws.missed.Add(1)
	}
}
