package onward

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"gerastic/internal/core/policy"
	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// MostWaiting is how many purges wait for a target: of more, it is told to forget everything, once.
const MostWaiting = 10_000

const (
	// batch is how many purges are read at a time.
	batch = 100
	// standby is how often a node looks whether it should tell, and what came of it.
	standby = time.Second
	// firstPause and lastPause are between tries: they double.
	firstPause = 250 * time.Millisecond
	lastPause  = 30 * time.Second
	// forgotten is after how long a target is forgotten that the policy does not name any more.
	forgotten = 24 * time.Hour
	// lead is the right to tell; no source of changes has a space in its name.
	lead = "told onward"
)

// Parts are what a Teller works with.
type Parts struct {
	Log     *slog.Logger
	Records func() (records.Records, error)
}

// Teller tells the targets of the policy in force.
type Teller struct {
	Parts
	client *http.Client

	applying sync.Mutex // one policy at a time
	end      context.CancelFunc
	tasks    sync.WaitGroup

	mu      sync.Mutex // guards what follows
	targets []*policy.Onward
	states  []State
	stopped bool
	grew    chan struct{} // closed when the ledger grows
}

// State is how it goes with a target.
type State struct {
	records.Onward
	Target *policy.Onward
	Behind int64 // purges of the ledger that it has not been told
}

// Failing reports whether the last try failed.
func (s *State) Failing() bool { return s.Failures > 0 }

// New returns a teller that tells nobody yet.
func New(p Parts) *Teller {
	return &Teller{Parts: p, client: newClient(), end: func() {}, grew: make(chan struct{})}
}

// Begin notes that new targets need to be told of what is purged from now on. The leader does so, too, but
// later.
func (t *Teller) Begin(ctx context.Context, rec records.Records) error {
	if targets := t.inForce(); len(targets) > 0 {
		return rec.BeginOnward(ctx, names(targets))
	}
	return nil
}

func names(targets []*policy.Onward) (all []string) {
	for _, o := range targets {
		all = append(all, o.Name)
	}
	return all
}

// Apply tells the targets of a policy, instead of those before.
func (t *Teller) Apply(targets []*policy.Onward) {
	t.applying.Lock()
	defer t.applying.Unlock()
	t.end()
	t.tasks.Wait()
	t.mu.Lock()
	defer t.mu.Unlock()
	t.targets, t.states = targets, nil
	if t.stopped || len(targets) == 0 {
		return
	}
	ctx, end := context.WithCancel(context.Background())
	t.end = end
	t.tasks.Go(func() { t.run(ctx, targets) })
}

// Stop ends all telling.
func (t *Teller) Stop() {
	t.mu.Lock()
	t.stopped = true
	t.mu.Unlock()
	t.Apply(nil)
	t.client.CloseIdleConnections()
}

// Wake says that the ledger has grown.
func (t *Teller) Wake() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.targets) > 0 {
		close(t.grew)
		t.grew = make(chan struct{})
	}
}

// pause waits, until the ledger grows if that is asked for.
func (t *Teller) pause(ctx context.Context, d time.Duration, grew <-chan struct{}) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	case <-grew:
	}
}

func (t *Teller) growth() <-chan struct{} {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.grew
}

// run takes the lead whenever nobody has it.
func (t *Teller) run(ctx context.Context, targets []*policy.Onward) {
	for ctx.Err() == nil {
		if err := t.once(ctx, targets); err != nil && ctx.Err() == nil && !errors.Is(err, errNoRecords) {
			t.Log.Warn("purges are not told onward; it is tried again", "error", err)
		}
		t.pause(ctx, standby, nil)
	}
}

// errNoRecords says that there is no database now, which the node says itself.
var errNoRecords = errors.New("no records")

// once tells the targets for as long as this node has the lead, or looks what another one does.
func (t *Teller) once(ctx context.Context, targets []*policy.Onward) error {
	rec, err := t.Records()
	if err != nil {
		return errNoRecords
	}
	if err := rec.BeginOnward(ctx, names(targets)); err != nil {
		return err
	}
	right, err := rec.TakeLead(ctx, lead)
	if err != nil {
		return err
	}
	if right == nil {
		return t.look(ctx, rec)
	}
	defer right.Close()
	if err := rec.ForgetOnward(ctx, names(targets), time.Now().Add(-forgotten)); err != nil {
		return err
	}
	leading, end := context.WithCancel(ctx)
	var all sync.WaitGroup
	defer all.Wait()
	defer end()
	for _, o := range targets {
		all.Go(func() { t.tell(leading, rec, o) })
	}
	for {
		if err := t.look(ctx, rec); err != nil {
			return err
		}
		t.pause(ctx, standby, nil)
		if ctx.Err() != nil || !right.Held(ctx) {
			return nil
		}
	}
}

// look takes over how it goes with each target.
func (t *Teller) look(ctx context.Context, rec records.Records) error {
	all, newest, err := rec.Onward(ctx)
	if err != nil {
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.states = t.states[:0:0]
	for _, o := range t.targets {
		known, there := all[o.Name]
		if !there {
			known = records.Onward{Name: o.Name, At: newest}
		}
		t.states = append(t.states, State{Onward: known, Target: o, Behind: max(0, int64(newest.Sequence)-int64(known.At.Sequence))})
	}
	return nil
}

// States tells how it goes with each target, in the policy's order.
func (t *Teller) States(ctx context.Context) ([]State, error) {
	rec, err := t.Records()
	if err != nil {
		return nil, err
	}
	if err := t.look(ctx, rec); err != nil {
		return nil, err
	}
	return t.Seen(), nil
}

// Seen is how it went with each target a moment ago.
func (t *Teller) Seen() []State {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.Clone(t.states)
}

// Trouble says in words which targets are not told, as far as was seen lately; "" if all are.
func (t *Teller) Trouble() string {
	var all []string
	for _, s := range t.Seen() {
		if s.Failing() {
			all = append(all, fmt.Sprintf("%s (%s; %d wait)", s.Name, s.Error, s.Behind))
		}
	}
	if len(all) == 0 {
		return ""
	}
	return "purges cannot be told onward to " + strings.Join(all, ", ")
}

// ErrNoTarget says that the policy names no target so.
var ErrNoTarget = errors.New("the policy in force has no such onward target; gerastic onward lists them")

// Skip gives up telling a target what it was not told until now. It returns how many purges those are.
func (t *Teller) Skip(ctx context.Context, name string) (skipped int64, err error) {
	rec, err := t.Records()
	if err != nil {
		return 0, err
	}
	for range 10 { // another purge may be told right now
		all, newest, err := rec.Onward(ctx)
		if err != nil {
			return 0, err
		}
		known, there := all[name]
		if !there || !slices.Contains(names(t.inForce()), name) {
			return 0, ErrNoTarget
		}
		from := known.At
		known.At, known.Error, known.Failures = newest, "", 0
		if err = rec.SaveOnward(ctx, from, known); !errors.Is(err, records.ErrNotFound) {
			return max(0, int64(newest.Sequence)-int64(from.Sequence)), err
		}
	}
	return 0, errors.New("it is told of purges faster than they can be skipped; try again")
}

func (t *Teller) inForce() []*policy.Onward {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.targets
}

// tell tells a target whatever comes, until ctx ends.
func (t *Teller) tell(ctx context.Context, rec records.Records, o *policy.Onward) {
	for ctx.Err() == nil {
		grew := t.growth()
		state, more, err := t.next(ctx, rec, o)
		switch {
		case ctx.Err() != nil:
		case err != nil:
			t.Log.Warn("purges are not told onward; it is tried again", "target", o.Name, "error", err)
			t.pause(ctx, pauseAfter(max(1, state.Failures)), nil)
		case !more:
			t.pause(ctx, standby, grew)
		}
	}
}

// pauseAfter is how long to wait after so many failures in a row.
func pauseAfter(failures int) time.Duration {
	return min(lastPause, firstPause<<min(failures-1, 20))
}

// errMoved says that somebody else has noted how far a target was told.
var errMoved = errors.New("moved")

// next tells a target what it has not been told, a batch at most; more reports whether there may be more.
func (t *Teller) next(ctx context.Context, rec records.Records, o *policy.Onward) (state records.Onward, more bool, err error) {
	all, newest, err := rec.Onward(ctx)
	if err != nil {
		return state, false, err
	}
	state, there := all[o.Name]
	if !there {
		return state, false, errors.New("how far it was told is not known")
	}
	messages, err := t.waiting(ctx, rec, state, newest)
	for i := 0; err == nil && i < len(messages); i++ {
		state, err = t.send(ctx, rec, o, state, messages[i])
	}
	if errors.Is(err, errMoved) {
		return state, true, nil
	}
	return state, len(messages) > 0, err
}

// message is a purge to be told; always: to each target, whatever it wants to know.
type message struct {
	records.Entry
	always bool
}

// waiting are the next purges that a target has not been told: those of the ledger, or one of everything if
// they are too many, or not known any more.
func (t *Teller) waiting(ctx context.Context, rec records.Records, state records.Onward, newest records.Position) (all []message, err error) {
	everything := []message{{records.Entry{Purge: records.Purge{Purge: tags.Purge{Sequence: newest.Sequence, All: true}, At: time.Now()}, Mark: newest.RowID}, true}}
	if n := int64(newest.Sequence) - int64(state.At.Sequence); n > MostWaiting {
		t.Log.Error("too many purges wait to be told onward; the target is told to forget everything instead", "target", state.Name, "waiting", n)
		return everything, nil
	}
	purges, err := rec.Since(ctx, state.At, batch)
	if errors.Is(err, records.ErrOtherHistory) {
		t.Log.Error("the ledger was set back, or what a target was told last is forgotten; it is told to forget everything", "target", state.Name)
		return everything, nil
	}
	for _, p := range purges {
		all = append(all, message{p, false})
	}
	return all, err
}

// send tells a target of one purge, if it wants to know, and notes what came of it.
func (t *Teller) send(ctx context.Context, rec records.Records, o *policy.Onward, state records.Onward, m message) (records.Onward, error) {
	from := state.At
	var failure error
	if m.always || o.Wants.Of(&m.Purge.Purge) {
		if failure = t.post(ctx, o, policy.Telling(&m.Purge.Purge, m.At)); failure == nil {
			now := time.Now()
			state.Told = &now
		}
	}
	if ctx.Err() != nil {
		return state, ctx.Err() // it may have been told; it is told again
	}
	if failure == nil {
		state.At, state.Error, state.Failures = records.Position{Sequence: m.Sequence, RowID: m.Mark}, "", 0
	} else {
		state.Error, state.Failures = failure.Error(), state.Failures+1
	}
	switch err := rec.SaveOnward(ctx, from, state); {
	case errors.Is(err, records.ErrNotFound):
		return state, errMoved
	case err != nil:
		return state, err
	}
	return state, failure
}
