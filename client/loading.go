package client

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"slices"
	"sync"
	"time"

	"gerastic.example/client/protocol"
)

// wantedFragment is one fragment on its way through a load.
type wantedFragment struct {
	*Fragment
	at    int    // its place among those asked for
	key   string // "": it cannot have one, and is filled without being stored
	lease string
	item  *ReportItem
	body  []byte
	found Found
	done  bool
	same  *wantedFragment // that comes before it, and has its key
	made  *made           // by its fill
	err   error
}

// made is what a fill brought, and what it was made of.
type made struct {
	body   []byte
	took   time.Duration
	page   *page
	until  time.Time // end of its life, or of the shortest in it; zero: for ever
	broken any       // a panic
	// nothing says that there is nothing to show: ErrNothing.
	nothing bool
}

// load finds or fills; renew fills even what is fresh. code is what the application fills with.
func (s *Fragments) load(ctx context.Context, all []Fragment, renew bool, code any, fill func(ctx context.Context, i int) ([]byte, error)) ([][]byte, error) {
	l := s.begin(ctx, fill)
	wanted := make([]wantedFragment, len(all))
	first := map[string]*wantedFragment{}
	for i := range all {
		key, err := all[i].usable(&s.options)
		if err != nil {
			s.warn(err.Error(), nil)
		}
		if named, _ := ctx.Value(renewalKey{}).(string); len(all) == 1 && named == key && key != "" {
			renew = true
		}
		wanted[i] = wantedFragment{Fragment: &all[i], at: i, key: key, item: l.report.begin(l.depth), same: first[key]}
		if key != "" && first[key] == nil {
			first[key] = &wanted[i]
		}
	}
	if s.options.Check > 0 {
		l.checkPlaces(wanted, code)
	}
	l.loadAll(wanted, renew)
	if s.options.Check > 0 && !s.options.Off {
		l.checkSome(wanted)
	}
	return bodiesOf(wanted)
}

// begin begins a load of what goes into the page of a context, if there is one.
func (s *Fragments) begin(ctx context.Context, fill func(ctx context.Context, i int) ([]byte, error)) *loading {
	l := &loading{Fragments: s, ctx: ctx, page: pageOf(ctx), fill: fill, began: time.Now()}
	if l.page != nil {
		l.report, l.depth, l.fresh = l.page.report, l.page.depth+1, l.page.fragment
	}
	return l
}

// loadAll finds or fills each that this page does not have already, once.
func (l *loading) loadAll(wanted []wantedFragment, renew bool) {
	open := make([]*wantedFragment, 0, len(wanted))
	var bad []*wantedFragment
	for i := range wanted {
		p := &wanted[i]
		switch {
		case l.options.Off || p.key == "":
			bad = append(bad, p)
		case p.same == nil && (renew || !l.again(p)):
			open = append(open, p)
		}
	}
	l.sideBySide(bad, l.makeOff)
	for some := range slices.Chunk(open, maxKeys) {
		l.settle(some, renew)
	}
	for i := range wanted {
		if p := &wanted[i]; p.same != nil && !l.options.Off {
			p.body, p.made, p.err = p.same.body, p.same.made, p.same.err
			if p.err == nil {
				l.ended(p, l.wire.namespace(), Reused, 0, 0)
			}
		}
	}
}

// bodiesOf are what came of all, or the first error; a panic of a fill goes on here.
func bodiesOf(wanted []wantedFragment) ([][]byte, error) {
	bodies := make([][]byte, len(wanted))
	var failed error
	for i := range wanted {
		p := &wanted[i]
		if p.made != nil && p.made.broken != nil {
			panic(p.made.broken)
		}
		if failed == nil && p.err != nil {
			failed = p.err
		}
		bodies[i] = p.body
	}
	if failed != nil {
		return nil, failed
	}
	return bodies, nil
}

// makeOff fills a fragment without Gerastic.
func (l *loading) makeOff(p *wantedFragment) {
	if l.make(l.ctx, p); p.err == nil {
		l.take(p, &answers{namespace: l.options.Namespace, stamp: notDated}, Alone)
	}
}

// notDated is the stamp of what was found as of no particular purge.
const notDated = math.MaxUint64

// maxKeys is how many fragments go into one call.
const maxKeys = 1000

// loading is one load under way.
type loading struct {
	*Fragments
	ctx    context.Context
	page   *page // that the fragments go into; may be nil
	report *report
	depth  int
	fresh  bool // they go into a fragment, so that nothing stale will do
	fill   func(ctx context.Context, i int) ([]byte, error)
	began  time.Time

	direct bool    // what was just saved is stored
	since  *uint64 // ledger sequence from which on a purge refuses it
}

// settle goes on until every fragment has a body or an error. Its own fills come before it waits
// for those of others, who may be waiting for them.
func (l *loading) settle(open []*wantedFragment, renew bool) {
	for round := 0; len(open) > 0 && round < 4; round++ {
		answers, err := l.lookup(open, renew)
		if err != nil {
			break
		}
		renew = false
		var mine, others []*wantedFragment
		for i, p := range open {
			switch a := &answers.items[i]; a.State {
			case "fresh", "stale":
				if !l.use(p, a, answers, round > 0) {
					l.fillAlone([]*wantedFragment{p})
				}
			case "yours":
				p.lease = a.Lease
				mine = append(mine, p)
			case "filling":
				others = append(others, p)
			default: // switched off
				l.fillAlone([]*wantedFragment{p})
			}
		}
		l.fillMine(mine, answers)
		if len(mine) == 0 && len(others) > 0 {
			open = others
			break // it waited already
		}
		open = others
	}
	l.fillAlone(open)
}

func (l *loading) lookup(open []*wantedFragment, renew bool) (*answers, error) {
	return l.ask(open, ask{fresh: l.fresh, renew: renew})
}

// ask asks for fragments, unless Gerastic did not answer of late.
func (l *loading) ask(open []*wantedFragment, how ask) (*answers, error) {
	if !l.breaker.closed(time.Now()) {
		return nil, errResting
	}
	keys := make([]string, len(open))
	for i, p := range open {
		keys[i] = p.key
	}
	had, have := l.atHand.of(keys)
	how.have = have
	a, err := l.wire.lookup(l.ctx, keys, how)
	if err != nil && l.ctx.Err() != nil {
		for _, p := range open {
			p.err = l.ctx.Err()
		}
		return nil, err
	}
	l.breaker.heard(err, time.Now())
	if err != nil {
		l.warn("fragments are made without Gerastic", err)
		return a, err
	}
	if !how.renew {
		l.atHand.saw(keys, a.stamp)
	}
	for i := range a.items {
		if found := &a.items[i]; found.same {
			found.Body, found.Coding = had[i].body, ""
		}
	}
	return a, err
}

// use takes what was found; false: it cannot be read.
func (l *loading) use(p *wantedFragment, a *answer, from *answers, waited bool) bool {
	body, err := plain(a)
	if err != nil { // whoever stored it did not do what they said
		l.warn("a fragment cannot be unpacked: "+p.key, err)
		return false
	}
	if p.body = body; a.Type == nothingType {
		p.body = nil
	} else if a.ETag != "" && !a.same {
		l.atHand.put(p.key, a.ETag, body)
	}
	now := from.at
	c := contents{tags: a.Tags, stamp: from.stamp, until: now.Add(time.Duration(a.Left * float64(time.Second)))}
	if a.Left > Forever.Seconds()/2 {
		c.until = time.Time{}
	}
	l.has(p, from.namespace, c, a.State == "stale")
	found := Reused
	switch {
	case a.State == "stale":
		found = ReusedStale
	case waited || a.Waited:
		found = Waited
	}
	l.ended(p, from.namespace, found, now.Sub(l.began), time.Duration(a.Age*float64(time.Second)))
	if a.Lease != "" {
		l.fillBehind(p, a.Lease)
	}
	return true
}

// has puts a fragment into the page, and keeps it at hand there.
func (l *loading) has(p *wantedFragment, namespace string, c contents, stale bool) {
	if l.page == nil || p.key == "" {
		return
	}
	l.page.hold(namespace+"/"+p.key, c)
	l.report.keep(p.key, &knownFragment{body: p.body, contents: c, stale: stale, ordered: l.ordered.Load()})
}

// again uses what the page has of a fragment already; nothing stale goes into a fragment.
func (l *loading) again(p *wantedFragment) bool {
	known := l.report.known(p.key, l.ordered.Load())
	if known == nil || !known.until.IsZero() && !time.Now().Before(known.until) || known.stale && l.fresh {
		return false
	}
	p.body = known.body
	l.page.hold(l.wire.namespace()+"/"+p.key, known.contents)
	l.ended(p, l.wire.namespace(), Reused, 0, 0)
	return true
}

func (l *loading) ended(p *wantedFragment, namespace string, found Found, took, age time.Duration) {
	l.counts[found].Add(1)
	p.found, p.done = found, true
	if l.report == nil || p.key == "" {
		return
	}
	l.report.ended(p.item, namespace+"/"+p.key, found, took, age)
}

// fillMine fills the fragments that there are leases for, and stores them in one call.
func (l *loading) fillMine(mine []*wantedFragment, from *answers) {
	if len(mine) == 0 {
		return
	}
	l.sideBySide(mine, func(p *wantedFragment) { l.make(l.ctx, p) })
	l.store(l.ctx, mine)
	for _, p := range mine {
		if p.err == nil {
			l.take(p, from, Filled)
		}
	}
}

// take hands on what a fill brought.
func (l *loading) take(p *wantedFragment, from *answers, found Found) {
	p.body = p.made.body
	c := contents{tags: slices.Concat(l.options.Tags, p.Tags, p.made.page.tags), until: p.made.until, stamp: from.stamp}
	if p.made.page.hasFragments {
		c.stamp = min(c.stamp, p.made.page.stamp)
	}
	l.has(p, from.namespace, c, false)
	l.ended(p, from.namespace, found, p.made.took, 0)
}

// sideBySide runs so many at a time; a single one in the caller's own goroutine.
func (l *loading) sideBySide(all []*wantedFragment, do func(*wantedFragment)) {
	if len(all) == 1 {
		do(all[0])
		return
	}
	var running sync.WaitGroup
	places := make(chan struct{}, l.options.Parallel)
	for _, p := range all {
		places <- struct{}{}
		running.Go(func() {
			defer func() { <-places }()
			do(p)
		})
	}
	running.Wait()
}

// make runs the fill of a fragment.
func (l *loading) make(ctx context.Context, p *wantedFragment) {
	m := &made{page: &page{fragment: true, report: l.report, depth: l.depth}}
	p.made = m
	began := time.Now()
	defer func() {
		if m.broken = recover(); m.broken != nil {
			p.err = fmt.Errorf("the fill of %s panicked: %v", p.key, m.broken)
		}
	}()
	body, err := l.fill(withPage(ctx, m.page), p.at)
	if m.nothing = errors.Is(err, ErrNothing); m.nothing {
		body, err = nil, nil
	}
	if err != nil {
		p.err = fmt.Errorf("filling %s: %w", p.key, err)
		return
	}
	now := time.Now()
	m.body, m.took, m.until = body, now.Sub(began), m.page.until
	life := cmp.Or(p.Lifetime, l.options.Lifetime)
	if m.nothing && p.Nothing > 0 {
		life = p.Nothing
	}
	if end := now.Add(life); life < Forever && (m.until.IsZero() || end.Before(m.until)) {
		m.until = end
	}
}

// store offers what was made, and gives the leases of what was not back. What is not taken
// is used all the same, this once: the page that it goes into is refused for the same reason.
func (l *loading) store(ctx context.Context, mine []*wantedFragment) (stored int) {
	offers := make([]offer, 0, len(mine))
	now := time.Now()
	for _, p := range mine {
		o := offer{key: p.key, lease: p.lease}
		life := Forever
		if p.err == nil && !p.made.until.IsZero() {
			life = p.made.until.Sub(now)
		}
		nothing := p.err == nil && p.made.nothing
		if p.err != nil || life <= 0 && p.Stale <= 0 || nothing && p.Nothing <= 0 { // what is in it ended meanwhile
			o.failed = true
		} else {
			o.body, o.kind, o.life, o.stale, o.cost = p.made.body, p.mediaType(), life, p.Stale, p.made.took
			if nothing {
				o.kind = nothingType
			}
			o.tags = slices.Concat(l.options.Tags, p.Tags, p.made.page.tags)
			o.parts, o.work = p.made.page.parts, p.made.page.worked()
			o.direct, o.since = l.direct, l.since
		}
		offers = append(offers, o)
	}
	became, err := l.wire.store(context.WithoutCancel(ctx), offers, 4*l.options.Timeout)
	l.breaker.heard(err, time.Now())
	if err != nil {
		l.warn("fragments could not be stored", err)
		return 0
	}
	for i := range became {
		switch why := became[i].Why; {
		case offers[i].failed:
		case why == "":
			stored++
		default:
			l.refused.Add(1)
			if became[i].Refused != protocol.Overtaken { // which is as it should be
				l.warn("the fragment "+mine[i].Name+" cannot be stored", errors.New(why))
			} else if l.options.Log.Enabled(ctx, slog.LevelDebug) {
				l.options.Log.Debug("a fragment was not taken", "key", offers[i].key, "why", why)
			}
		}
	}
	return stored
}

// fillBehind fills what was used stale. It is not part of the page.
func (l *loading) fillBehind(p *wantedFragment, lease string) {
	behind := &loading{Fragments: l.Fragments, fill: l.fill}
	wanted := *p.Fragment // the caller may change theirs
	again := &wantedFragment{Fragment: &wanted, at: p.at, key: p.key, lease: lease}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(l.ctx), l.options.Lease)
	l.behind.Go(func() {
		defer cancel()
		behind.ctx = ctx
		behind.make(ctx, again)
		if again.err != nil {
			l.warn("a fragment could not be made anew behind a visitor", again.err)
		} else {
			behind.counts[Filled].Add(1)
		}
		behind.store(ctx, []*wantedFragment{again})
	})
}

// fillAlone fills without storing. In each process one at a time fills a key: those who come
// while it does get what the next one makes, which is not older than their asking.
func (l *loading) fillAlone(open []*wantedFragment) {
	l.sideBySide(open, func(p *wantedFragment) {
		if p.err != nil {
			return
		}
		p.made, p.err = l.alone.do(p.key, func() (*made, error) {
			l.make(context.WithoutCancel(l.ctx), p)
			return p.made, p.err
		})
		if p.err == nil {
			// It was made after it was asked for: no purge that a page of it knows is missing.
			l.take(p, &answers{namespace: l.wire.namespace(), stamp: notDated}, Alone)
		}
	})
}
