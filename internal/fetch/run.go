package fetch

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"time"

	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
)

// Lead begins to carry out a fill, in a task of its own: a visitor who goes away ends nothing
// that others wait for or that is worth storing. Prepare must have been called.
func (f *Fetcher) Lead(flight *fill.Flight[*Head], o *Request) {
	flight.Expects(o.expected())
	if !f.Tasks.Go(func() { f.runFill(flight, o) }) {
		flight.End(errEnding)
	}
}

// AtHand ends a flight with what another one has stored meanwhile.
func (f *Fetcher) AtHand(flight *fill.Flight[*Head], e *store.Entry, query string) {
	flight.Leave()
	flight.Publish(fill.Head[*Head]{Value: atHand(e, query), Kept: true, Shared: true})
	flight.End(nil)
}

// runFill carries out a fill, and ends its flight.
func (f *Fetcher) runFill(flight *fill.Flight[*Head], o *Request) {
	ctx, cancel := context.WithCancelCause(f.Tasks.Life())
	defer cancel(nil)
	limit := time.AfterFunc(max(o.Way.Origin.Total, o.limit), func() {
		if flight.Headed() {
			flight.Discard() // it takes too long to be stored, but those who read it read on
		} else {
			cancel(context.DeadlineExceeded)
		}
	})
	defer limit.Stop()
	flight.OnLonely(func() { cancel(context.Canceled) })
	began := f.Now()
	a := &arrival{fetcher: f, flight: flight, request: o, began: began}
	err := f.fetchAnswer(ctx, a)
	if o.Behind {
		f.Meter.Record(f.Meter.Stripe(), &meter.Sample{Route: o.Route.Name, Outcome: meter.Behind, Origin: o.MadeRequest(), Waited: f.Now().Sub(began), Spent: a.work})
	}
	if err != nil && errors.Is(context.Cause(ctx), context.DeadlineExceeded) {
		err = context.DeadlineExceeded
	}
	flight.End(err)
}

// fetchAnswer asks the origin and takes its answer in; the error says that it is not whole.
func (f *Fetcher) fetchAnswer(ctx context.Context, a *arrival) error {
	o := a.request
	o.setValidators()
	resp, err := f.ask(passHints(ctx, a.flight), o)
	if err != nil {
		f.Log.Warn("the origin failed", "origin", o.Way.Origin.Name, "path", o.Visitor.Path, "error", err)
		return err
	}
	defer resp.Body.Close()
	f.sawRelease(o.Route, httprules.Header(resp.Header))
	f.invalidateGroups(o.out.Method, o.Visitor.Host, o.Visitor.Path, resp)
	if resp.StatusCode == http.StatusNotModified && !o.Conditional {
		f.renew(a, httprules.Header(resp.Header))
		return nil
	}
	return f.receive(ctx, a, resp)
}

// passHints passes interim answers on to those who wait (RFC 9110 §15.2).
func passHints(ctx context.Context, flight *fill.Flight[*Head]) context.Context {
	return httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{Got1xxResponse: func(code int, header textproto.MIMEHeader) error {
		if code != http.StatusContinue && code != http.StatusSwitchingProtocols {
			flight.Hint(&Head{Status: code, Header: httprules.Header(header).Clone()})
		}
		return nil
	}})
}
