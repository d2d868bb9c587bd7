package client

import (
	"cmp"
	"context"
	"crypto/sha256"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"
)

// Load returns a fragment; nil if it is not there, or stale, or Gerastic cannot be reached. The error is that
// of ctx.
func (s *Fragments) Load(ctx context.Context, f Fragment) ([]byte, error) {
	found, err := s.LoadAll(ctx, []Fragment{f})
	if err != nil {
		return nil, err
	}
	return found[0], nil
}

// LoadAll does the same for many, in one round trip for each thousand. The results stand in the order of all.
func (s *Fragments) LoadAll(ctx context.Context, all []Fragment) ([][]byte, error) {
	bodies := make([][]byte, len(all))
	var open []*wantedFragment
	l := s.begin(ctx, nil)
	for i := range all {
		key, err := all[i].Key()
		if err != nil {
			s.warn(err.Error(), nil)
			continue
		}
		one := &wantedFragment{Fragment: &all[i], at: i, key: key, item: l.report.begin(l.depth)}
		if s.options.Off || l.again(one) {
			bodies[i] = one.body
			continue
		}
		open = append(open, one)
	}
	for some := range slices.Chunk(open, maxKeys) {
		answers, err := l.ask(some, ask{fresh: true, only: true})
		if err != nil {
			break
		}
		for i, one := range some {
			if a := &answers.items[i]; a.State == "fresh" && l.use(one, a, answers, false) {
				bodies[one.at] = one.body
			}
		}
	}
	return bodies, ctx.Err()
}

// Store stores a fragment that was made already, so that it is there for the next reader. It reports false if
// a purge of it came since it was last looked up here, or Gerastic cannot be reached. The error is that of a
// Fragment that is not in order.
func (s *Fragments) Store(ctx context.Context, f Fragment, body []byte) (stored bool, err error) {
	key, err := f.usable(&s.options)
	if err != nil || s.options.Off {
		return false, err
	}
	one := &wantedFragment{Fragment: &f, key: key, made: &made{body: body, page: &page{}}}
	if life := cmp.Or(f.Lifetime, s.options.Lifetime); life < Forever {
		one.made.until = time.Now().Add(life)
	}
	if p := pageOf(ctx); p != nil {
		p.report.forget(key)
	}
	l := &loading{Fragments: s, ctx: ctx, began: time.Now(), direct: true, since: s.atHand.since(key)}
	// A lease of its own, so that a purge that comes now is not overtaken.
	answers, err := l.ask([]*wantedFragment{one}, ask{renew: true})
	if err != nil || answers.items[0].Lease == "" {
		return false, ctx.Err()
	}
	one.lease = answers.items[0].Lease
	return l.store(ctx, []*wantedFragment{one}) == 1, nil
}

// Unchanged reports whether a visitor has a page already, by when what it shows changed (the zero time: it does
// not say) and what else it depends on. Then the answer is 304: w.WriteHeader(http.StatusNotModified). The page
// carries the validators in any case. The error says which part cannot be one.
func Unchanged(w http.ResponseWriter, r *http.Request, modified time.Time, parts ...any) (bool, error) {
	if modified.IsZero() && len(parts) == 0 {
		return false, fmt.Errorf("Unchanged needs to know what the page depends on: a time, parts, or both")
	}
	f := Fragment{Name: "page", Parts: parts}
	if !modified.IsZero() {
		f.Version = modified
		w.Header().Set("Last-Modified", modified.UTC().Format(http.TimeFormat))
	}
	key, err := f.Key()
	if err != nil {
		return false, err
	}
	etag := fmt.Sprintf(`"%x"`, sha256.Sum256([]byte(key)))
	etag = etag[:33] + `"`
	w.Header().Set("Etag", etag)
	if names := r.Header.Values("If-None-Match"); len(names) > 0 {
		for name := range strings.SplitSeq(strings.Join(names, ","), ",") {
			if name = strings.TrimSpace(name); name == "*" || strings.TrimPrefix(name, "W/") == etag {
				return true, nil
			}
		}
		return false, nil
	}
	since, err := http.ParseTime(r.Header.Get("If-Modified-Since"))
	return err == nil && !modified.IsZero() && len(parts) == 0 && !modified.Truncate(time.Second).After(since), nil // a date does not tell the parts
}
