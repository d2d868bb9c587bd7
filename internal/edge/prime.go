package edge

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"gerastic/internal/core/decide"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
)

// Priming is how something is asked for before visitors do.
type Priming struct {
	Routes      []string // only of these; none: of any
	OnlyMissing bool     // what is fresh is left as it is
}

// PrimeOutcome is what became of it.
type PrimeOutcome uint8

// PrimeFailed: there was no answer, or one of failure. PrimeFilled: it was asked for and is stored now.
// PrimeFresh: it was there. PrimeSkipped: it is of another route, or not for the store.
const (
	PrimeFailed PrimeOutcome = iota
	PrimeFilled
	PrimeFresh
	PrimeSkipped
)

// Primed is the outcome, with the answer's status and the reason, where there are some.
type Primed struct {
	Outcome PrimeOutcome
	Status  int
	Why     string
}

// Prime asks for something as a visitor would. It counts as no request of a visitor's.
func (e *Edge) Prime(ctx context.Context, r *http.Request, how Priming) (p Primed) {
	w := &keepingWriter{header: http.Header{}}
	defer func() {
		if recover() != nil {
			p = Primed{PrimeFailed, w.status, "the answer broke off"}
		}
	}()
	x := e.exchanges.Get().(*exchange)
	defer x.end()
	x.begin(w, r.WithContext(ctx))
	x.primes, x.req.Scheme = true, r.URL.Scheme
	if x.inForce == nil {
		return Primed{Why: "there is no policy yet"}
	}
	x.match()
	switch {
	case x.route == nil || !x.in.Enabled || x.takesBody():
		return Primed{Outcome: PrimeSkipped, Why: "no route that is on stores it"}
	case len(how.Routes) > 0 && !slices.Contains(how.Routes, x.route.Name):
		return Primed{Outcome: PrimeSkipped, Why: "it is of the route " + x.route.Name}
	}
	x.sample.Route = x.route.Name
	d := x.look()
	switch d.Action {
	case decide.Bypass, decide.Refuse:
		return Primed{Outcome: PrimeSkipped, Why: "it passes through: " + d.Cause.String()}
	case decide.Serve, decide.ServeAndRefresh:
		if how.OnlyMissing {
			x.sample.Outcome = meter.Hit
			return Primed{Outcome: PrimeFresh, Status: x.in.Entry.Status}
		}
		x.lookNear()
		d = decide.Decision{Action: decide.Validate, Cause: meter.Asked, Forward: httprules.ForwardRequest}
	}
	x.carryOut(d)
	return x.primed(w.status)
}

// primed is what became of what was asked for.
func (x *exchange) primed(status int) Primed {
	switch {
	case x.sample.Outcome == meter.Hit:
		return Primed{Outcome: PrimeFresh, Status: status}
	case x.sample.Outcome == meter.Stale:
		return Primed{PrimeFailed, status, "its origin fails, and what is stored is stale"}
	case status == 0 || status >= 400:
		return Primed{PrimeFailed, status, http.StatusText(status)}
	case x.sample.Outcome == meter.Bypass || x.sample.Cause.ForbidsStoring():
		return Primed{PrimeSkipped, status, "its answer is not stored: " + x.sample.Cause.String()}
	}
	return Primed{Outcome: PrimeFilled, Status: status}
}

// Read returns the body of an answer of at most so many bytes. It counts as no request of a visitor's.
func (e *Edge) Read(ctx context.Context, r *http.Request, most int) (body []byte, err error) {
	w := &keepingWriter{header: http.Header{}, most: most}
	defer func() {
		if recover() != nil {
			err = errors.New("the answer broke off")
		}
	}()
	x := e.exchanges.Get().(*exchange)
	defer x.end()
	x.begin(w, r.WithContext(ctx))
	x.primes, x.req.Scheme = true, r.URL.Scheme
	x.visit()
	switch {
	case w.status != http.StatusOK:
		return nil, fmt.Errorf("it was answered with status %d", w.status)
	case len(w.body) > most:
		return nil, fmt.Errorf("it is longer than %d bytes", most)
	}
	return w.body, nil
}

// keepingWriter keeps an answer for the program itself, as far as it is wanted.
type keepingWriter struct {
	header http.Header
	status int
	body   []byte
	most   int
}

func (w *keepingWriter) Header() http.Header { return w.header }

func (w *keepingWriter) WriteHeader(status int) {
	if status >= 200 && w.status == 0 {
		w.status = status
	}
}

func (w *keepingWriter) Write(p []byte) (int, error) {
	w.WriteHeader(http.StatusOK)
	if w.most > 0 && len(w.body) <= w.most {
		w.body = append(w.body, p...)
	}
	return len(p), nil
}
