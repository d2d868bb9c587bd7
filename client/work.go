package client

import (
	"context"
	"maps"
)

// Did counts what it took to make what is being made for ctx, such as a query and its rows: it stays
// with the page or fragment, so that whoever is given that is known to have saved it. Fragments count
// their own work, and not that of the fragments in them.
func Did(ctx context.Context, kind string, amount float64) {
	p := pageOf(ctx)
	if p == nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.parent != nil { // a part of a page is not stored by itself
		defer Did(withPage(ctx, p.parent), kind, amount)
	}
	if p.work == nil {
		p.work = map[string]float64{}
	}
	p.work[kind] += amount
}

// worked is what a page, or a fragment, took to make.
func (p *page) worked() map[string]float64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	return maps.Clone(p.work)
}
