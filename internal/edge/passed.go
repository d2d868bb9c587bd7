package edge

import (
	"io"
	"net/http"

	"gerastic/internal/origin"
)

// passed is an answer on its way to one visitor. It is read ahead, so that one that is short
// does not hold its connection until the visitor has read it; what is longer goes at their
// pace, for which there are only so many places.
type passed struct {
	edge    *Edge
	client  *origin.Client
	release func() // of the place; nil: it has none
}

// slow takes a place for what goes at the visitor's pace; false if there is none.
func (p *passed) slow() bool {
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
func (p *passed) take(resp *http.Response, unsafe bool) error {
	if resp.StatusCode == http.StatusSwitchingProtocols || resp.Body == nil || resp.Body == http.NoBody || resp.ContentLength >= 0 && resp.ContentLength <= firstAhead {
		return nil // what is so short is read at once, and written without waiting
	}
	body := &readAhead{ahead: newAhead(resp.Body.Read, resp.ContentLength, p.edge.Store.Borrow, p.edge.Store.Return), source: resp.Body}
	resp.Body = body
	if !p.edge.run(func() {
		body.run()
		body.source.Close()
	}) {
		close(body.done)
		return errEnding
	}
	if body.settle(resp.Request.Context(), headDelay) || p.release != nil {
		return nil
	}
	release, err := p.client.AtVisitorsPace()
	switch {
	case err == nil:
		p.release = release
		body.whenEnded(release) // what is read ahead by then needs no connection
	case unsafe:
		body.hold(maxHeld)
		return nil
	}
	return err
}

// readAhead is an answer's body that is read ahead.
type readAhead struct {
	*ahead
	source io.Closer
}

// Close implements io.Closer.
func (b *readAhead) Close() error {
	b.end(func() { b.source.Close() })
	return nil
}
