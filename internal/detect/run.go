package detect

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gerastic/internal/core/changes"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// Bounds of what is gathered before it is purged.
const (
	mostTags    = 1000 // of one purge
	mostChanges = 5000 // whose times are remembered
	mostPurges  = 1000 // named in the record of a run
)

// run turns changes into purges, and keeps what came of them.
type run struct {
	*Detector
	record  records.Run
	rules   []*changes.Rule
	source  *policy.Source // nil: sent without one
	pool    content        // of the source's database; nil if it has none
	drop    map[string]struct{}
	soften  map[string]struct{}
	commits []time.Time    // of the changes that are not purged yet
	kinds   map[string]int // seen since the last purge
	single  string         // the only change since the last purge, in words
	refused error          // the first query that a database refused to answer
}

func (d *Detector) begin(source, trigger string, s *policy.Source, pool content) *run {
	return &run{
		Detector: d, source: s, rules: d.Rules().Rules, pool: pool,
		record: records.Run{Source: source, Trigger: trigger, Node: d.Node, Began: time.Now()},
		drop:   map[string]struct{}{}, soften: map[string]struct{}{}, kinds: map[string]int{},
	}
}

// take adds what a change makes stale, and purges when enough has come together.
func (r *run) take(ctx context.Context, c *changes.Change) error {
	r.record.Changes++
	counted := false
	if err := ctx.Err(); err != nil {
		return err
	}
	for _, e := range changes.Effects(r.rules, c, changes.MaxTags) {
		counted = counted || e.Fired
		if e.TooMany { // nobody knows what it concerns, so that it is everything
			r.Log.Warn("a change names too many tags; everything was purged", "source", r.record.Source, "kind", c.Kind, "why", e.Why)
			if err := r.purge(ctx, tags.Purge{Mode: e.Mode, All: true}, r.record.Source+": a "+c.Kind+" with too many tags"); err != nil {
				return err
			}
			continue
		}
		if err := r.collect(ctx, e); err != nil {
			return err
		}
	}
	if !counted {
		r.record.Skipped++
		return nil
	}
	r.kinds[c.Kind]++
	r.single = describe(c)
	if !c.At.IsZero() {
		r.commits = append(r.commits, c.At)
	}
	if len(r.drop) >= mostTags || len(r.soften) >= mostTags || len(r.commits) >= mostChanges {
		return r.flush(ctx)
	}
	return nil
}

// describe says in a few words what changed.
func describe(c *changes.Change) string {
	text := c.Kind
	for _, side := range []changes.Fields{c.After, c.Before} {
		if ids := side.Texts("id"); len(ids) == 1 {
			text += " " + ids[0]
			break
		}
	}
	return text + map[changes.Op]string{changes.Create: " created", changes.Update: " updated", changes.Delete: " deleted", changes.Unknown: " changed"}[c.Op]
}

// collect adds the tags of an effect, with those that its queries give.
func (r *run) collect(ctx context.Context, e changes.Effect) error {
	into := r.drop
	if e.Mode == tags.Soften {
		into = r.soften
	}
	for _, tag := range e.Tags {
		into[tag] = struct{}{}
	}
	for _, q := range e.Questions {
		err := r.ask(ctx, q, func(tag string) error {
			into[tag] = struct{}{}
			if len(into) >= mostTags {
				return r.flush(ctx)
			}
			return nil
		})
		if records.Refused(err) { // it would again; the other changes must not wait for it
			r.refused = cmp.Or(r.refused, err)
			err = nil
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// ask calls each with the tags that a fan-out query gives.
func (r *run) ask(ctx context.Context, q changes.Query, each func(tag string) error) error {
	pool := r.pool
	if q.FanOut.Database != "" || pool == nil {
		url, err := r.databaseOf(q.FanOut)
		if err != nil {
			return err
		}
		if pool, err = r.pools.of(ctx, url); err != nil {
			return err
		}
	}
	err := pool.rows(ctx, q.FanOut.Query, q.With, func(row map[string]*string) error {
		f := changes.Fields{}
		for name, value := range row {
			if value != nil {
				f[name] = *value
			}
		}
		for _, tag := range q.FanOut.Fill(f) {
			if err := each(tag); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("the query of a rule's also: %w", err)
	}
	return nil
}

// databaseOf is the database that a rule asks where its source has none: the one that it
// names, or the only one that there is.
func (d *Detector) databaseOf(f *changes.FanOut) (string, error) {
	if f.Database != "" {
		return f.Database, nil
	}
	url := ""
	for _, s := range d.Rules().Sources {
		if s.Database != "" && url != "" && s.Database != url {
			url = ""
			break
		}
		url = cmp.Or(s.Database, url)
	}
	if url == "" {
		return "", errors.New("a rule asks a database, and it is not clear which; give the rule also: { database: … }")
	}
	return url, nil
}

// mostAnswers is how many tags a trial shows.
const mostAnswers = 1000

// Answer asks a fan-out query and returns the tags that it gives, the first thousand.
func (d *Detector) Answer(ctx context.Context, q changes.Query) (all []string, err error) {
	r := d.begin("", "", nil, nil)
	return all, r.ask(ctx, q, func(tag string) error {
		if len(all) < mostAnswers && !slices.Contains(all, tag) {
			all = append(all, tag)
		}
		return nil
	})
}

// flush purges what has come together.
func (r *run) flush(ctx context.Context) error {
	for tag := range r.drop {
		delete(r.soften, tag)
	}
	for mode, set := range []map[string]struct{}{tags.Drop: r.drop, tags.Soften: r.soften} {
		names := slices.Sorted(maps.Keys(set))
		for batch := range slices.Chunk(names, mostTags) {
			if err := r.purge(ctx, tags.Purge{Mode: tags.Mode(mode), Tags: batch}, r.reason()); err != nil {
				return err
			}
		}
		r.record.Tags += int64(len(names))
		clear(set)
	}
	now := time.Now()
	for _, at := range r.commits {
		r.record.Delays.Observe(max(0, now.Sub(at)))
	}
	r.commits = r.commits[:0]
	clear(r.kinds)
	return nil
}

func (r *run) purge(ctx context.Context, p tags.Purge, reason string) error {
	sequence, applied, err := r.Purge(ctx, p, "changes", reason)
	if err != nil {
		return err
	}
	for _, a := range applied {
		r.record.Entries += a.Matched.Entries
	}
	if len(r.record.Purges) < mostPurges {
		r.record.Purges = append(r.record.Purges, int64(sequence))
	}
	return nil
}

func (r *run) reason() string {
	sum := 0
	for _, n := range r.kinds {
		sum += n
	}
	if sum == 1 {
		return r.record.Source + ": " + r.single
	}
	return fmt.Sprintf("%s: %d changes of %s", r.record.Source, sum, strings.Join(slices.Sorted(maps.Keys(r.kinds)), ", "))
}

// close keeps the record of the run; cause is what broke it off.
func (r *run) close(ctx context.Context, rec records.Records, cause error) (records.Run, error) {
	r.record.Ended = time.Now()
	if r.refused != nil {
		r.record.Error = r.refused.Error()
	}
	if cause != nil {
		r.record.Error = cause.Error()
	}
	id, err := rec.AddRun(context.WithoutCancel(ctx), r.record)
	r.record.ID = id
	if cause != nil {
		return r.record, cause
	}
	return r.record, err
}
