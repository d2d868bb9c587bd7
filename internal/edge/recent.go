package edge

import (
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Recent is a request that came lately.
type Recent struct{ Method, Scheme, Host, Path, Query string }

// recents are some of the requests that came lately, for those who try a policy on them: at most so many
// of each tenth of a second, and the newest of them.
type recents struct {
	tenth atomic.Int64
	taken atomic.Int64 // of it

	mu   sync.Mutex
	ring []Recent
	next int
}

const (
	recentsKept  = 1000
	recentsTaken = 20
	longest      = 1024 // of a target, in bytes
)

// note keeps a request, if it is among those that are.
func (rs *recents) note(x *exchange) {
	tenth := x.began.UnixNano() / int64(100*time.Millisecond)
	if rs.tenth.Load() != tenth && rs.tenth.Swap(tenth) != tenth {
		rs.taken.Store(0)
	}
	if rs.taken.Load() >= recentsTaken || rs.taken.Add(1) > recentsTaken || x.depth > 0 || x.primes || len(x.req.Host)+len(x.req.Path)+len(x.req.Query) > longest {
		return
	}
	one := Recent{strings.Clone(x.req.Method), x.req.Scheme, strings.Clone(x.req.Host), strings.Clone(x.req.Path), strings.Clone(x.req.Query)}
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if len(rs.ring) < recentsKept {
		rs.ring = append(rs.ring, one)
		return
	}
	rs.ring[rs.next] = one
	rs.next = (rs.next + 1) % recentsKept
}

// Recents are some of the requests that came lately.
func (e *Edge) Recents() []Recent {
	e.recents.mu.Lock()
	defer e.recents.mu.Unlock()
	return append([]Recent(nil), e.recents.ring...)
}
