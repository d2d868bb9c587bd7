package control

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/prime"
	"gerastic/internal/records"
)

type (
	primeID struct {
		ID string `path:"id" maxLength:"32"`
	}
	primeReport struct{ Body client.Prime }
)

func (c *Control) primeCalls() {
	start := operation("prime", http.MethodPost, "/v1/primes", "Fill the store before visitors ask", records.Purging)
	start.DefaultStatus = http.StatusAccepted
	huma.Register(c.api, start, func(_ context.Context, in *struct{ Body client.PrimeRequest }) (*primeReport, error) {
		order, err := primeOrder(in.Body)
		if err == nil {
			err = c.checkPrimedRoutes(order.Routes)
		}
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		report, err := c.node.Primes().Start(order)
		if errors.Is(err, prime.ErrBusy) {
			return nil, huma.Error409Conflict(err.Error())
		} else if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		return &primeReport{primeOut(report)}, nil
	})
	huma.Register(c.api, operation("list-primes", http.MethodGet, "/v1/primes", "What was primed since the node's start, the newest first", records.Read),
		func(context.Context, *struct{}) (*struct{ Body client.PrimeList }, error) {
			out := &struct{ Body client.PrimeList }{client.PrimeList{Primes: []client.Prime{}}}
			for _, report := range c.node.Primes().Jobs() {
				out.Body.Primes = append(out.Body.Primes, primeOut(report))
			}
			return out, nil
		})
	huma.Register(c.api, operation("get-prime", http.MethodGet, "/v1/primes/{id}", "How far it has come", records.Read),
		func(_ context.Context, in *primeID) (*primeReport, error) {
			return primeFound(c.node.Primes().Job(in.ID))
		})
	huma.Register(c.api, operation("stop-prime", http.MethodDelete, "/v1/primes/{id}", "Stop it; what it has filled stays", records.Purging),
		func(_ context.Context, in *primeID) (*primeReport, error) {
			return primeFound(c.node.Primes().Stop(in.ID))
		})
}

func primeFound(report prime.Report, ok bool) (*primeReport, error) {
	if !ok {
		return nil, huma.Error404NotFound("this node knows of no prime with this id; gerastic prime status lists them")
	}
	return &primeReport{primeOut(report)}, nil
}

// checkPrimedRoutes finds routes that the policy does not have.
func (c *Control) checkPrimedRoutes(names []string) error {
	inForce := c.edge.Policy()
	if inForce == nil {
		return errors.New("there is no policy yet, so that nothing can be stored")
	}
	return inForce.CheckNames(names, nil)
}

func primeOrder(in client.PrimeRequest) (o prime.Order, err error) {
	o = prime.Order{URLs: in.URLs, Sitemap: in.Sitemap, Previous: in.Previous, Routes: in.Routes, OnlyMissing: in.OnlyMissing == nil || *in.OnlyMissing, Limit: in.Limit, Headers: http.Header{}}
	for name, value := range in.Headers {
		o.Headers.Set(name, value)
	}
	o.Pace, err = prime.ParsePace(in.Pace)
	return o, err
}

func primeOut(r prime.Report) client.Prime {
	out := client.Prime{
		ID: r.ID, State: string(r.State), Began: r.Began, Wanted: r.Wanted, Done: r.Done, Filled: r.Filled, Fresh: r.Fresh, Failed: r.FailedCount, Skipped: r.Skipped,
		Errors: []client.PrimeError{},
	}
	if r.PerSecond > 0 {
		out.PacePerS = &r.PerSecond
	}
	if left, ok := r.Left(); ok {
		seconds := left.Seconds()
		out.LeftS = &seconds
	}
	for _, p := range r.Problems {
		out.Errors = append(out.Errors, client.PrimeError{URL: p.URL, Status: p.Status, Error: p.Error})
	}
	return out
}
