package client

import (
	"context"
	"net/url"
	"time"
)

// PrimeRequest says what is to be asked for before visitors do.
type PrimeRequest struct {
	URLs        []string          `json:"urls,omitempty" maxItems:"100000" doc:"https://HOST/PATH?QUERY, or /PATH at the node's own address"`
	Sitemap     string            `json:"sitemap,omitempty" maxLength:"8192" doc:"URL of a sitemap, or of an index of some; gzip is understood"`
	Previous    bool              `json:"previous,omitempty" doc:"What was asked for most before the node's last start"`
	Routes      []string          `json:"routes,omitempty" doc:"Only what these routes store"`
	Pace        string            `json:"pace,omitempty" doc:"20/s, or auto: as fast as the origin stays within 1.5 times as quick as it is"`
	OnlyMissing *bool             `json:"only_missing,omitempty" doc:"false: what is fresh is asked for anew, too"`
	Limit       int               `json:"limit,omitempty" minimum:"0" maximum:"100000" doc:"How many at most; 0: 100,000"`
	Headers     map[string]string `json:"headers,omitempty" doc:"That each request has, such as Accept-Language"`
}

// Prime is how far a job has come.
type Prime struct {
	ID       string       `json:"id"`
	State    string       `json:"state" enum:"running,done,stopped,failed"`
	Began    time.Time    `json:"began"`
	Wanted   int          `json:"wanted" doc:"How many there are"`
	Done     int          `json:"done" doc:"filled + fresh + failed + skipped"`
	Filled   int          `json:"filled" doc:"Asked for, and stored now"`
	Fresh    int          `json:"fresh" doc:"Were there"`
	Failed   int          `json:"failed" doc:"Had no answer, or one of failure"`
	Skipped  int          `json:"skipped" doc:"Are of other routes, or not for the store"`
	PacePerS *float64     `json:"pace_per_s" doc:"Over the last seconds; null: not known"`
	LeftS    *float64     `json:"left_s" doc:"How long the rest takes; null: not known"`
	Errors   []PrimeError `json:"errors" doc:"Every URL that failed"`
}

// PrimeError is a URL that failed.
type PrimeError struct {
	URL    string `json:"url"`
	Status int    `json:"status" doc:"0: there was no answer"`
	Error  string `json:"error"`
}

// PrimeList is what was primed since the node's start.
type PrimeList struct {
	Primes []Prime `json:"primes"`
}

// Prime begins to fill the store, and returns at once: the job runs in the node. StatusOf the error is
// 422 for what cannot be primed, and 409 while too many jobs run.
func (c *Client) Prime(ctx context.Context, r PrimeRequest) (Prime, error) {
	var out Prime
	return out, c.call(ctx, "POST", "/v1/primes", nil, r, &out)
}

// PrimeOf returns how far a job has come. StatusOf the error is 404 if the node knows of none.
func (c *Client) PrimeOf(ctx context.Context, id string) (Prime, error) {
	var out Prime
	return out, c.call(ctx, "GET", "/v1/primes/"+url.PathEscape(id), nil, nil, &out)
}

// Primes lists the jobs of the node since its start, the newest first.
func (c *Client) Primes(ctx context.Context) ([]Prime, error) {
	var out PrimeList
	err := c.call(ctx, "GET", "/v1/primes", nil, nil, &out)
	return out.Primes, err
}

// StopPrime stops a job; what it has filled stays.
func (c *Client) StopPrime(ctx context.Context, id string) (Prime, error) {
	var out Prime
	return out, c.call(ctx, "DELETE", "/v1/primes/"+url.PathEscape(id), nil, nil, &out)
}
