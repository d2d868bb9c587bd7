package edge

import (
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/fetch"
)

// tally counts what comes with a large share of a route's requests although the key
// leaves it out: a cookie or a field that may well decide what a visitor should see. It
// looks at the first requests of each minute, and tells of each name once a day.
type tally struct {
	full   atomic.Int64 // unix ns until which nothing is counted
	mu     sync.Mutex
	seen   int // requests
	names  map[fetch.Part]int
	warned map[fetch.Part]time.Time
}

const (
	// tallied is how many requests are looked at a minute.
	tallied = 100
	// tallyStep is after how many of them shares are looked at: fewer mean nothing.
	tallyStep = 20
	// largeShare is from which share of the requests on a name is told.
	largeShare = 0.25
	// maxTalliedNames bounds the names that are counted and remembered for a route.
	maxTalliedNames = 64
	// maxTalliedName is the longest name that is counted, in bytes.
	maxTalliedName = 100
	// warnedFor is for how long a name is not told again.
	warnedFor = 24 * time.Hour
)

// ordinary fields come with most requests of browsers and say nothing of who is asking, or
// are what HTTP itself needs.
var ordinary = map[string]bool{
	"Accept": true, "Accept-Encoding": true, "Accept-Language": true, "Cache-Control": true, "Connection": true, "Content-Encoding": true, "Content-Length": true, "Content-Type": true, "Cookie": true,
	"Dnt": true, "Expect": true, "Forwarded": true, "From": true, protocol.ExplainField: true, "If-Match": true, "If-Modified-Since": true, "If-None-Match": true, "If-Range": true, "If-Unmodified-Since": true,
	"Keep-Alive": true, "Origin": true, "Pragma": true, "Priority": true, "Proxy-Connection": true, "Range": true, "Referer": true, "Te": true, "Traceparent": true, "Tracestate": true,
	"Upgrade": true, "Upgrade-Insecure-Requests": true, "User-Agent": true, "Via": true, "X-Real-Ip": true,
}

func isOrdinary(name string) bool {
	return ordinary[name] || strings.HasPrefix(name, "Sec-") || strings.HasPrefix(name, "X-Forwarded-")
}

// countUnkeyed notes what of the request the key leaves out.
func (x *exchange) countUnkeyed() {
	if x.in.Route == nil || !x.in.Enabled || x.edge.config.Found == nil || x.depth > 0 {
		return
	}
	t := &x.inForce.tallies[x.route.Index]
	if x.began.UnixNano() < t.full.Load() || x.in.SignedIn != "" && x.route.Declares(x.in.SignedIn, x.req.Header) {
		return // that it says who is signed in was said
	}
	edge := x.edge
	for _, p := range t.count(x.leftOut(), x.began) {
		kind := "unkeyed-cookie"
		if p.Kind == "header" {
			kind = "unkeyed-field"
		}
		f := fetch.Finding{At: x.began, Route: x.route.Name, URL: x.req.Scheme + "://" + x.req.Host + x.req.Path, Kind: kind, Separator: p.String()}
		edge.tasks.Go(func() { edge.config.Found(f) })
	}
}

// leftOut lists the cookies and fields of the request that the key does not hold and nobody
// has said anything of.
func (x *exchange) leftOut() (parts []fetch.Part) {
	for _, name := range key.CookieNames(x.req.Header) {
		if name != "" && !x.route.Key.HoldsCookie(name) && !slices.Contains(x.route.AlsoCookies, name) && !x.route.Group.TakesCookie(name) {
			parts = append(parts, fetch.Part{Kind: "cookie", Name: name})
		}
	}
	for name := range x.req.Header {
		if !isOrdinary(name) && !httprules.Steering(name) && !x.route.Key.HoldsField(name) && !slices.Contains(x.route.AlsoFields, name) && !x.route.Group.Takes(name) {
			parts = append(parts, fetch.Part{Kind: "header", Name: name})
		}
	}
	return parts
}

// count notes one request, and returns the names that are to be told now.
func (t *tally) count(parts []fetch.Part, now time.Time) (tell []fetch.Part) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.names == nil {
		t.names, t.warned = map[fetch.Part]int{}, map[fetch.Part]time.Time{}
	}
	t.seen++
	for _, p := range parts {
		if _, known := t.names[p]; !known {
			if len(t.names) >= maxTalliedNames || len(p.Name) > maxTalliedName {
				continue
			}
			p.Name = strings.Clone(p.Name) // not the whole line that it was cut from
		}
		t.names[p]++
	}
	if t.seen%tallyStep != 0 {
		return nil
	}
	for p, n := range t.names {
		if told, ever := t.warned[p]; float64(n) < largeShare*float64(t.seen) || ever && now.Sub(told) < warnedFor {
			continue
		}
		if len(t.warned) >= maxTalliedNames {
			clear(t.warned)
		}
		t.warned[p] = now
		tell = append(tell, p)
	}
	if t.seen == tallied {
		t.seen = 0
		clear(t.names)
		t.full.Store(now.Add(time.Minute).UnixNano())
	}
	return tell
}
