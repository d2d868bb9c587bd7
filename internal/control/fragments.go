package control

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/klauspost/compress/gzip"

	"gerastic.example/client"
	"gerastic.example/client/protocol"

	"gerastic/internal/core/fill"
	"gerastic/internal/core/fragment"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// Limits of the calls for fragments.
const (
	defaultLease = 30 * time.Second
	maxLease     = 5 * time.Minute
	maxWait      = 30 * time.Second
)

// Headers of the calls for single fragments.
const (
	stateHeader = "Gerastic-State"
	leaseHeader = "Gerastic-Lease"
	leftHeader  = "Gerastic-Left"
	costHeader  = "Gerastic-Cost"
	typeHeader  = "Gerastic-Type" // that it was stored with
)

// fragmentCalls are plain handlers: they are on the way of every page that an application
// makes, and carry bodies of any kind.
func (c *Control) fragmentCalls(r chi.Router) {
	c.describeFragments()
	guard := http.NewCrossOriginProtection()
	// Bodies are for applications: the console's session, which goes wherever a page on this host
	// sends a browser, does not open them.
	bodies := func(do func(http.ResponseWriter, *http.Request, string)) func(http.ResponseWriter, *http.Request, string) {
		return func(w http.ResponseWriter, r *http.Request, namespace string) {
			if r.Header.Get("Authorization") == "" {
				w.Header().Set("WWW-Authenticate", `Bearer realm="gerastic"`)
				problem(w, http.StatusUnauthorized, "what is stored is given to a token only, not to a session: send Authorization: Bearer TOKEN")
				return
			}
			do(w, r, namespace)
		}
	}
	to := func(do func(http.ResponseWriter, *http.Request, string)) http.HandlerFunc {
		return guard.Handler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			namespace, status, why := c.namespaceOf(r)
			if status == http.StatusUnauthorized {
				w.Header().Set("WWW-Authenticate", `Bearer realm="gerastic"`)
			}
			if status != 0 {
				problem(w, status, why)
				return
			}
			do(w, r, namespace)
		})).ServeHTTP
	}
	r.Post("/v1/fragments/lookup", to(bodies(c.lookup)))
	r.Post("/v1/fragments/store", to(c.storeAll))
	r.Get("/v1/fragments/wanted", to(c.wantedFragments))
	r.Post("/v1/fragments/clashes", to(c.noteClash))
	r.Get("/v1/fragments/{key}", to(bodies(c.getFragment)))
	r.Put("/v1/fragments/{key}", to(c.putFragment))
	r.Delete("/v1/fragments/{key}", to(c.deleteFragment))
}

// namespaceOf is the namespace that a call is about: that of its token. Admin may name any.
func (c *Control) namespaceOf(r *http.Request) (namespace string, status int, why string) {
	token, ok := c.tokenOf(r.Header.Get("Authorization"), r.Header.Get("Cookie"))
	switch {
	case !ok:
		return "", http.StatusUnauthorized, wantToken
	case !token.May(records.Fragments):
		return "", http.StatusForbidden, lacks(records.Fragments) + " --namespace NAME"
	}
	namespace = token.Namespace
	if r.URL.RawQuery == "" {
		if namespace == "" {
			return "", http.StatusBadRequest, "this token is for no application; say whose fragments are meant: ?namespace=NAME"
		}
		return namespace, 0, ""
	}
	named := r.URL.Query().Get("namespace")
	switch {
	case named == "" && namespace == "":
		return "", http.StatusBadRequest, "this token is for no application; say whose fragments are meant: ?namespace=NAME"
	case named == "" || named == namespace:
		return namespace, 0, ""
	case !token.May(records.Admin):
		return "", http.StatusForbidden, fmt.Sprintf("the token is for the fragments of %s, not of %s", namespace, named)
	case !protocol.IsName(named):
		return "", http.StatusBadRequest, fmt.Sprintf("%q is not a namespace: it has 1 to 64 letters, digits, -, _ and .", named)
	}
	return named, 0, ""
}

// keyOf is the fragment that a path names.
func keyOf(r *http.Request, namespace string) (fragment.ID, error) {
	name := chi.URLParam(r, "key")
	if r.URL.RawPath != "" { // chi took the path as it was sent
		unescaped, err := url.PathUnescape(name)
		if err != nil {
			return fragment.ID{}, err
		}
		name = unescaped
	}
	return fragment.NewID(namespace, name)
}

// span reads a parameter that is a length of time, "2s", or a number of milliseconds.
func span(text string, otherwise, most time.Duration) (time.Duration, error) {
	if text == "" {
		return otherwise, nil
	}
	d, err := time.ParseDuration(text)
	if ms, bad := strconv.ParseFloat(text, 64); bad == nil {
		d, err = time.Duration(ms*float64(time.Millisecond)), nil
	}
	if err != nil || d < 0 || d > most {
		return 0, fmt.Errorf("%q is not a length of time from 0 to %s; write 2s or 500ms", text, most)
	}
	return d, nil
}

// asked is how a lookup asks, and how long it waits for what others fill.
type asked struct {
	fragment.Ask
	wait time.Duration
}

func askedBy(q url.Values) (a asked, err error) {
	if a.wait, err = span(q.Get("wait"), 0, maxWait); err != nil {
		return a, fmt.Errorf("wait: %w", err)
	}
	if a.Lease, err = span(q.Get("lease"), defaultLease, maxLease); err != nil {
		return a, fmt.Errorf("lease: %w", err)
	}
	a.FreshOnly, a.Renew = q.Has("fresh"), q.Has("renew")
	for name := range q {
		switch name {
		case "wait", "lease", "fresh", "renew", "namespace":
		default:
			return a, fmt.Errorf("there is no parameter %q; there are wait, lease, fresh, renew and namespace", name)
		}
	}
	return a, nil
}

// await looks again while somebody else fills a fragment, until a time. With FreshOnly and
// a lease it may come to be ours, when the other one failed.
func (c *Control) await(ctx context.Context, id fragment.ID, ask fragment.Ask, a fragment.Answer, until time.Time) fragment.Answer {
	ask.Renew = false
	for a.State == fragment.Filling && a.Lease != nil {
		now := c.now()
		if !now.Before(until) {
			break
		}
		end := until
		if a.Lease.Until.Before(end) {
			end = a.Lease.Until
		}
		timer := time.NewTimer(end.Sub(now))
		select {
		case <-a.Lease.Done():
		case <-timer.C:
		case <-ctx.Done():
			return a
		case <-c.done:
			return a
		}
		timer.Stop()
		a = c.node.Fragments().Look(id, ask, c.now())
	}
	return a
}

func (c *Control) getFragment(w http.ResponseWriter, r *http.Request, namespace string) {
	id, err := keyOf(r, namespace)
	if err != nil {
		problem(w, http.StatusBadRequest, err.Error())
		return
	}
	ask, err := askedBy(r.URL.Query())
	if err != nil {
		problem(w, http.StatusBadRequest, err.Error())
		return
	}
	fragments := c.node.Fragments()
	began := c.now()
	if !ask.Renew {
		fragments.Asked(id, began)
	}
	a := fragments.Look(id, ask.Ask, began)
	waited := a.State == fragment.Filling && ask.wait > 0
	if waited {
		a = c.await(r.Context(), id, ask.Ask, a, began.Add(ask.wait))
	}
	now := c.now()
	sample := fragments.Sample(id, a, waited, now.Sub(began), now)
	fragments.Record([]fragment.ID{id}, []meter.Sample{sample})
	h := w.Header()
	h.Set(stateHeader, a.State.String())
	if a.Lease != nil && a.State != fragment.Filling {
		h.Set(leaseHeader, a.Lease.ID)
	}
	switch a.State {
	case fragment.Fresh, fragment.Stale:
		e := a.Entry
		h.Set("Age", strconv.FormatInt(int64(e.Freshness.Age(now)/time.Second), 10))
		h.Set(leftHeader, strconv.FormatFloat(a.Left(now).Seconds(), 'f', 3, 64))
		h.Set(costHeader, strconv.FormatFloat(milliseconds(e.Cost()), 'f', 3, 64))
		if len(e.Subject.Tags) > 0 {
			h.Set("Cache-Groups", protocol.FormatGroups(e.Subject.Tags))
		}
		inert(h, e.Header.Get("Content-Type"))
		c.writeBody(w, r, e.Header.Get("Content-Encoding"), e.Body)
	case fragment.Yours:
		problem(w, http.StatusNotFound, "it is yours to fill: PUT it with "+leaseHeader+", or give the lease back with DELETE")
	case fragment.Filling:
		h.Set("Retry-After", "1")
		w.WriteHeader(http.StatusAccepted)
	default:
		problem(w, http.StatusNotFound, "it is not stored")
	}
}

// inert is how what somebody stored goes out here. They write what they like, and this is the
// console's own origin: no browser may take it for more than bytes.
func inert(h http.Header, kind string) {
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	h.Set("Content-Disposition", "attachment")
	if kind != "" {
		h.Set(typeHeader, kind)
	}
}

// writeBody sends what is stored, in its coding if the caller takes that.
func (c *Control) writeBody(w http.ResponseWriter, r *http.Request, coding string, body []byte) {
	if coding == "gzip" {
		if !strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
			plain, err := gzip.NewReader(bytes.NewReader(body))
			if err != nil {
				problem(w, http.StatusInternalServerError, "what was stored as gzip is not gzip; drop it, and look at who stored it")
				return
			}
			_, _ = io.Copy(w, plain)
			return
		}
		w.Header().Set("Content-Encoding", coding)
	}
	w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	_, _ = w.Write(body)
}

// body reads what a caller sends into room that the store gives as it comes; give it back with
// release.
func (c *Control) body(w http.ResponseWriter, r *http.Request) (body []byte, release func(), ok bool) {
	length := r.ContentLength
	if length < 0 {
		problem(w, http.StatusLengthRequired, "send the length of the body, so that room can be made for it")
		return nil, nil, false
	}
	in := c.reserving(r.Body)
	release = in.release
	if length <= c.store.Limit() {
		body = make([]byte, 0, min(length, roomStep))
	} else {
		in.refused = true
	}
	for !in.refused && int64(len(body)) < length {
		if len(body) == cap(body) {
			body = append(make([]byte, 0, min(length, 2*int64(cap(body)))), body...)
		}
		n, err := in.Read(body[len(body):cap(body)])
		body = body[:len(body)+n]
		if err != nil && !in.refused && int64(len(body)) < length {
			release()
			problem(w, http.StatusBadRequest, "the body did not come whole, so nothing was stored: "+err.Error())
			return nil, nil, false
		}
	}
	if in.refused {
		release()
		problem(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("%d bytes do not fit into the store; its limit is set with --memory", length))
		return nil, nil, false
	}
	return body, release, true
}

// roomStep is for how many bytes at a time the store is asked for room.
const roomStep = 64 << 10

// reserving is a reader for which the store makes room as it reads, and no sooner: what is only
// announced takes nothing.
type reserving struct {
	from    io.Reader
	store   *store.Memory
	read    int64
	granted int64
	refused bool
}

func (c *Control) reserving(from io.Reader) *reserving { return &reserving{from: from, store: c.store} }

var errNoRoom = errors.New("it does not fit into the store")

func (in *reserving) Read(p []byte) (int, error) {
	n, err := in.from.Read(p)
	in.read += int64(n)
	if lacking := in.read - in.granted; lacking > 0 {
		more := (lacking + roomStep - 1) / roomStep * roomStep
		if !in.store.Reserve(more) {
			in.refused = true
			return n, errNoRoom
		}
		in.granted += more
	}
	return n, err
}

// release gives back the room for what was read so far: the store counts it from here on, or
// it is gone.
func (in *reserving) release() {
	in.store.Release(in.granted)
	in.read, in.granted = 0, 0
}

func (c *Control) putFragment(w http.ResponseWriter, r *http.Request, namespace string) {
	id, err := keyOf(r, namespace)
	if err != nil {
		problem(w, http.StatusBadRequest, err.Error())
		return
	}
	in := fragment.Fill{Lease: r.Header.Get(leaseHeader), Type: r.Header.Get("Content-Type"), Coding: r.Header.Get("Content-Encoding"), Work: meter.WorkOf(r.Header[protocol.WorkField], r.Header["Server-Timing"])}
	d := httprules.ParseResponseDirectives(httprules.Header{"Cache-Control": r.Header["Cache-Control"]})
	in.Lifetime, in.Stale = d.MaxAge, d.StaleWhileRevalidate
	if text := r.Header.Get(costHeader); text != "" {
		if in.Cost, err = span(text, 0, time.Hour); err != nil {
			problem(w, http.StatusBadRequest, costHeader+": "+err.Error())
			return
		}
	}
	var cut int
	if in.Tags, cut = protocol.ParseGroups(r.Header["Cache-Groups"]); cut > 0 || len(in.Tags) == 0 && r.Header.Get("Cache-Groups") != "" {
		problem(w, http.StatusUnprocessableEntity, fmt.Sprintf(`Cache-Groups is a list of strings, such as "port:tholm", "notices": at most %d of them`, protocol.MaxTags))
		return
	}
	if bad := in.Check(); bad != nil {
		refuse(w, bad)
		return
	}
	if !c.node.Fragments().Leases.Known(in.Lease) { // before anything makes room for it
		problem(w, http.StatusConflict, fill.ErrNoLease.Error())
		return
	}
	body, release, ok := c.body(w, r)
	if !ok {
		return
	}
	in.Body = body
	release() // the store counts it from here on
	if err := c.node.Fragments().Put(id, in); err != nil {
		refuse(w, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

func refuse(w http.ResponseWriter, err error) {
	status := map[fragment.RefusalKind]int{fragment.Invalid: http.StatusUnprocessableEntity, fragment.Overtaken: http.StatusConflict, fragment.TooLarge: http.StatusRequestEntityTooLarge}
	problem(w, status[fragment.Refused(err).Kind], err.Error())
}

func (c *Control) deleteFragment(w http.ResponseWriter, r *http.Request, namespace string) {
	id, err := keyOf(r, namespace)
	if err != nil {
		problem(w, http.StatusBadRequest, err.Error())
		return
	}
	if lease := r.Header.Get(leaseHeader); lease != "" {
		if err := c.node.Fragments().GiveBack(id, lease); err != nil {
			refuse(w, err)
			return
		}
		w.WriteHeader(http.StatusNoContent)
		return
	}
	token, _ := c.tokenOf(r.Header.Get("Authorization"), r.Header.Get("Cookie"))
	sequence, applied, err := c.node.Purge(r.Context(), fragment.Purge(id), token.Name, "the fragment was dropped")
	if err != nil {
		problem(w, http.StatusServiceUnavailable, notPurged(sequence, err))
		return
	}
	c.node.Fragments().Dropped(id)
	done := purgeOut(records.Purge{Purge: tags.Purge{Sequence: sequence}, Applied: applied})
	w.Header().Set("Content-Type", "application/json")
	_ = huma.DefaultFormats["application/json"].Marshal(w, client.PurgeResult{Sequence: done.Sequence, Mode: tags.Drop.String(), Matched: done.Matched, Nodes: done.Nodes})
}
