package fetch

import (
	"io"
	"net/http"

	"gerastic/internal/origin"
	"gerastic/internal/readahead"
)

// passed is an answer on its way to one visitor. It is read ahead, so that one that is short
// does not hold its connection until the visitor has read it; what is longer goes at their
// pace, for which there are only so many places.
type passed struct {
	fetcher *Fetcher
	client  *origin.Client
	unsafe  bool   // what was asked for may have changed something
	release func() // of the place; nil: it has none
}

// takePlace takes a place for what goes at the visitor's pace; false if there is none.
func (p *passed) takePlace() bool {
	release, err := p.client.AtVisitorsPace()
	if err != nil {
		return false
	}
	p.release = release
	return true
}

func (p *passed) free() {
	if p.release != nil {
		p.release()
	}
}

// maxHeld is how much is kept of the answer to a request that may have changed something, in
// bytes, where there is no place for it: it was carried out, and must not be refused now.
const maxHeld = 8 << 20

// take reads the answer's body ahead. origin.ErrBusy: it would go at the visitor's pace, and
// there is no place.
func (p *passed) take(resp *http.Response) error {
	if resp.StatusCode == http.StatusSwitchingProtocols || resp.Body == nil || resp.Body == http.NoBody || resp.ContentLength >= 0 && resp.ContentLength <= readahead.First {
		return nil // what is so short is read at once, and written without waiting
	}
	body := &aheadBody{Reader: readahead.New(resp.Body.Read, resp.ContentLength, p.fetcher.Store.Borrow, p.fetcher.Store.Return), source: resp.Body}
	resp.Body = body
	if !p.fetcher.Tasks.Go(func() {
		body.Run()
		body.source.Close()
	}) {
		body.Never()
		return errEnding
	}
	if body.Settle(resp.Request.Context(), HeadDelay) || p.release != nil {
		return nil
	}
	release, err := p.client.AtVisitorsPace()
	switch {
	case err == nil:
		p.release = release
		body.WhenEnded(release) // what is read ahead by then needs no connection
	case p.unsafe:
		body.GoOn(maxHeld)
		return nil
	}
	return err
}

// aheadBody is an answer's body that is read ahead.
type aheadBody struct {
	*readahead.Reader
	source io.Closer
}

// Close implements io.Closer.
func (b *aheadBody) Close() error {
	b.End(func() { b.source.Close() })
	return nil
}
