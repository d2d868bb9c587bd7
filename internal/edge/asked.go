package edge

import (
	"bytes"
	"encoding/binary"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/decide"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
)

// Asked is something that visitors asked for on a route that is kept warm, and may be given to others.
type Asked struct {
	ID     string
	Route  string
	URL    string
	Header http.Header // that it depends on
	At     time.Time   // when they did last
}

// asked remembers what visitors asked for on routes that are kept warm. It is bounded: what was asked for
// long ago gives way.
type asked struct {
	mu    sync.RWMutex
	items map[string]*askedItem // by key, and what of the request the answer varies on
}

type askedItem struct {
	Asked
	at atomic.Int64 // unix ns
}

const (
	mostAsked = 10_000
	// askedBytes is about what is kept of one.
	askedBytes = 800
	// longestAsked is how long what tells one from another may be.
	longestAsked = 4 << 10
)

// note notes what a visitor has been given.
func (a *asked) note(l *lookup, sample *meter.Sample, vary []httprules.Varying) {
	if l.in.Route == nil || l.route.Warm == nil || l.route.Warm.AskedWithin == 0 || sample.Cause.ForbidsStoring() || len(l.key) == 0 || !l.isAnybodys(vary) {
		return
	}
	switch sample.Outcome {
	case meter.Hit, meter.Stale, meter.Revalidated, meter.Joined, meter.Miss:
	default:
		return
	}
	var room [512]byte
	id := append(room[:0], l.key...)
	for _, v := range vary {
		if v.Present {
			id = append(append(binary.AppendUvarint(append(append(id, v.Name...), 0), uint64(len(v.Value))), v.Value...), 0)
		}
	}
	if len(id) > longestAsked {
		return
	}
	a.mu.RLock()
	item := a.items[string(id)]
	a.mu.RUnlock()
	if item == nil {
		item = a.add(string(bytes.Clone(id)), l, vary)
	}
	if now := l.began.UnixNano(); now-item.at.Load() > int64(time.Second/2) {
		item.at.Store(now)
	}
}

// isAnybodys reports whether an answer depends on nothing that says who asked for it.
func (l *lookup) isAnybodys(vary []httprules.Varying) bool {
	if l.req.Method != http.MethodGet && l.req.Method != http.MethodHead || l.route.Key.Body != key.NoBody {
		return false
	}
	if _, named := l.route.Key.Identity.Of(l.req.Header); named || l.req.Header.Has(protocol.GroupField) || l.in.Nameless || l.in.SignedIn != "" {
		return false
	}
	for _, v := range vary {
		if v.Present && (v.Name == "Cookie" || v.Name == "Authorization") {
			return false
		}
	}
	return true
}

// add remembers something new.
func (a *asked) add(id string, l *lookup, vary []httprules.Varying) *askedItem {
	item := &askedItem{Asked: Asked{ID: id, Route: l.route.Name, URL: l.req.Scheme + "://" + l.req.Host + l.req.Path, Header: http.Header{}}}
	if query, has := l.route.Key.Query.Canonical(l.req.Query, l.req.HasQuery); has {
		item.URL += "?" + query
	}
	for _, v := range vary {
		if v.Present {
			item.Header[v.Name] = []string{v.Value}
		}
	}
	for _, name := range l.route.Key.Headers {
		if lines := l.req.Header[name]; len(lines) > 0 {
			item.Header[name] = append([]string(nil), lines...)
		}
	}
	if kept := key.KeepCookies(l.req.Header["Cookie"], l.route.Key.HoldsCookie); len(kept) > 0 {
		item.Header["Cookie"] = []string{strings.Join(kept, "; ")}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if known := a.items[id]; known != nil {
		return known
	}
	if a.items == nil {
		a.items = map[string]*askedItem{}
	}
	if len(a.items) >= mostAsked {
		a.dropOld()
	}
	a.items[id] = item
	return item
}

// dropOld drops the one of a few that was asked for longest ago. Under mu.
func (a *asked) dropOld() {
	const few = 16
	seen, oldest := 0, ""
	for id, item := range a.items {
		if oldest == "" || item.at.Load() < a.items[oldest].at.Load() {
			oldest = id
		}
		if seen++; seen == few {
			break
		}
	}
	delete(a.items, oldest)
}

func (a *asked) bytes() int64 {
	a.mu.RLock()
	defer a.mu.RUnlock()
	return int64(len(a.items)) * askedBytes
}

// Asked is what visitors asked for on routes that are kept warm.
func (e *Edge) Asked() []Asked {
	e.asked.mu.RLock()
	defer e.asked.mu.RUnlock()
	all := make([]Asked, 0, len(e.asked.items))
	for _, item := range e.asked.items {
		one := item.Asked
		one.At = time.Unix(0, item.at.Load())
		all = append(all, one)
	}
	return all
}

// ForgetAsked forgets something that is not kept warm any more.
func (e *Edge) ForgetAsked(id string) {
	e.asked.mu.Lock()
	defer e.asked.mu.Unlock()
	delete(e.asked.items, id)
}

// Peeked is how it stands with what a request asks for.
type Peeked struct {
	Route   string // "": it passes through
	Origin  string
	Fresh   bool          // it would be served as it is
	Left    time.Duration // of its life
	Life    time.Duration
	Cost    time.Duration // of its fill
	Evicted bool          // it had to make room for others
}

// Peek looks at what is stored for a request. Nothing is fetched, counted or changed.
func (e *Edge) Peek(r *http.Request) (p Peeked) {
	l := &lookup{edge: e, examines: true, began: e.config.Now(), inForce: e.inForce.Load()}
	if l.inForce == nil {
		return p
	}
	l.req = requestOf(r, nil)
	l.req.Scheme = r.URL.Scheme
	l.sent.Request, l.sent.Hop.Remote, l.sent.Hop.Proto = &l.req, r.RemoteAddr, r.ProtoMajor
	o := l.inForce.OriginFor(l.req.Host)
	if l.match(); l.route == nil || !l.in.Enabled || l.takesBody() || l.in.Nameless || l.in.SignedIn != "" || o == nil {
		return p
	}
	d := l.look()
	p.Route, p.Origin = l.route.Name, o.Name
	if entry := l.in.Entry; entry != nil {
		p.Fresh = d.Action == decide.Serve || d.Action == decide.ServeAndRefresh && d.Cause == meter.NoCause
		p.Left, p.Life, p.Cost = entry.Freshness.Remaining(l.began), entry.Freshness.Lifetime, entry.Cost()
	}
	p.Evicted = l.in.Entry == nil && l.in.Removed == meter.Evicted
	return p
}
