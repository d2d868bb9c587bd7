package origin

import (
	"context"
	"sync/atomic"
)

// Requests counts what really went to an origin for one request of a visitor's: nothing if
// the breaker or the queue held it back or no connection stood, several if it was tried again.
type Requests struct{ n atomic.Int64 }

// Made is how many there were.
func (r *Requests) Made() int64 { return r.n.Load() }

type requestsKey struct{}

// Counting lets a Client count the requests that it makes in a context.
func Counting(ctx context.Context, r *Requests) context.Context {
	return context.WithValue(ctx, requestsKey{}, r)
}

// count counts one, if somebody does.
func count(ctx context.Context) {
	if r, _ := ctx.Value(requestsKey{}).(*Requests); r != nil {
		r.n.Add(1)
	}
}
