package client

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/gzip"
)

// Fragments keeps the parts of pages that an application makes: found, or filled once for all who
// ask. Make one for the life of the application. Safe for concurrent use.
//
// When Gerastic cannot be reached, everything is filled as if it were not there.
type Fragments struct {
	options FragmentOptions
	wire    *wire
	breaker breaker
	alone   coalescer
	counts  [Alone + 1]atomic.Int64
	refused atomic.Int64
	behind  sync.WaitGroup
	atHand  atHand
	warned  warnings

	ordered *atomic.Int64 // purges that the client has ordered: what a page had at hand before one may be old

	checking checking
}

// FragmentOptions are how an application uses fragments; the zero value is ready.
type FragmentOptions struct {
	// Namespace is only needed with a token that is for no application.
	Namespace string
	// Timeout is how long Gerastic may take to answer before it is done without; 250 ms.
	Timeout time.Duration
	// Wait is how long to wait for a fragment that somebody else fills, before filling it,
	// too; 5 s.
	Wait time.Duration
	// Lease is how long a fill may take before somebody else may try; 30 s.
	Lease time.Duration
	// Off does without Gerastic: everything is filled, and nothing is asked. GERASTIC_FRAGMENTS=off says so, too.
	Off bool
	// Check is the share of found fragments that are filled, too, and compared, behind the caller; 1 in
	// development. A difference that no purge explains is logged, and becomes a finding.
	Check float64
	// Lifetime is that of fragments that say none, and Tags are those of all.
	Lifetime time.Duration
	Tags     []string
	// Keep is how many bytes of bodies the process keeps, so that the node need not send them again;
	// 16 MiB, negative for none.
	Keep int64
	// Parallel is how many fills LoadOrFillAll runs at a time; 8.
	Parallel int
	// Log takes warnings; slog.Default() if nil.
	Log *slog.Logger
}

// Fragments returns the client's fragments. The token needs the right fragments.
func (c *Client) Fragments(o FragmentOptions) *Fragments {
	o.Timeout = cmp.Or(o.Timeout, 250*time.Millisecond)
	o.Wait = cmp.Or(o.Wait, 5*time.Second)
	o.Lease = cmp.Or(o.Lease, 30*time.Second)
	o.Parallel = cmp.Or(o.Parallel, 8)
	if o.Log == nil {
		o.Log = slog.Default()
	}
	o.Off = o.Off || os.Getenv("GERASTIC_FRAGMENTS") == "off"
	o.Keep = cmp.Or(o.Keep, mostAtHand)
	return &Fragments{options: o, wire: newWire(c.base, c.token, o), atHand: atHand{most: o.Keep}, ordered: &c.ordered}
}

// Counts are what became of fragments since the start.
type Counts struct {
	Reused, Stale, Waited, Filled, Alone int64
	// Unreached is how often Gerastic did not answer in time, or was not asked because it
	// had not before; Refused how many fills it did not take (a purge was faster, mostly).
	Unreached, Refused int64
}

// Counts returns the counters.
func (s *Fragments) Counts() Counts {
	n := func(f Found) int64 { return s.counts[f].Load() }
	return Counts{Reused: n(Reused), Stale: n(ReusedStale), Waited: n(Waited), Filled: n(Filled), Alone: n(Alone), Unreached: s.breaker.failed.Load(), Refused: s.refused.Load()}
}

// Settle waits until the fills that go on behind visitors have ended: for tests, and before
// an application ends.
func (s *Fragments) Settle() { s.behind.Wait() }

// LoadOrFill returns a fragment: as it is stored, or as fill makes it, which is then stored
// for everyone. Of all processes that miss a fragment at once, one fills it and the others
// get what it made. While fill runs, the fragments that it asks for, and what it tags with
// Tag through its context, become part of this one: purging what they show purges it, and it
// lives no longer than they do.
//
// What may be used stale is returned at once, and filled behind the caller: fill then runs on
// after the caller has returned, in a context that is not cancelled with the caller's. An
// error of fill is returned and not stored; with ErrNothing nil is returned, and stored only if the
// Fragment has a life for that (Nothing). The bytes must not be changed. The error is that of fill or of
// ctx; a node that cannot be reached is none, nor is a Fragment that is not in order: it is filled here,
// without being stored, and the log says what is wrong.
func (s *Fragments) LoadOrFill(ctx context.Context, f Fragment, fill func(ctx context.Context) ([]byte, error)) ([]byte, error) {
	found, err := s.load(ctx, []Fragment{f}, false, fill, func(ctx context.Context, _ int) ([]byte, error) { return fill(ctx) })
	if err != nil {
		return nil, err
	}
	return found[0], nil
}

// LoadOrFillAll does the same for many fragments: one round trip finds them, those that are
// missing are filled side by side (FragmentOptions.Parallel), and one round trip stores them.
// The results stand in the order of all; the first error of a fill is returned, after the
// others have ended. Errors are those of LoadOrFill.
func (s *Fragments) LoadOrFillAll(ctx context.Context, all []Fragment, fill func(ctx context.Context, i int) ([]byte, error)) ([][]byte, error) {
	return s.load(ctx, all, false, fill, fill)
}

// ErrNothing is what a fill returns when there is nothing to show.
var ErrNothing = errors.New("nothing was found")

// nothingType is the media type of what a fill did not find.
const nothingType = "application/x-nothing"

// plain unpacks what was stored compressed.
func plain(a *answer) ([]byte, error) {
	if a.Coding == "" {
		return a.Body, nil
	}
	r, err := gzip.NewReader(bytes.NewReader(a.Body))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

// Drop removes a fragment on every node, whatever its state. The token needs the right
// fragments. StatusOf the error is 503 while the ledger cannot be written to.
func (s *Fragments) Drop(ctx context.Context, f Fragment) (PurgeResult, error) {
	key, err := f.Key()
	if err != nil {
		return PurgeResult{}, err
	}
	if p := pageOf(ctx); p != nil {
		p.report.forget(key)
	}
	return s.wire.client.DropFragment(ctx, s.options.Namespace, key)
}
