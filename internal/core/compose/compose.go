package compose

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"
)

// Digest tells contents apart.
type Digest = [sha256.Size]byte

// Source is where includes come from.
type Source interface {
	// Now returns an include that is at hand, with the digest of its content.
	Now(url string) (body []byte, digest Digest, ok bool)
	// Fetch gets an include that is not.
	Fetch(ctx context.Context, url string) (body []byte, err error)
}

// Parallel is how many includes of a page are fetched at a time.
const Parallel = 8

// Composition is a page being composed for one visitor.
type Composition struct {
	steps  []step
	ready  bool // every include was at hand
	source Source
	budget *Budget
	ctx    context.Context
	digest Digest // of the content, when all is ready
	size   int64
	failed error         // of what is not in an include; the page cannot be made
	places chan struct{} // taken by fetches
	going  sync.WaitGroup
}

// step is a part of the composed page: a text, an include, or an attempt.
type step struct {
	text    []byte
	include *included
	try     *attempt
}

// included is an include that is being got.
type included struct {
	Include  // with variables filled in
	body     []byte
	digest   Digest // of what was at hand
	err      error
	done     chan struct{} // nil: it is there
	required bool          // the page fails with it
}

// attempt is a try on its way: the steps of both branches; those of the second have not begun.
type attempt struct {
	steps  []step
	except []node
}

// Begin decides what the page is made of for a visitor, and begins to get its includes.
// skeleton is the digest of the skeleton's body; what is held comes out of the budget.
func (p *Page) Begin(ctx context.Context, who *Visitor, source Source, skeleton Digest, budget *Budget) *Composition {
	c := &Composition{source: source, budget: budget, ctx: ctx, ready: true}
	hash := sha256.New()
	hash.Write(skeleton[:])
	c.steps = c.resolve(make([]step, 0, len(p.nodes)+4), p.nodes, who, true, func(kind byte, b []byte) {
		var head [9]byte
		head[0] = kind
		binary.BigEndian.PutUint64(head[1:], uint64(len(b)))
		hash.Write(head[:])
		hash.Write(b)
	})
	if c.ready {
		hash.Sum(c.digest[:0])
	}
	return c
}

// resolve turns nodes into steps. covers is told of all that the content hangs on besides the
// skeleton: which branches were taken, what variables said, what the includes are.
func (c *Composition) resolve(steps []step, nodes []node, who *Visitor, required bool, covers func(kind byte, b []byte)) []step {
	for i := range nodes {
		switch n := &nodes[i]; {
		case n.include != nil:
			steps = append(steps, step{include: c.get(n.include, who, required, covers)})
		case n.try != nil:
			a := &attempt{steps: c.resolve(nil, n.try.attempt, who, false, covers), except: n.try.except}
			if failed(a.steps) {
				covers('x', nil)
				steps = c.resolve(steps, a.except, who, required, covers)
				break
			}
			steps = append(steps, step{try: a})
		case n.choose != nil:
			taken := n.choose.otherwise
			which := len(n.choose.whens)
			for i := range n.choose.whens {
				if n.choose.whens[i].test.holds(who) {
					taken, which = n.choose.whens[i].then, i
					break
				}
			}
			covers('c', binary.BigEndian.AppendUint64(nil, uint64(which)))
			steps = c.resolve(steps, taken, who, required, covers)
		case n.vars:
			text, err := expand(string(n.text), who, inText, c.budget)
			if err != nil {
				c.failed = err // parsing found no mistake, so that it is too much
				return steps
			}
			covers('v', text)
			c.size += int64(len(text))
			steps = append(steps, step{text: text})
		default:
			c.size += int64(len(n.text))
			steps = append(steps, step{text: n.text})
		}
	}
	return steps
}

// get takes an include that is at hand, or begins to fetch it.
func (c *Composition) get(in *Include, who *Visitor, required bool, covers func(kind byte, b []byte)) *included {
	p := &included{Include: *in, required: required && !in.Optional}
	var err, err2 error
	p.Source, err = expandURL(in.Source, who, c.budget)
	p.Other, err2 = expandURL(in.Other, who, c.budget)
	if p.err = errors.Join(err, err2, c.budget.Include()); p.err == nil && max(len(p.Source), len(p.Other)) > MaxURL {
		p.err = ErrLongURL
	}
	if p.err != nil {
		covers('e', nil)
		return p
	}
	var atHand bool
	if p.body, p.digest, atHand = c.source.Now(p.Source); atHand {
		c.size += int64(len(p.body))
		covers('p', p.digest[:])
		return p
	}
	c.ready = false
	c.start(p)
	return p
}

// start fetches an include, and what stands for it if that fails.
func (c *Composition) start(p *included) {
	if c.places == nil {
		c.places = make(chan struct{}, Parallel)
	}
	p.done = make(chan struct{})
	c.going.Go(func() {
		defer close(p.done)
		select {
		case c.places <- struct{}{}:
			defer func() { <-c.places }()
		case <-c.ctx.Done():
			p.err = context.Cause(c.ctx)
			return
		}
		if p.body, p.err = c.source.Fetch(c.ctx, p.Source); p.err != nil && p.Other != "" {
			if body, err := c.source.Fetch(c.ctx, p.Other); err == nil {
				p.body, p.err = body, nil
			}
		}
	})
}

// Wait returns when nothing is being fetched any more.
func (c *Composition) Wait() { c.going.Wait() }

// wait returns when the include is there, or is not to be had.
func (p *included) wait() error {
	if p.done != nil {
		<-p.done
	}
	return p.err
}

// failed reports whether some step of an attempt is known to have failed already.
func failed(steps []step) bool {
	for i := range steps {
		if p := steps[i].include; p != nil && p.done == nil && p.err != nil && !p.Optional {
			return true
		}
	}
	return false
}

// Settle waits for the includes, but for no longer than a moment, and reports whether all of
// them are there, or known not to be had.
func (c *Composition) Settle(moment time.Duration) bool {
	if c.ready {
		return true
	}
	timer := time.NewTimer(moment)
	defer timer.Stop()
	return settle(c.steps, timer.C)
}

func settle(steps []step, enough <-chan time.Time) bool {
	for i := range steps {
		if p := steps[i].include; p != nil && p.done != nil {
			select {
			case <-p.done:
			case <-enough:
				return false
			}
		}
		if t := steps[i].try; t != nil && (!settle(t.steps, enough) || slices.ContainsFunc(t.steps, func(s step) bool { return s.include != nil && !s.include.Optional && s.include.err != nil })) {
			return false // or its other branch is yet to be fetched
		}
	}
	return true
}

// Ready reports whether all includes were at hand, so that Body and Digest say all.
func (c *Composition) Ready() bool { return c.ready }

// Digest tells this content from any other; it is known when all includes were at hand.
func (c *Composition) Digest() Digest { return c.digest }

// Body returns the whole page of a composition that is Ready.
func (c *Composition) Body() ([]byte, error) {
	if c.size > MaxSize {
		return nil, ErrTooLarge
	}
	if err := c.budget.Spend(c.size); err != nil {
		return nil, err
	}
	steps := c.steps
	c.steps = nil // it was copied, so that the includes need not be held while the page is sent
	return join(make([]byte, 0, c.size), steps)
}

// join puts steps together whose includes are all there.
func join(b []byte, steps []step) (_ []byte, err error) {
	for i := range steps {
		switch s := &steps[i]; {
		case s.include != nil:
			if err := s.include.wait(); err != nil && !s.include.Optional {
				return b, err
			} else if err == nil {
				b = append(b, s.include.body...)
			}
		case s.try != nil:
			if b, err = join(b, s.try.steps); err != nil {
				return b, err
			}
		default:
			b = append(b, s.text...)
		}
		if len(b) > MaxSize {
			return b, ErrTooLarge
		}
	}
	return b, nil
}

// Required waits for the includes without which there is no page, and returns why it cannot be
// made, if so: before anything of it has gone out.
func (c *Composition) Required() error {
	if c.failed != nil {
		return c.failed
	}
	for i := range c.steps {
		if p := c.steps[i].include; p != nil && p.required {
			if err := p.wait(); err != nil {
				return fmt.Errorf("%.200s: %w", p.Source, err)
			}
		}
	}
	return nil
}

// Write writes the page as its includes come; before it waits for one, it calls flush. What it
// returns is an error of write, or that the page grew too large: it is not whole then.
func (c *Composition) Write(who *Visitor, write func([]byte) error, flush func()) error {
	if err := c.budget.Spend(c.size); err != nil {
		return err
	}
	w := &writer{Composition: c, who: who, write: write, flush: flush}
	return w.steps(c.steps)
}

type writer struct {
	*Composition
	who     *Visitor
	write   func([]byte) error
	flush   func()
	written int64
}

func (w *writer) out(b []byte) error {
	if w.written += int64(len(b)); w.written > MaxSize {
		return ErrTooLarge
	}
	if len(b) == 0 {
		return nil
	}
	return w.write(b)
}

func (w *writer) steps(steps []step) error {
	for i := range steps {
		var err error
		switch s := &steps[i]; {
		case s.include != nil:
			w.patient(s.include)
			if s.include.wait() == nil {
				err = w.out(s.include.body)
			} else if !s.include.Optional {
				err = s.include.err // Required was not asked, or a branch came to need it
			}
		case s.try != nil:
			err = w.attempt(s.try)
		default:
			err = w.out(s.text)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// patient sends what there is before it waits.
func (w *writer) patient(p *included) {
	if p.done == nil {
		return
	}
	select {
	case <-p.done:
	default:
		w.flush()
		<-p.done
	}
}

// attempt writes a branch whole or not at all; if it fails, the other one stands for it.
func (w *writer) attempt(a *attempt) error {
	waitAll(a.steps, w.patient)
	body, err := w.branch(a.steps)
	if err == nil {
		return w.out(body)
	}
	if errors.Is(err, ErrTooLarge) || errors.Is(err, ErrNoRoom) {
		return err
	}
	other := w.resolve(nil, a.except, w.who, false, func(byte, []byte) {})
	if w.failed != nil {
		return w.failed
	}
	waitAll(other, w.patient)
	if body, err = w.branch(other); err != nil {
		return w.out(nil) // both failed: ESI leaves it to the page around; it goes on without
	}
	return w.out(body)
}

// branch puts the steps of a branch together; attempts in it may fall back on their own.
func (w *writer) branch(steps []step) ([]byte, error) {
	var b []byte
	inner := &writer{Composition: w.Composition, who: w.who, flush: w.flush, written: w.written, write: func(more []byte) error {
		b = append(b, more...)
		return w.budget.Spend(int64(len(more)))
	}}
	err := inner.steps(steps)
	return b, err
}

func waitAll(steps []step, wait func(*included)) {
	for i := range steps {
		if p := steps[i].include; p != nil {
			wait(p)
		}
		if t := steps[i].try; t != nil {
			waitAll(t.steps, wait)
		}
	}
}
