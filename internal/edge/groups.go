package edge

import (
	"context"
	"crypto/sha256"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
)

// groups remembers the groups of visitors, by digests of what says who they are. It is bounded: when it is
// full, some are forgotten, and found out again.
type groups struct {
	mu    sync.Mutex
	known map[visitor]grouped
	asked map[visitor]*question // under way: one for a visitor who waits, at most
}

// visitor is a digest of a visitor's credentials, on a host and for a way to know the group.
type visitor [sha256.Size]byte

// grouped is a group, "" for nobody's, and until when that is known.
type grouped struct {
	name  string
	until time.Time
}

const (
	mostGrouped = 16_384
	// verifiedFor is for how long a verified token is not verified again: keys may be withdrawn.
	verifiedFor = 10 * time.Second
	// askedAgain is after how long an origin is asked again that did not answer.
	askedAgain = time.Second
	// groupBytes is about what is kept of a visitor.
	groupBytes = 160
)

func (g *groups) of(v visitor, now time.Time) (name string, known bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	k, known := g.known[v]
	return k.name, known && now.Before(k.until)
}

func (g *groups) keep(v visitor, k grouped) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.known == nil {
		g.known = map[visitor]grouped{}
	}
	for some := range g.known {
		if len(g.known) < mostGrouped {
			break
		}
		delete(g.known, some)
	}
	g.known[v] = k
}

// forget forgets all: another policy is in force.
func (g *groups) forget() {
	g.mu.Lock()
	defer g.mu.Unlock()
	clear(g.known)
}

func (g *groups) bytes() int64 {
	g.mu.Lock()
	defer g.mu.Unlock()
	return int64(len(g.known)) * groupBytes
}

// dropGroup takes off what only we say, in every form that an application may read as that: some take _ for -.
func dropGroup(h http.Header) {
	for name := range h {
		if len(name) == len(protocol.GroupField) && strings.EqualFold(strings.ReplaceAll(name, "_", "-"), protocol.GroupField) {
			delete(h, name)
		}
	}
}

// group says of which group the visitor is, as far as that is known without asking their origin.
func (l *lookup) group(g *policy.VisitorGroup) {
	credentials := g.Credentials(l.req.Header)
	if credentials == "" {
		l.in.Nameless = !g.Shared
		return
	}
	v := visitor(sha256.Sum256([]byte(l.req.Scheme + "://" + l.req.Host + " " + credentials)))
	name, known := l.edge.groups.of(v, l.began)
	if !known && g.Ask == "" {
		name, known = l.verified(g, v), true
	}
	l.isOf(g, name)
	if !known {
		l.unasked, l.in.Unasked, l.in.Nameless = &v, true, true
	}
}

// isOf makes the request one of a group, or of nobody's.
func (l *lookup) isOf(g *policy.VisitorGroup, name string) {
	if l.in.Nameless, l.in.Unasked = name == "" && !g.Shared, false; name == "" {
		return
	}
	h := make(httprules.Header, len(l.req.Header)+1)
	maps.Copy(h, l.req.Header)
	h[protocol.GroupField] = []string{name}
	l.req.Header = h
}

// verified is the group that a token says, or "".
func (l *lookup) verified(g *policy.VisitorGroup, v visitor) (name string) {
	until := l.began.Add(verifiedFor)
	if token := g.Token(l.req.Header); token != "" && g.Keys != nil {
		if value, ends, ok := g.Keys.Value(context.Background(), token, g.Claim, l.began); ok {
			name = policy.GroupName(value)
			if ends.Before(until) {
				until = ends
			}
		}
	}
	l.edge.groups.keep(v, grouped{name, until})
	return name
}

// question is an origin that is being asked for a visitor's group.
type question struct {
	done chan struct{}
	name string // once it is done
}

// ask returns the question that is under way for a visitor; first: nobody had asked it yet.
func (g *groups) ask(v visitor) (q *question, first bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if q = g.asked[v]; q != nil {
		return q, false
	}
	if g.asked == nil {
		g.asked = map[visitor]*question{}
	}
	q = &question{done: make(chan struct{})}
	g.asked[v] = q
	return q, true
}

// answered ends a question.
func (g *groups) answered(v visitor, q *question, k grouped) {
	g.keep(v, k)
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.asked, v)
	q.name = k.name
	close(q.done)
}

// askGroup asks the origin for the group of a visitor who is not known yet; many who ask for one visitor
// ask once.
func (x *exchange) askGroup() {
	v := x.unasked
	if v == nil || !x.in.Enabled {
		return
	}
	o := x.inForce.OriginFor(x.req.Host)
	if o == nil {
		return // there is none to answer the request, either
	}
	q, first := x.edge.groups.ask(*v)
	if first {
		ask := x.edge.fetch.GroupQuestion(x.inForce.origins.To(o), x.route.Group, &x.sent)
		e, route := x.edge, x.route
		if !e.tasks.Go(func() { e.groups.answered(*v, q, e.groupOf(ask, route, o)) }) {
			e.groups.answered(*v, q, grouped{}) // the node ends
		}
	}
	select {
	case <-q.done:
		x.isOf(x.route.Group, q.name)
	case <-x.r.Context().Done():
		panic(http.ErrAbortHandler) // nobody is there to be answered
	}
}

// groupOf asks an origin.
func (e *Edge) groupOf(ask func(context.Context) (string, error), route *policy.Route, o *policy.Origin) grouped {
	ctx, cancel := context.WithTimeout(e.tasks.Life(), route.Limit(o))
	defer cancel()
	began := e.config.Now()
	name, err := ask(ctx)
	kept := grouped{name, began.Add(route.Group.Keep)}
	if err != nil {
		e.config.Log.Warn("the origin does not say of which group a visitor is; they are of none", "route", route.Name, "error", err)
		kept.until = began.Add(askedAgain)
	}
	e.meter.Record(0, &meter.Sample{Route: route.Name, Outcome: meter.Behind, Origin: true, Waited: e.config.Now().Sub(began)})
	return kept
}

// groupName is the group of the visitor; "": none is known, or it does not matter.
func (l *lookup) groupName() string {
	if l.route == nil || l.route.Group == nil {
		return ""
	}
	return l.req.Header.Joined(protocol.GroupField)
}

// keepFromOthers makes an answer on a route of groups one that no shared cache beyond keeps: it could not tell
// whose it is.
func (l *lookup) keepFromOthers(h http.Header) {
	if l.route != nil && l.route.Group != nil {
		keepPrivate(h)
	}
}

// keepPrivate says that no shared cache may keep an answer.
func keepPrivate(h http.Header) {
	h["Cache-Control"] = httprules.PrivateControl(h["Cache-Control"])
	delete(h, "Cdn-Cache-Control")
	delete(h, "Surrogate-Control")
}

// grouping reports whether routes of a policy tell visitors apart by their groups.
func grouping(p *policy.InForce) bool {
	return slices.ContainsFunc(p.Routes, func(r *policy.Route) bool { return r.Group != nil })
}
