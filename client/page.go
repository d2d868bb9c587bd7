package client

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"gerastic.example/client/protocol"
)

// page collects what is known of a page, or a part of one, while it is made: its tags, how
// long what is in it lives, and which fragments that was.
type page struct {
	mu           sync.Mutex
	tags         []string
	until        time.Time // end of the shortest life in it; zero: none ends
	stamp        uint64    // lowest ledger sequence that what is in it was found at
	hasFragments bool      // there are fragments in it, so that until and stamp say something
	parts        []string  // namespace/key of the fragments in it, without those in them
	work         map[string]float64
	sent         bool
	parent       *page // what it is part of, as Part made it

	fragment bool    // it is stored itself, so that nothing stale may go into it
	report   *report // of the request
	depth    int     // 0 for the page, 1 for the fragments in it, and so on
}

type pageKey struct{}

func pageOf(ctx context.Context) *page {
	p, _ := ctx.Value(pageKey{}).(*page)
	return p
}

func withPage(ctx context.Context, p *page) context.Context {
	return context.WithValue(ctx, pageKey{}, p)
}

// writeTo writes what the edge is to know of the page into its header.
func (p *page) writeTo(h http.Header) {
	items := p.report.list()
	if work := protocol.FormatWork(p.worked()); work != "" {
		h.Set(protocol.WorkField, work)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.sent = true
	if len(p.tags) > 0 {
		h.Add("Cache-Groups", protocol.FormatGroups(p.tags))
	}
	if p.hasFragments {
		h.Set(protocol.LifeField, p.life(time.Now()).String())
	}
	if len(items) > 0 {
		h.Set(protocol.PartsField, protocol.FormatParts(partsOf(items)))
		h.Add("Server-Timing", serverTiming(items))
	}
}

// add notes tags here and in all that this is part of; it returns false when that comes too late.
func (p *page) add(tags []string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, tag := range tags {
		if !slices.Contains(p.tags, tag) {
			p.tags = append(p.tags, tag)
		}
	}
	inTime := !p.sent
	if p.parent != nil {
		return p.parent.add(tags) && inTime
	}
	return inTime
}

// contents are what a fragment hands to what it is part of.
type contents struct {
	tags  []string
	until time.Time // zero: for ever
	stamp uint64
}

// hold takes a fragment's contents over.
func (p *page) hold(name string, c contents) {
	for ; p != nil; p = p.parent {
		p.mu.Lock()
		for _, tag := range c.tags {
			if !slices.Contains(p.tags, tag) {
				p.tags = append(p.tags, tag)
			}
		}
		if !c.until.IsZero() && (p.until.IsZero() || c.until.Before(p.until)) {
			p.until = c.until
		}
		if !p.hasFragments || c.stamp < p.stamp {
			p.stamp = c.stamp
		}
		p.hasFragments = true
		if !slices.Contains(p.parts, name) {
			p.parts = append(p.parts, name)
		}
		p.mu.Unlock()
	}
}

// Found is what became of a fragment in a request.
type Found uint8

// Reused: it was there. ReusedStale: it was there, and is filled anew behind. Waited:
// somebody else filled it meanwhile. Filled: it was made here. Alone: it was made here and is
// not shared, since Gerastic could not be reached or somebody else did not come to an end.
const (
	Reused Found = iota
	ReusedStale
	Waited
	Filled
	Alone
)

// String is the word in reports.
func (f Found) String() string {
	return [...]string{"reused", "stale", "waited", "filled", "alone"}[f]
}

// ReportItem is a fragment that a request asked for.
type ReportItem struct {
	Key   string // namespace/key
	Found Found
	Took  time.Duration // until it was there
	Age   time.Duration // of what was reused
	Depth int           // 1 for those of the page itself, 2 for those in them
}

// report collects them, in the order in which they were asked for.
type report struct {
	mu    sync.Mutex
	items []*ReportItem
	more  int // that were not kept
	has   map[string]*knownFragment
}

// knownFragment is what a page has of a fragment already.
type knownFragment struct {
	body []byte
	contents
	stale   bool
	ordered int64 // how many purges the client had ordered then
}

// mostKnown is how many fragments a page has at hand.
const mostKnown = 1000

// keep has a fragment at hand for the rest of the page.
func (r *report) keep(key string, f *knownFragment) {
	if r == nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.has == nil {
		r.has = map[string]*knownFragment{}
	}
	if len(r.has) < mostKnown {
		r.has[key] = f
	}
}

// known is what the page has of a fragment since the last of so many purges was ordered; nil: nothing.
func (r *report) known(key string, ordered int64) *knownFragment {
	if r == nil {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if f := r.has[key]; f != nil && f.ordered == ordered {
		return f
	}
	return nil
}

// forget says that a fragment is not what it was.
func (r *report) forget(key string) {
	if r != nil {
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.has, key)
	}
}

// maxReport is how many fragments of a request are told apart in its report.
const maxReport = 500

func (r *report) begin(depth int) *ReportItem {
	if r == nil {
		return nil
	}
	item := &ReportItem{Depth: depth}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.items) >= maxReport {
		r.more++
		return item
	}
	r.items = append(r.items, item)
	return item
}

// ended sets an item. Reports are read while fills behind visitors may still go on.
func (r *report) ended(item *ReportItem, key string, found Found, took, age time.Duration) {
	r.mu.Lock()
	defer r.mu.Unlock()
	item.Key, item.Found, item.Took, item.Age = key, found, took, age
}

// Report returns the fragments that the request of ctx has asked for so far.
func Report(ctx context.Context) []ReportItem {
	if p := pageOf(ctx); p != nil {
		return p.report.list()
	}
	return nil
}

func (r *report) list() []ReportItem {
	if r == nil {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	var items []ReportItem
	for _, item := range r.items {
		if item.Key != "" { // else its fill failed, or goes on
			items = append(items, *item)
		}
	}
	return items
}

// serverTiming sums a report up as a Server-Timing metric: how many fragments were found,
// how many made, and how long the request took with them.
func serverTiming(items []ReportItem) string {
	var counts [Alone + 1]int
	var longest time.Duration
	for _, item := range items {
		counts[item.Found]++
		if item.Depth == 1 {
			longest = max(longest, item.Took)
		}
	}
	var words []string
	for found, n := range counts {
		if n > 0 {
			words = append(words, fmt.Sprintf("%d %s", n, Found(found)))
		}
	}
	return fmt.Sprintf(`fragments;desc="%s";dur=%s`, strings.Join(words, ", "), strconv.FormatFloat(float64(longest.Microseconds())/1000, 'f', 1, 64))
}

// life is how long what is in the page still lives, and as of when it was found.
func (p *page) life(now time.Time) protocol.Life {
	life := protocol.Life{Left: Forever, AsOf: p.stamp, Dated: p.stamp != notDated}
	if !p.until.IsZero() {
		life.Left = max(0, p.until.Sub(now))
	}
	return life
}

// partsOf are the items as the edge is told of them.
func partsOf(items []ReportItem) []protocol.Part {
	parts := make([]protocol.Part, len(items))
	for i, item := range items {
		parts[i] = protocol.Part{Name: item.Key, Found: item.Found.String(), Depth: item.Depth, Took: item.Took, Age: -1}
		if item.Found <= ReusedStale {
			parts[i].Age = item.Age
		}
	}
	return parts
}
