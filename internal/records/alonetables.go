package records

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"gerastic/internal/core/meter"
)

// AddRevision implements Records.
func (a *Alone) AddRevision(_ context.Context, source, actor, note string) (Revision, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.policy = Revision{Number: a.policy.Number + 1, At: time.Now(), Actor: actor, Note: note, Source: source}
	a.addMark(TimeMark{At: a.policy.At, Kind: MarkRevision, ID: a.policy.Number, Name: strconv.FormatInt(a.policy.Number, 10), Actor: actor, Detail: note})
	return a.policy, nil
}

// LastRevision implements Records.
func (a *Alone) LastRevision(context.Context) (Revision, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.policy.Number == 0 {
		return Revision{}, ErrNotFound
	}
	return a.policy, nil
}

// Switch implements Records.
func (a *Alone) Switch(_ context.Context, route string, off bool, actor string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if delete(a.off, route); off {
		a.off[route] = true
	}
	a.addMark(TimeMark{Kind: MarkSwitch, Name: route, Actor: actor, Detail: switched(off)})
	return nil
}

// addMark adds to the marks, and forgets the oldest beyond the limit. Under mu.
func (a *Alone) addMark(m TimeMark) TimeMark {
	if m.At.IsZero() {
		m.At = time.Now()
	}
	m.At = m.At.Truncate(time.Microsecond) // as the database does
	if m.ID == 0 {
		a.mark++
		m.ID = a.mark
	}
	a.marks = append(a.marks, m)
	a.marks = a.marks[max(0, len(a.marks)-aloneMarks):]
	return m
}

// AddMark implements Records.
func (a *Alone) AddMark(_ context.Context, m TimeMark) (TimeMark, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.addMark(m), nil
}

// Marks implements Records.
func (a *Alone) Marks(_ context.Context, q MarkQuery) ([]TimeMark, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	all := slices.Clone(a.marks)
	for _, p := range a.purges {
		all = append(all, TimeMark{At: p.At.Truncate(time.Microsecond), Kind: MarkPurge, ID: int64(p.Sequence), Name: strconv.FormatUint(uint64(p.Sequence), 10), Actor: p.Actor, Detail: p.Reason})
	}
	all = slices.DeleteFunc(all, func(m TimeMark) bool {
		return m.At.Before(q.Since) || !m.At.Before(q.Until) || len(q.Kinds) > 0 && !slices.Contains(q.Kinds, m.Kind) || q.After != nil && !newer(*q.After, m)
	})
	slices.SortFunc(all, func(x, y TimeMark) int {
		if newer(x, y) {
			return -1
		}
		return 1
	})
	return all[:min(len(all), q.Limit)], nil
}

// newer reports whether x stands before y on the time line.
func newer(x, y TimeMark) bool {
	return cmp.Or(x.At.Compare(y.At), strings.Compare(x.Kind, y.Kind), cmp.Compare(x.ID, y.ID)) > 0
}

// ForgetMarks implements Records.
func (a *Alone) ForgetMarks(_ context.Context, now time.Time) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.marks = slices.DeleteFunc(a.marks, func(m TimeMark) bool { return m.At.Before(now.Add(-CoarseFor)) })
	return nil
}

// Switches implements Records.
func (a *Alone) Switches(context.Context) (map[string]bool, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return maps.Clone(a.off), nil
}

var errManyTokens = errors.New("there are as many tokens as a node that runs alone keeps; start it with a database")

// AddToken implements Records.
func (a *Alone) AddToken(_ context.Context, t Token, secret string) (Token, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	t.ID, t.Hash, t.Created = strings.ToLower(rand.Text()[:10]), HashToken(secret), time.Now()
	for i := range a.tokens {
		if known := &a.tokens[i]; known.Hash == t.Hash {
			known.Rights, known.Namespace, known.AtMost, known.Revoked = t.Rights, t.Namespace, t.AtMost, nil
			return *known, nil
		}
	}
	if len(a.tokens) >= aloneTokens {
		return t, errManyTokens
	}
	a.tokens = slices.Insert(a.tokens, 0, t)
	return t, nil
}

// Tokens implements Records.
func (a *Alone) Tokens(context.Context) ([]Token, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.Clone(a.tokens), nil
}

// RevokeToken implements Records.
func (a *Alone) RevokeToken(_ context.Context, id string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	for i := range a.tokens {
		if t := &a.tokens[i]; t.ID == id && t.Revoked == nil {
			now := time.Now()
			t.Revoked = &now
			return nil
		}
	}
	return ErrNotFound
}

// figureKey is a bucket of time, and what was counted in it.
type figureKey struct {
	at int64 // unix seconds
	meter.Key
	madeUp bool
}

type figureRow struct {
	cell    meter.Cell // without its histogram
	latency []byte     // packed, see packHistogram
}

func (f *figureRow) add(cell *meter.Cell, latency []byte) {
	f.latency = append(f.latency, latency...)
	whole := *cell
	whole.Latency = meter.Histogram{}
	f.cell.Add(&whole)
}

// SaveFigures implements Records.
func (a *Alone) SaveFigures(_ context.Context, _ string, at time.Time, cells meter.Cells, madeUp bool) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	for k, c := range cells {
		a.addFigure(figureKey{at.Unix(), k, madeUp}, c, packHistogram(&c.Latency))
	}
	if len(a.figures) > aloneFigures {
		a.compactFigures(time.Now().Add(-time.Minute))
	}
	for border := time.Now().Add(-CoarseFor); len(a.figures) > aloneFigures; border = border.Add(CoarseFor / 100) {
		a.forgetFigures(border)
	}
	return nil
}

func (a *Alone) addFigure(key figureKey, cell *meter.Cell, latency []byte) {
	row := a.figures[key]
	if row == nil {
		row = &figureRow{}
		a.figures[key] = row
	}
	row.add(cell, latency)
}

func (a *Alone) forgetFigures(border time.Time) {
	maps.DeleteFunc(a.figures, func(k figureKey, _ *figureRow) bool { return k.at < border.Unix() })
}

// compactFigures merges what is older than a time into longer buckets. Under mu.
func (a *Alone) compactFigures(border time.Time) {
	for key, row := range maps.Clone(a.figures) {
		if long := key.at - key.at%int64(Coarse.Seconds()); key.at < border.Unix() && long != key.at {
			delete(a.figures, key)
			key.at = long
			a.addFigure(key, &row.cell, row.latency)
		}
	}
}

// CompactFigures implements Records.
func (a *Alone) CompactFigures(_ context.Context, now time.Time) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.compactFigures(now.Add(-FineFor))
	a.forgetFigures(now.Add(-CoarseFor))
	return nil
}

// Figures implements Records.
func (a *Alone) Figures(_ context.Context, since, until time.Time, step time.Duration, route string) (all []FigureRow, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	sums := map[figureKey]*FigureRow{}
	for k, row := range a.figures {
		at := time.Unix(k.at, 0)
		if at.Before(since) || !at.Before(until) || route != "" && k.Route != route {
			continue
		}
		bucket := figureKey{Key: meter.Key{Route: k.Route, Outcome: k.Outcome}}
		if seconds := int64(step.Seconds()); seconds > 0 {
			bucket.at = k.at - k.at%seconds
		}
		sum := sums[bucket]
		if sum == nil {
			sum = &FigureRow{Route: k.Route, Key: bucket.Key}
			if step > 0 {
				sum.At = time.Unix(bucket.at, 0)
			}
			sums[bucket] = sum
		}
		sum.MadeUp = sum.MadeUp || k.madeUp
		sum.Cell.Add(&row.cell)
		unpackHistogram(row.latency, &sum.Cell.Latency)
	}
	for _, sum := range sums {
		all = append(all, *sum)
	}
	slices.SortFunc(all, func(x, y FigureRow) int {
		return cmp.Or(x.At.Compare(y.At), strings.Compare(x.Route, y.Route), strings.Compare(x.Key.Outcome.String(), y.Key.Outcome.String()))
	})
	return all, nil
}

// MadeUpUntil implements Records.
func (a *Alone) MadeUpUntil(_ context.Context, since, until time.Time) (last *time.Time, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for k := range a.figures {
		if at := time.Unix(k.at, 0); k.madeUp && !at.Before(since) && at.Before(until) && (last == nil || at.After(*last)) {
			last = &at
		}
	}
	return last, nil
}

// KeepSizes implements Records.
func (a *Alone) KeepSizes(_ context.Context, sizes []Size) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, s := range sizes {
		known := slices.IndexFunc(a.sizes, func(o Size) bool { return o.At.Equal(s.At) && o.Node == s.Node && o.Tier == s.Tier })
		if known < 0 {
			a.sizes = append(a.sizes, s)
			continue
		}
		o := &a.sizes[known]
		o.Entries, o.Bytes, o.Limit = s.Entries, s.Bytes, s.Limit
		o.Added, o.Evicted, o.Expired, o.Purged, o.EvictedAge = o.Added+s.Added, o.Evicted+s.Evicted, o.Expired+s.Expired, o.Purged+s.Purged, o.EvictedAge+s.EvictedAge
	}
	slices.SortFunc(a.sizes, func(x, y Size) int {
		return cmp.Or(x.At.Compare(y.At), strings.Compare(x.Tier, y.Tier), strings.Compare(x.Node, y.Node))
	})
	a.sizes = a.sizes[max(0, len(a.sizes)-aloneSizes):]
	return nil
}

// Sizes implements Records.
func (a *Alone) Sizes(_ context.Context, since, until time.Time, node string) (all []Size, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, s := range a.sizes {
		if !s.At.Before(since) && s.At.Before(until) && (node == "" || s.Node == node) {
			all = append(all, s)
		}
	}
	return all, nil
}

// ForgetSizes implements Records.
func (a *Alone) ForgetSizes(_ context.Context, now time.Time) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.sizes = slices.DeleteFunc(a.sizes, func(s Size) bool { return s.At.Before(now.Add(-keptSizes)) })
	return nil
}

// KeepHottest implements Records: nothing in memory is there after a restart. The node's directory has
// the list, too.
func (a *Alone) KeepHottest(context.Context, string, time.Time, []byte) error { return nil }

// Hottest implements Records.
func (a *Alone) Hottest(context.Context, string, time.Time) ([]byte, error) { return nil, nil }

// AddFinding implements Records.
func (a *Alone) AddFinding(_ context.Context, f Finding) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.finding++
	f.ID = a.finding
	a.found = append(a.found, f)
	a.found = a.found[max(0, len(a.found)-keptFindings):]
	return nil
}

// Findings implements Records.
func (a *Alone) Findings(_ context.Context, since time.Time, limit int) (all []Finding, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, f := range slices.Backward(a.found) {
		if !f.At.Before(since) && len(all) < limit {
			all = append(all, f)
		}
	}
	return all, nil
}

// Sources implements Records.
func (a *Alone) Sources(context.Context) (map[string]Source, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return maps.Clone(a.sources), nil
}

// Source implements Records.
func (a *Alone) Source(_ context.Context, name, kind string) (Source, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if s, known := a.sources[name]; known && s.Kind == kind {
		return s, nil
	}
	return Source{Name: name, Kind: kind}, nil
}

// SaveSource implements Records. A policy bounds how many there are.
func (a *Alone) SaveSource(_ context.Context, s Source) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.sources[s.Name] = s
	return nil
}

// ForgetSource implements Records.
func (a *Alone) ForgetSource(_ context.Context, name string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.sources, name)
	delete(a.sent, name)
	return nil
}

// BeginOnward implements Records.
func (a *Alone) BeginOnward(_ context.Context, targets []string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, name := range targets {
		if _, known := a.onward[name]; !known {
			a.onward[name] = Onward{Name: name, At: a.newest()}
		}
	}
	return nil
}

// Onward implements Records.
func (a *Alone) Onward(context.Context) (map[string]Onward, Position, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return maps.Clone(a.onward), a.newest(), nil
}

// SaveOnward implements Records.
func (a *Alone) SaveOnward(_ context.Context, from Position, o Onward) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if known, there := a.onward[o.Name]; !there || known.At != from {
		return ErrNotFound
	}
	a.onward[o.Name] = o
	return nil
}

// ForgetOnward implements Records: a policy bounds how many there are, and each is small.
func (a *Alone) ForgetOnward(_ context.Context, but []string, _ time.Time) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	maps.DeleteFunc(a.onward, func(name string, _ Onward) bool { return !slices.Contains(but, name) })
	return nil
}

// aloneLead is the right to read a source in this process.
type aloneLead struct {
	of     *Alone
	source string
}

// TakeLead implements Records.
func (a *Alone) TakeLead(_ context.Context, source string) (Lead, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.leads[source] {
		return nil, nil
	}
	a.leads[source] = true
	return &aloneLead{a, source}, nil
}

// Held implements Lead.
func (l *aloneLead) Held(context.Context) bool { return true }

// Close implements Lead.
func (l *aloneLead) Close() {
	l.of.mu.Lock()
	defer l.of.mu.Unlock()
	delete(l.of.leads, l.source)
}

// AddRun implements Records.
func (a *Alone) AddRun(_ context.Context, run Run) (int64, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.run++
	run.ID = a.run
	a.runs = append(a.runs, run)
	a.runs = a.runs[max(0, len(a.runs)-aloneRuns):]
	return run.ID, nil
}

// Runs implements Records.
func (a *Alone) Runs(_ context.Context, source string, before int64, limit int) (all []Run, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, run := range slices.Backward(a.runs) {
		if (source == "" || run.Source == source) && (before == 0 || run.ID < before) && len(all) < limit {
			all = append(all, run)
		}
	}
	return all, nil
}

// LastRun implements Records.
func (a *Alone) LastRun(_ context.Context, source string) (Run, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, run := range slices.Backward(a.runs) {
		if run.Source == source && (run.Changes > 0 || run.Error != "") {
			return run, nil
		}
	}
	return Run{}, ErrNotFound
}

// Delays implements Records.
func (a *Alone) Delays(_ context.Context, since time.Time) (map[string]*meter.Histogram, map[string]int64, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delays, changes := map[string]*meter.Histogram{}, map[string]int64{}
	for _, run := range a.runs {
		if !run.Ended.After(since) {
			continue
		}
		if delays[run.Source] == nil {
			delays[run.Source] = &meter.Histogram{}
		}
		delays[run.Source].Add(&run.Delays)
		changes[run.Source] += run.Changes
	}
	return delays, changes, nil
}

// SentBefore implements Records.
func (a *Alone) SentBefore(_ context.Context, source string, ids []string) (map[string]bool, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	sent := map[string]bool{}
	for _, id := range ids {
		if _, known := a.sent[source][id]; known {
			sent[id] = true
		}
	}
	return sent, nil
}

// NoteSent implements Records.
func (a *Alone) NoteSent(_ context.Context, source string, ids []string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.sent[source] == nil {
		a.sent[source] = map[string]time.Time{}
	}
	for _, id := range ids {
		a.sent[source][id] = time.Now()
	}
	for id := range a.sent[source] { // one sent twice costs a purge
		if len(a.sent[source]) <= aloneSent {
			break
		}
		delete(a.sent[source], id)
	}
	return nil
}

// ForgetRuns implements Records.
func (a *Alone) ForgetRuns(_ context.Context, now time.Time) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.runs = slices.DeleteFunc(a.runs, func(r Run) bool { return r.Ended.Before(now.AddDate(0, 0, -1)) && r.Changes == 0 && r.Error == "" })
	for _, items := range a.sent {
		maps.DeleteFunc(items, func(_ string, at time.Time) bool { return at.Before(now.AddDate(0, 0, -7)) })
	}
	return nil
}
