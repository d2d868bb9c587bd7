package fragment

import (
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gerastic/internal/core/decide"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
)

// warmth remembers which fragments of names that are kept warm were asked for, so that applications can be
// told to fill them again. It is bounded: what was asked for long ago gives way.
type warmth struct {
	names atomic.Pointer[map[string]time.Duration] // NAME or NAMESPACE/NAME: kept warm for so long after it was asked for

	mu    sync.Mutex // guards what follows
	items map[ID]*warmItem
	grew  chan struct{} // closed when more may be wanted
}

type warmItem struct {
	asked time.Time
	due   time.Time // when it is looked at next
}

const (
	mostWarm = 10_000
	// offered is for how long nobody else is told of a fragment that somebody was told to fill.
	offered = 30 * time.Second
	// looked is after how long a fragment is looked at again, whatever was known of it.
	looked = time.Minute
	// mostAhead is how long before its end a fragment is wanted, at most.
	mostAhead = 30 * time.Second
)

// KeepWarm says which names are kept warm, and for how long after somebody asked.
func (f *Fragments) KeepWarm(names map[string]time.Duration) {
	if len(names) == 0 {
		f.warm.names.Store(nil)
		f.warm.forgetAll()
		return
	}
	f.warm.names.Store(&names)
	f.Purged()
}

func (w *warmth) forgetAll() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.items = nil
}

// within is for how long a name is kept warm; 0: it is not.
func (w *warmth) within(id ID) time.Duration {
	names := w.names.Load()
	if names == nil {
		return 0
	}
	if within := (*names)[id.Route()]; within > 0 {
		return within
	}
	return (*names)[id.name()]
}

// Asked notes that somebody wanted to use a fragment.
func (f *Fragments) Asked(id ID, now time.Time) {
	w := &f.warm
	if w.names.Load() == nil || w.within(id) == 0 {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if known := w.items[id]; known != nil {
		known.asked = now
		return
	}
	if w.items == nil {
		w.items = map[ID]*warmItem{}
	}
	if len(w.items) >= mostWarm {
		w.dropOld()
	}
	// Whoever asks fills it, if it is not there.
	w.items[ID{strings.Clone(id.Namespace), strings.Clone(id.Key)}] = &warmItem{asked: now, due: now.Add(time.Second)}
}

// dropOld drops the one of a few that was asked for longest ago. Under mu.
func (w *warmth) dropOld() {
	const few = 16
	seen := 0
	var oldest ID
	for id, item := range w.items {
		if seen == 0 || item.asked.Before(w.items[oldest].asked) {
			oldest = id
		}
		if seen++; seen == few {
			break
		}
	}
	delete(w.items, oldest)
}

// Purged says that something stored may have been purged.
func (f *Fragments) Purged() {
	w := &f.warm
	if w.names.Load() == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, item := range w.items {
		item.due = time.Time{}
	}
	if w.grew != nil {
		close(w.grew)
		w.grew = nil
	}
}

// filled says that a fragment was stored: when it is wanted next is looked at anew.
func (w *warmth) filled(id ID) {
	if w.names.Load() == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if item := w.items[id]; item != nil {
		item.due = time.Time{}
	}
}

// Growth returns what is closed when more may be wanted.
func (f *Fragments) Growth() <-chan struct{} {
	f.warm.mu.Lock()
	defer f.warm.mu.Unlock()
	if f.warm.grew == nil {
		f.warm.grew = make(chan struct{})
	}
	return f.warm.grew
}

// Wanted are fragments of a namespace that should be filled, those that were asked for last first. Each is
// told of to one who asks, and again after a while if it is not filled.
func (f *Fragments) Wanted(namespace string, limit int, now time.Time) []ID {
	w := &f.warm
	w.mu.Lock()
	defer w.mu.Unlock()
	var all []ID
	for id, item := range w.items {
		switch within := w.within(id); {
		case now.Sub(item.asked) > within:
			delete(w.items, id)
		case id.Namespace == namespace && !now.Before(item.due):
			if next, wanted := f.wants(id, now); !wanted {
				item.due = next
				continue
			}
			all = append(all, id)
		}
	}
	slices.SortFunc(all, func(a, b ID) int {
		if c := w.items[b].asked.Compare(w.items[a].asked); c != 0 {
			return c
		}
		return strings.Compare(a.Key, b.Key)
	})
	all = all[:min(len(all), limit)]
	for _, id := range all {
		w.items[id].due = now.Add(offered)
	}
	return all
}

// wants reports whether a fragment is to be filled now; else next is when to look again.
func (f *Fragments) wants(id ID, now time.Time) (next time.Time, wanted bool) {
	canonical := key.AppendFragment(nil, id.Namespace, id.Key)
	in := decide.Input{Route: &route, Enabled: true, Now: now, Visitor: httprules.Directives{MaxAge: httprules.Unset, MinFresh: httprules.Unset, MaxStale: httprules.Unset}}
	in.Entry = f.Store.Find(canonical, nil).Entry
	if !f.On(id.routeOf(in.Entry)) {
		return now.Add(looked), false
	}
	if in.Entry == nil { // what had to make room for others would push them out
		why, known := f.Store.Missing(canonical)
		return now.Add(looked), !known || decide.Removed(why) != meter.Evicted
	}
	in.Verdict = in.Entry.Judge(f.Barrier.Marks)
	if decide.Of(&in).Action != decide.Serve {
		return now, true
	}
	left, life := in.Entry.Freshness.Remaining(now), in.Entry.Freshness.Lifetime
	ahead := min(mostAhead, life/2, max(life/10, 2*in.Entry.Cost()+time.Second))
	return now.Add(min(looked, left-ahead)), left <= ahead
}
