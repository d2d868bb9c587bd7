package records

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"gerastic/internal/core/tags"
)

// Alone are the records of a node that runs alone: in memory, until it stops. Each kind is bounded; the
// oldest goes.
type Alone struct {
	mu      sync.Mutex    // guards what follows
	grew    chan struct{} // closed when the ledger grows, as by grower
	grower  string
	noted   chan struct{} // closed when something was noted
	nodes   map[string]*Node
	purges  []ledgerRow // in order, the newest last
	before  Position    // the row before the first
	policy  Revision
	off     map[string]bool
	tokens  []Token // the newest first
	figures map[figureKey]*figureRow
	sizes   []Size     // in order of time
	marks   []TimeMark // the newest last, but for purges
	mark    int64
	found   []Finding // the newest last
	finding int64
	sources map[string]Source
	leads   map[string]bool
	onward  map[string]Onward
	runs    []Run // the newest last
	run     int64
	sent    map[string]map[string]time.Time // items of a source, and when they were sent
}

// NewAlone returns records in which nothing is.
func NewAlone() *Alone {
	return &Alone{
		grew: make(chan struct{}), noted: make(chan struct{}), nodes: map[string]*Node{}, off: map[string]bool{}, figures: map[figureKey]*figureRow{},
		sources: map[string]Source{}, leads: map[string]bool{}, onward: map[string]Onward{}, sent: map[string]map[string]time.Time{},
	}
}

// How many rows of each kind are kept.
const (
	alonePurges  = 10_000
	aloneFigures = 20_000
	aloneRuns    = 1_000
	aloneSizes   = 20_000
	aloneSent    = 100_000 // items of a source
	aloneNodes   = 100
	aloneTokens  = 1_000
	aloneMarks   = 10_000
)

type ledgerRow struct {
	Purge
	mark string
}

// newest is the newest place. Under mu.
func (a *Alone) newest() Position {
	if n := len(a.purges); n > 0 {
		return Position{a.purges[n-1].Sequence, a.purges[n-1].mark}
	}
	return a.before
}

// Append implements Records.
func (a *Alone) Append(_ context.Context, node string, orders []Order, limit time.Duration) (w Written, err error) {
	named := make([]tags.Purge, len(orders))
	for i, o := range orders { // what is kept is nobody else's
		text, err := json.Marshal(o.Purge)
		if err == nil {
			err = json.Unmarshal(text, &named[i])
		}
		if err != nil {
			return w, fmt.Errorf("writing to the ledger: %w", err)
		}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	w.Before, w.At = a.newest(), time.Now()
	w.First = w.Before.Sequence + 1
	for i, o := range orders {
		row := ledgerRow{Purge{Purge: named[i], At: w.At, Actor: o.Actor, Reason: o.Reason}, rand.Text()}
		row.Sequence, row.Mode = w.First+tags.Stamp(i), o.Mode
		a.purges = append(a.purges, row)
		w.RowIDs = append(w.RowIDs, row.mark)
	}
	w.Last = a.newest()
	for len(a.purges) > alonePurges {
		a.before = Position{a.purges[0].Sequence, a.purges[0].mark}
		a.purges = a.purges[1:]
	}
	for _, n := range a.nodes {
		if time.Since(n.Seen) < limit {
			w.Live = append(w.Live, Alive{n.Name, n.Seen})
		}
	}
	a.grower = node
	close(a.grew)
	a.grew = make(chan struct{})
	return w, nil
}

// Arrive implements Records.
func (a *Alone) Arrive(_ context.Context, n Presence, applied tags.Stamp, _ time.Time, _ time.Duration) (Position, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if known := a.nodes[n.Name]; known == nil && len(a.nodes) >= aloneNodes {
		return Position{}, ErrNameTaken
	}
	a.nodes[n.Name] = &Node{Name: n.Name, Control: n.Control, Seen: time.Now(), Started: n.Started, Applied: applied}
	return a.newest(), nil
}

// Seen implements Records.
func (a *Alone) Seen(_ context.Context, name string) (seen time.Time, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if n := a.nodes[name]; n != nil {
		seen = n.Seen
	}
	return seen, nil
}

// Newest implements Records.
func (a *Alone) Newest(context.Context) (Position, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.newest(), nil
}

// Beat implements Records.
func (a *Alone) Beat(_ context.Context, n Presence, applied tags.Stamp) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	known := a.nodes[n.Name]
	if known == nil || !known.Started.Equal(n.Started) {
		return ErrNotFound
	}
	known.Seen, known.Applied, known.Trouble = time.Now(), applied, n.Trouble
	return nil
}

// Depart implements Records.
func (a *Alone) Depart(_ context.Context, n Presence) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if known := a.nodes[n.Name]; known != nil && known.Started.Equal(n.Started) {
		delete(a.nodes, n.Name)
	}
	return nil
}

// Nodes implements Records.
func (a *Alone) Nodes(context.Context) (all []Node, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, n := range a.nodes {
		all = append(all, *n)
	}
	slices.SortFunc(all, func(x, y Node) int { return strings.Compare(x.Name, y.Name) })
	return all, nil
}

// ForgetPurges implements Records: the ledger is bounded by itself.
func (a *Alone) ForgetPurges(context.Context, time.Time) error { return nil }

// after are the rows after a sequence. Under mu.
func (a *Alone) after(sequence tags.Stamp) []ledgerRow {
	n, _ := slices.BinarySearchFunc(a.purges, sequence+1, func(row ledgerRow, s tags.Stamp) int { return int(row.Sequence) - int(s) })
	return a.purges[n:]
}

// Since implements Records.
func (a *Alone) Since(_ context.Context, after Position, limit int) (all []Entry, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if after != a.before {
		if row := a.row(after.Sequence); row == nil || row.mark != after.RowID {
			return nil, ErrOtherHistory
		}
	}
	rows := a.after(after.Sequence)
	for _, row := range rows[:min(len(rows), limit)] {
		all = append(all, Entry{Purge{Purge: row.Purge.Purge, At: row.At}, row.mark})
	}
	return all, nil
}

// row is that of a sequence; nil: there is none. Under mu.
func (a *Alone) row(sequence tags.Stamp) *ledgerRow {
	if sequence == 0 {
		return nil
	}
	if rows := a.after(sequence - 1); len(rows) > 0 && rows[0].Sequence == sequence {
		return &rows[0]
	}
	return nil
}

// Follow implements Records.
func (a *Alone) Follow(ctx context.Context, node string, ledger, applied func()) error {
	for began := true; ; began = false {
		a.mu.Lock()
		grew, noted := a.grew, a.noted
		a.mu.Unlock()
		if began {
			ledger()
		}
		select {
		case <-grew:
			a.mu.Lock()
			own := a.grower == node
			a.mu.Unlock()
			if !own {
				ledger()
			}
		case <-noted:
			applied()
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Acknowledge implements Records.
func (a *Alone) Acknowledge(_ context.Context, all []Ack) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, ack := range all {
		if row := a.row(ack.Sequence); row != nil && row.mark == ack.RowID {
			done := ack.Applied
			done.At = time.Now()
			row.Applied = append(row.Applied, done)
		}
	}
	close(a.noted)
	a.noted = make(chan struct{})
	return nil
}

// LastPurges implements Records.
func (a *Alone) LastPurges(_ context.Context, names []string) (map[string]Purge, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	last := map[string]Purge{}
	for i := len(a.purges) - 1; i >= 0 && len(last) < len(names); i-- {
		for _, name := range names {
			if _, found := last[name]; !found && slices.Contains(a.purges[i].Tags, name) {
				last[name] = Purge{Purge: tags.Purge{Sequence: a.purges[i].Sequence}, At: a.purges[i].At, Actor: a.purges[i].Actor}
			}
		}
	}
	return last, nil
}

// Purges implements Records.
func (a *Alone) Purges(_ context.Context, before tags.Stamp, limit int) (all []Purge, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for i := len(a.purges) - 1; i >= 0 && len(all) < limit; i-- {
		if before == 0 || a.purges[i].Sequence < before {
			all = append(all, copied(&a.purges[i]))
		}
	}
	return all, nil
}

// copied is a row's purge, without the samples that only the one who ordered it sees.
func copied(row *ledgerRow) Purge {
	p := row.Purge
	p.Applied = slices.Clone(p.Applied)
	for i := range p.Applied {
		p.Applied[i].Matched.Sample = nil
	}
	return p
}

// At implements Records.
func (a *Alone) At(_ context.Context, at Position) (Purge, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if row := a.row(at.Sequence); row != nil && row.mark == at.RowID {
		return copied(row), nil
	}
	return Purge{}, ErrNotFound
}

// Purge implements Records.
func (a *Alone) Purge(_ context.Context, sequence tags.Stamp) (Purge, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if row := a.row(sequence); row != nil {
		return copied(row), nil
	}
	return Purge{}, ErrNotFound
}

// Ping implements Records.
func (a *Alone) Ping(context.Context) error { return nil }

// Close implements Records.
func (a *Alone) Close() {}
