package client

import (
	"context"
	"net/url"
	"time"
)

// OnwardTarget is a cache or service beyond the node that is told of purges.
type OnwardTarget struct {
	Name      string     `json:"name"`
	URL       string     `json:"url" doc:"Without what may be secret of it"`
	When      string     `json:"when" enum:"all,tags,urls"`
	State     string     `json:"state" enum:"ok,failing" doc:"failing: the last try failed; it goes on until one goes well"`
	Behind    int64      `json:"behind" doc:"Purges of the ledger that it has not been told"`
	Tries     int        `json:"tries" doc:"That failed, in a row"`
	LastError string     `json:"last_error" doc:"Of the last try; empty if it went well"`
	LastAt    *time.Time `json:"last_at" doc:"When it took a purge last; null: never yet"`
}

// Onward tells how it goes with the caches and services beyond that the policy names.
func (c *Client) Onward(ctx context.Context) ([]OnwardTarget, error) {
	var out struct {
		Targets []OnwardTarget `json:"targets"`
	}
	err := c.call(ctx, "GET", "/v1/onward", nil, nil, &out)
	return out.Targets, err
}

// SkipOnward gives up telling a target what it was not told until now; it returns how many purges those
// are. StatusOf the error is 404 for a target that the policy does not name.
func (c *Client) SkipOnward(ctx context.Context, name string) (skipped int64, err error) {
	var out struct {
		Skipped int64 `json:"skipped"`
	}
	err = c.call(ctx, "POST", "/v1/onward/"+url.PathEscape(name)+"/skip", nil, nil, &out)
	return out.Skipped, err
}
