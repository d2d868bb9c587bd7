package detect

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"gerastic/internal/core/policy"
	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// Parts are what a Detector works with.
type Parts struct {
	Node    string
	Log     *slog.Logger
	Records func() (records.Records, error)
	Purge   func(ctx context.Context, p tags.Purge, actor, reason string) (tags.Stamp, []records.Applied, error)
}

// Detector follows the sources of the policy in force.
type Detector struct {
	Parts
	applying sync.Mutex // one policy at a time
	mu       sync.Mutex
	rules    policy.Changes
	watchers map[string]*watcher
	pools    pools
	life     context.Context
	end      context.CancelFunc
	tasks    sync.WaitGroup
}

// watcher follows one source on this node, as long as no other node does.
type watcher struct {
	*Detector
	source *policy.Source
	stop   context.CancelFunc
	done   chan struct{}
	due    chan struct{} // table: look now, something was missed elsewhere
	asked  bool          // so it was said
	// complaint is what a source that follows could not do at its last change; the
	// next that goes well takes it back.
	complaint string
}

// New returns a detector that follows nothing yet.
func New(parts Parts) *Detector {
	d := &Detector{Parts: parts, watchers: map[string]*watcher{}}
	d.life, d.end = context.WithCancel(context.Background())
	return d
}

// Apply follows the sources of a policy. Those that stay the same are not disturbed.
func (d *Detector) Apply(c policy.Changes) {
	d.applying.Lock()
	defer d.applying.Unlock()
	d.mu.Lock()
	old := d.rules
	d.rules = c
	var ending []*watcher
	for name, w := range d.watchers {
		if s := c.Source(name); s == nil || !s.Same(w.source) {
			w.stop()
			ending = append(ending, w)
			delete(d.watchers, name)
		}
	}
	d.mu.Unlock()
	for _, w := range ending { // they may need the lock to end
		<-w.done
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.life.Err() != nil {
		return
	}
	d.tasks.Go(func() { d.pools.keep(named(c)) })
	for _, s := range old.Sources {
		if c.Source(s.Name) == nil {
			d.tasks.Go(func() { d.abandon(s) })
		} else {
			d.tasks.Go(func() { d.abandonSlot(s) })
		}
	}
	for _, s := range c.Sources {
		if d.watchers[s.Name] != nil || s.Kind == policy.Webhook {
			continue
		}
		ctx, stop := context.WithCancel(d.life)
		w := &watcher{Detector: d, source: s, stop: stop, done: make(chan struct{}), due: make(chan struct{}, 1)}
		d.watchers[s.Name] = w
		d.tasks.Go(func() {
			defer close(w.done)
			w.follow(ctx)
		})
	}
}

// named are the databases that a policy reads.
func named(c policy.Changes) map[string]bool {
	all := map[string]bool{}
	for _, s := range c.Sources {
		all[s.Database] = true
	}
	for _, rule := range c.Rules {
		if rule.Also != nil {
			all[rule.Also.Database] = true
		}
	}
	return all
}

// Rules are those in force.
func (d *Detector) Rules() policy.Changes {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.rules
}

// Stop ends all following.
func (d *Detector) Stop() {
	d.mu.Lock()
	d.end()
	d.mu.Unlock()
	d.tasks.Wait()
	d.pools.end()
}

// Pauses between tries: they grow from the first to the second.
const (
	firstPause = time.Second
	lastPause  = 5 * time.Minute
	// standby is how often a node asks whether a source needs it.
	standby = 2 * time.Second
)

// pauseAfter is how long to wait after so many failures in a row.
func pauseAfter(failures int) time.Duration {
	return min(lastPause, firstPause<<min(failures-1, 20))
}

// follow reads the source until ctx ends.
func (w *watcher) follow(ctx context.Context) {
	failures := 0
	for ctx.Err() == nil {
		wait := standby
		err := w.once(ctx, &wait)
		if _, connected := w.Records(); connected != nil { // the node says so itself
			err, wait = nil, 200*time.Millisecond
		}
		switch {
		case ctx.Err() != nil:
		case err == nil:
			failures = 0
		default:
			failures++
			wait = pauseAfter(failures)
			w.Log.Warn("a source of changes failed; it is tried again", "source", w.source.Name, "in", wait, "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		case <-w.due:
			w.asked = true
		}
	}
}

// once reads the source, if no other node does: a table once, the others until they
// fail. wait is how long to pause after success.
func (w *watcher) once(ctx context.Context, wait *time.Duration) error {
	rec, err := w.Records()
	if err != nil {
		return err
	}
	if w.source.Kind == policy.Table {
		state, err := rec.Source(ctx, w.source.Name, string(w.source.Kind))
		if err != nil {
			return err
		}
		if left := w.untilDue(&state); left > 0 {
			*wait = min(left, 5*time.Second) // another node may read it meanwhile
			return nil
		}
		if _, err = w.readTable(ctx, "schedule"); errors.Is(err, ErrRunning) {
			return nil
		}
		return err
	}
	lead, err := rec.TakeLead(ctx, w.source.Name)
	if err != nil || lead == nil {
		return err
	}
	defer lead.Close()
	state, err := rec.Source(ctx, w.source.Name, string(w.source.Kind))
	if err != nil {
		return err
	}
	state.Node = w.Node
	if w.source.Kind == policy.Notify {
		err = w.listen(ctx, rec, lead, &state)
	} else {
		err = w.replicate(ctx, rec, lead, &state)
	}
	if ctx.Err() == nil && err != nil {
		state.Error = err.Error()
		state.Failures++
		if saving := rec.SaveSource(ctx, state); saving != nil {
			w.Log.Warn("the state of a source could not be kept", "source", w.source.Name, "error", saving)
		}
	}
	return err
}

// untilDue is how long the next run has time.
func (w *watcher) untilDue(state *records.Source) time.Duration {
	if w.asked {
		w.asked = false
		return 0
	}
	if state.Failures > 0 || state.Checked == nil {
		return 0 // the pause after failures is kept by follow
	}
	return time.Until(state.Checked.Add(w.source.Every))
}

// ErrRunning says that the source is being read already.
var ErrRunning = errors.New("the source is being read already, here or by another node")

// Run reads a table now.
func (d *Detector) Run(ctx context.Context, source string) (records.Run, error) {
	d.mu.Lock()
	w := d.watchers[source]
	d.mu.Unlock()
	switch s := d.Rules(); {
	case w == nil && s.Source(source) == nil:
		return records.Run{}, &Mistake{fmt.Sprintf("no source is named %q; gerastic changes status lists them", source)}
	case w == nil || w.source.Kind != policy.Table:
		return records.Run{}, &Mistake{fmt.Sprintf("source %s is not read by runs: it follows changes as they come", source)}
	}
	return w.readTable(ctx, "asked")
}

// Mistake is an error of the caller; its text is for them.
type Mistake struct{ Text string }

func (m *Mistake) Error() string { return m.Text }

// lookAgain makes the tables of a database due: what came while nobody listened to it
// is found there.
func (d *Detector) lookAgain(database string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, w := range d.watchers {
		if w.source.Kind == policy.Table && w.source.Database == database {
			select {
			case w.due <- struct{}{}:
			default:
			}
		}
	}
}

// leadOfAbandoned takes the lead of a source that nobody reads any more; nil if the policy names it
// again, or another node goes on with it: that one cleans up when it has the policy, too.
func (d *Detector) leadOfAbandoned(ctx context.Context, s *policy.Source) (records.Records, records.Lead) {
	for {
		rec, err := d.Records()
		if err == nil {
			var lead records.Lead
			if lead, err = rec.TakeLead(ctx, s.Name); lead != nil {
				return rec, lead
			}
		}
		select {
		case <-ctx.Done():
			if err != nil && d.life.Err() == nil {
				d.notDropped(s, err)
			}
			return nil, nil
		case <-time.After(standby / 10):
		}
		if known := d.Rules(); known.Source(s.Name) != nil {
			return nil, nil
		}
	}
}

// notDropped says that what a source that is no more had made may still be there.
func (d *Detector) notDropped(s *policy.Source, err error) {
	if s.Kind == policy.Replication {
		d.Log.Error("the slot of a source that is no more could not be dropped; drop it by hand, or it holds back the database's log", "source", s.Name, "slot", s.Slot, "error", err)
	} else {
		d.Log.Warn("the state of a source that is no more could not be dropped", "source", s.Name, "error", err)
	}
}

// abandon cleans up after a source that the policy does not name any more: a slot that
// nobody reads would hold back the database's log for ever.
func (d *Detector) abandon(s *policy.Source) {
	ctx, cancel := context.WithTimeout(d.life, 30*time.Second)
	defer cancel()
	rec, lead := d.leadOfAbandoned(ctx, s)
	if lead == nil {
		return
	}
	defer lead.Close()
	if !d.abandonSlot(s) {
		return
	}
	if err := rec.ForgetSource(ctx, s.Name); err != nil {
		d.Log.Warn("the state of a source that is no more could not be dropped", "source", s.Name, "error", err)
	}
}

// abandonSlot drops the slot and the publication that a source had, unless some source of the policy
// goes on with them; it reports whether that is done.
func (d *Detector) abandonSlot(s *policy.Source) bool {
	if s.Kind != policy.Replication {
		return true
	}
	slot, publication := true, true // nobody goes on with it
	for _, now := range d.Rules().Sources {
		if now.Kind == policy.Replication && now.Database == s.Database {
			slot, publication = slot && now.Slot != s.Slot, publication && now.Publication != s.Publication
		}
	}
	ctx, cancel := context.WithTimeout(d.life, 30*time.Second)
	defer cancel()
	var err error
	if slot {
		err = dropSlot(ctx, s)
	}
	if publication && err == nil {
		err = dropPublication(ctx, s)
	}
	if err != nil {
		d.notDropped(s, err)
	}
	return err == nil
}
