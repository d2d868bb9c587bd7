package control

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/klauspost/compress/gzip"

	"gerastic/internal/cbor"
	"gerastic/internal/core/fragment"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/rules"
	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// Limits of the calls for fragments.
const (
	maxKeys      = 1000
	defaultLease = 30 * time.Second
	maxLease     = 5 * time.Minute
	maxWait      = 30 * time.Second
	maxLookup    = maxKeys * (fragment.MaxKey + 16)
	// gathered is how much of an answer is put together before it goes out.
	gathered = 96 << 10
)

// Headers of the calls for single fragments.
const (
	stateHeader = "Gerastic-State"
	leaseHeader = "Gerastic-Lease"
	leftHeader  = "Gerastic-Left"
	costHeader  = "Gerastic-Cost"
)

// fragmentCalls are plain handlers: they are on the way of every page that an application
// makes, and carry bodies of any kind.
func (c *Control) fragmentCalls(r chi.Router) {
	c.describeFragments()
	guard := http.NewCrossOriginProtection()
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
	r.Post("/v1/fragments/lookup", to(c.lookup))
	r.Post("/v1/fragments/store", to(c.storeAll))
	r.Get("/v1/fragments/{key}", to(c.getFragment))
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
	case !fragment.IsName(named):
		return "", http.StatusBadRequest, fmt.Sprintf("%q is no namespace: it has 1 to 64 letters, digits, -, _ and .", named)
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
		return 0, fmt.Errorf("%q is no length of time from 0 to %s; write 2s or 500ms", text, most)
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
	a := fragments.Look(id, ask.Ask, began)
	waited := a.State == fragment.Filling && ask.wait > 0
	if waited {
		a = c.await(r.Context(), id, ask.Ask, a, began.Add(ask.wait))
	}
	now := c.now()
	sample := fragments.Sample(id, a, waited, now.Sub(began), now)
	fragments.Meter.Record(fragments.Meter.Stripe(), &sample)
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
			h.Set("Cache-Groups", rules.FormatGroups(e.Subject.Tags))
		}
		if kind := e.Header.Get("Content-Type"); kind != "" {
			h.Set("Content-Type", kind)
		} else {
			h.Set("Content-Type", "application/octet-stream")
		}
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

// writeBody sends what is stored, in its coding if the caller takes that.
func (c *Control) writeBody(w http.ResponseWriter, r *http.Request, coding string, body []byte) {
	if coding == "gzip" {
		if !strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
			plain, err := gzip.NewReader(bytes.NewReader(body))
			if err != nil {
				problem(w, http.StatusInternalServerError, "what was stored as gzip is none; drop it, and look at who stored it")
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

// body reads what a caller sends into room that the store gives; give it back with release.
func (c *Control) body(w http.ResponseWriter, r *http.Request) (body []byte, release func(), ok bool) {
	length := r.ContentLength
	if length < 0 {
		problem(w, http.StatusLengthRequired, "send the length of the body, so that room can be made for it")
		return nil, nil, false
	}
	if !c.store.Reserve(length) {
		problem(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("%d bytes do not fit into the store; its limit is set with --memory", length))
		return nil, nil, false
	}
	release = sync.OnceFunc(func() { c.store.Release(length) })
	body = make([]byte, length)
	if _, err := io.ReadFull(r.Body, body); err != nil {
		release()
		problem(w, http.StatusBadRequest, "the body did not come whole, so nothing was stored: "+err.Error())
		return nil, nil, false
	}
	return body, release, true
}

func (c *Control) putFragment(w http.ResponseWriter, r *http.Request, namespace string) {
	id, err := keyOf(r, namespace)
	if err != nil {
		problem(w, http.StatusBadRequest, err.Error())
		return
	}
	in := fragment.Fill{Lease: r.Header.Get(leaseHeader), Type: r.Header.Get("Content-Type"), Coding: r.Header.Get("Content-Encoding")}
	d := rules.ResponseDirectives(rules.Header{"Cache-Control": r.Header["Cache-Control"]})
	in.Lifetime, in.Stale = d.MaxAge, d.StaleWhileRevalidate
	if text := r.Header.Get(costHeader); text != "" {
		if in.Cost, err = span(text, 0, time.Hour); err != nil {
			problem(w, http.StatusBadRequest, costHeader+": "+err.Error())
			return
		}
	}
	var cut int
	if in.Tags, cut = rules.Groups(r.Header["Cache-Groups"]); cut > 0 || len(in.Tags) == 0 && r.Header.Get("Cache-Groups") != "" {
		problem(w, http.StatusUnprocessableEntity, fmt.Sprintf(`Cache-Groups is a list of strings, such as "port:tholm", "notices": at most %d of them`, rules.MaxGroups))
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
		problem(w, http.StatusServiceUnavailable, "the purge could not be written to the ledger, so nothing was dropped; try again when the database is back: "+err.Error())
		return
	}
	done := purgeOut(records.Purge{Purge: tags.Purge{Sequence: sequence}, Applied: applied})
	w.Header().Set("Content-Type", "application/json")
	_ = huma.DefaultFormats["application/json"].Marshal(w, map[string]any{"sequence": done.Sequence, "matched": done.Matched, "nodes": done.Nodes})
}

// question is the body of a lookup.
type question struct {
	asked
	details bool // tell type and cost, too
}

func (o *out) question(r *cbor.Reader, namespace string) (q question, err error) {
	q.Lease = defaultLease
	span := func(most time.Duration) time.Duration {
		ms := r.Number()
		if !(ms >= 0 && ms <= float64(most/time.Millisecond)) {
			err = fmt.Errorf("wait and lease are milliseconds, from 0 to %d", most/time.Millisecond)
			return 0
		}
		return time.Duration(ms * float64(time.Millisecond))
	}
	r.Fields(func(name string) bool {
		switch name {
		case "keys":
			o.keys = r.TextsInPlace(o.keys[:0]) // the question is gone with its answer
		case "wait":
			q.wait = span(maxWait)
		case "lease":
			q.Lease = span(maxLease)
		case "fresh":
			q.FreshOnly = r.Bool()
		case "renew":
			q.Renew = r.Bool()
		case "details":
			q.details = r.Bool()
		default:
			return false
		}
		return true
	})
	if r.Err() != nil {
		return q, fmt.Errorf("the body is no lookup: a CBOR map with keys (an array of texts), and perhaps wait, lease, fresh, renew, details: %w", r.Err())
	}
	if err == nil && (len(o.keys) == 0 || len(o.keys) > maxKeys) {
		err = fmt.Errorf("a lookup has 1 to %d keys; this one has %d", maxKeys, len(o.keys))
	}
	for _, k := range o.keys {
		id, bad := fragment.NewID(namespace, k)
		if err == nil {
			err = bad
		}
		o.ids = append(o.ids, id)
	}
	return q, err
}

// out gathers an answer, and sends it in large pieces. It is used again and again, with the
// lists that a lookup needs.
type out struct {
	w       http.ResponseWriter
	b       []byte
	sent    bool
	keys    []string
	ids     []fragment.ID
	samples []meter.Sample
}

var outs = sync.Pool{New: func() any { return &out{b: make([]byte, 0, gathered)} }}

func newOut(w http.ResponseWriter) *out {
	o := outs.Get().(*out)
	o.w, o.b, o.sent, o.keys, o.ids, o.samples = w, o.b[:0], false, o.keys[:0], o.ids[:0], o.samples[:0]
	w.Header()["Content-Type"] = []string{cbor.MediaType}
	return o
}

// body adds a byte string; a large one is not copied.
func (o *out) body(body []byte) {
	if len(body) < gathered/4 {
		o.b = cbor.AppendBytes(o.b, body)
		return
	}
	o.b = cbor.AppendBytesHead(o.b, len(body))
	o.flush()
	_, _ = o.w.Write(body)
}

func (o *out) flush() {
	_, _ = o.w.Write(o.b)
	o.b, o.sent = o.b[:0], true
}

// room sends what there is when it is much.
func (o *out) room() {
	if len(o.b) > gathered*3/4 {
		o.flush()
	}
}

func (o *out) end() {
	if !o.sent {
		o.w.Header()["Content-Length"] = []string{strconv.Itoa(len(o.b))}
	}
	o.flush()
	o.free()
}

// free gives the lists back; what they point to goes.
func (o *out) free() {
	o.w = nil
	clear(o.keys[:cap(o.keys)])
	clear(o.ids[:cap(o.ids)])
	clear(o.samples[:cap(o.samples)])
	outs.Put(o)
}

// lookup finds many fragments, each with its state and perhaps a lease. What is there goes
// out first. It waits for what others fill only if it gives no lease: whoever has to fill
// something must not wait for somebody who waits for him.
func (c *Control) lookup(w http.ResponseWriter, r *http.Request, namespace string) {
	o := newOut(w)
	q, err := o.question(cbor.NewReader(http.MaxBytesReader(w, r.Body, maxLookup), r.ContentLength), namespace)
	if err != nil {
		problem(w, http.StatusBadRequest, err.Error())
		o.free()
		return
	}
	fragments := c.node.Fragments()
	defer o.end()
	o.b = cbor.AppendMap(o.b, 2)
	o.b = cbor.AppendText(o.b, "namespace")
	o.b = cbor.AppendText(o.b, namespace)
	o.b = cbor.AppendText(o.b, "stamp") // before anything is found, so that nothing found is older than it says
	o.b = cbor.AppendInt(o.b, int64(fragments.Marks.Stamp()))
	began := c.now()
	leased := false
	var open []int
	var waiting []fragment.Answer
	for i, id := range o.ids {
		a := fragments.Look(id, q.Ask, began)
		leased = leased || a.State == fragment.Yours
		if a.State == fragment.Filling && q.wait > 0 {
			open, waiting = append(open, i), append(waiting, a)
			continue
		}
		o.samples = append(o.samples, fragments.Sample(id, a, false, 0, began))
		o.answer(i, a, false, q.details, began)
	}
	took := c.now().Sub(began)
	for i := range o.samples {
		o.samples[i].Took = took // they came together
	}
	if len(open) > 0 && !leased {
		o.flush()
		_ = http.NewResponseController(w).Flush()
	}
	for n, i := range open {
		a := waiting[n]
		if !leased {
			a = c.await(r.Context(), o.ids[i], q.Ask, a, began.Add(q.wait))
			leased = a.State == fragment.Yours
		}
		now := c.now()
		o.samples = append(o.samples, fragments.Sample(o.ids[i], a, true, now.Sub(began), now))
		o.answer(i, a, true, q.details, now)
	}
	fragments.Meter.RecordAll(fragments.Meter.Stripe(), o.samples)
}

// answer writes what was found of the key at a place in the question.
func (o *out) answer(at int, a fragment.Answer, waited, details bool, now time.Time) {
	o.room()
	fields := 2
	e := a.Entry
	lease := a.Lease
	if a.State == fragment.Filling {
		lease = nil
	}
	var coding string
	if e != nil {
		coding = e.Header.Get("Content-Encoding")
		fields += 3
		if len(e.Subject.Tags) > 0 {
			fields++
		}
		if details {
			fields += 2
		}
		if coding != "" {
			fields++
		}
	}
	cause := ""
	if e == nil {
		cause = a.Cause.String()
	}
	for _, has := range []bool{lease != nil, cause != "", waited} {
		if has {
			fields++
		}
	}
	b := cbor.AppendMap(o.b, fields)
	b = cbor.AppendInt(cbor.AppendText(b, "at"), int64(at))
	b = cbor.AppendText(cbor.AppendText(b, "state"), a.State.String())
	if lease != nil {
		b = cbor.AppendText(cbor.AppendText(b, "lease"), lease.ID)
	}
	if cause != "" {
		b = cbor.AppendText(cbor.AppendText(b, "cause"), cause)
	}
	if waited {
		b = cbor.AppendBool(cbor.AppendText(b, "waited"), true)
	}
	if e == nil {
		o.b = b
		return
	}
	if coding != "" {
		b = cbor.AppendText(cbor.AppendText(b, "coding"), coding)
	}
	b = cbor.AppendFloat(cbor.AppendText(b, "age"), e.Freshness.Age(now).Seconds())
	b = cbor.AppendFloat(cbor.AppendText(b, "left"), a.Left(now).Seconds())
	if details {
		b = cbor.AppendText(cbor.AppendText(b, "type"), e.Header.Get("Content-Type"))
		b = cbor.AppendFloat(cbor.AppendText(b, "cost"), milliseconds(e.Cost()))
	}
	if len(e.Subject.Tags) > 0 {
		b = cbor.AppendTexts(cbor.AppendText(b, "tags"), e.Subject.Tags)
	}
	o.b = cbor.AppendText(b, "body")
	o.body(e.Body)
}

// offer is one fragment that a store call brings.
type offer struct {
	key    string
	failed bool
	fragment.Fill
}

// most is the longest lifetime in seconds that is told apart from for ever.
const most = 100 * 365 * 24 * 3600

func readOffer(r *cbor.Reader) (in offer) {
	seconds := func() time.Duration {
		s := r.Number()
		return time.Duration(max(0, min(s, most)) * float64(time.Second))
	}
	r.Fields(func(name string) bool {
		switch name {
		case "key":
			in.key = r.Text()
		case "lease":
			in.Lease = r.Text()
		case "failed":
			in.failed = r.Bool()
		case "type":
			in.Type = r.Text()
		case "coding":
			in.Coding = r.Text()
		case "body":
			in.Body = bytes.Clone(r.Bytes()) // it stays; what else came with it does not
		case "tags":
			in.Tags = r.Texts()
		case "life":
			in.Lifetime = seconds()
		case "stale":
			in.Stale = seconds()
		case "cost":
			in.Cost = time.Duration(max(0, min(r.Number(), 3600_000)) * float64(time.Millisecond))
		case "parts":
			in.Parts = r.Texts()
		default:
			return false
		}
		return true
	})
	return in
}

// storeAll takes many fragments in, or leases back whose fill failed; each has an answer.
func (c *Control) storeAll(w http.ResponseWriter, r *http.Request, namespace string) {
	length := max(r.ContentLength, 0)
	if r.ContentLength < 0 {
		problem(w, http.StatusLengthRequired, "send the length of the body, so that room can be made for it")
		return
	}
	if !c.store.Reserve(length) {
		problem(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("%d bytes do not fit into the store; its limit is set with --memory, or send them in several calls", length))
		return
	}
	left := length
	defer func() { c.store.Release(left) }()
	in := cbor.NewReader(r.Body, length)
	var results []error
	for in.More() && len(results) < maxKeys {
		offered := readOffer(in)
		if in.Err() != nil {
			break
		}
		freed := min(left, int64(len(offered.Body)))
		c.store.Release(freed) // the store counts it from here on
		left -= freed
		results = append(results, c.take(namespace, offered))
	}
	if in.Err() == nil && in.More() {
		problem(w, http.StatusBadRequest, fmt.Sprintf("one call stores up to %d fragments; the first %d of them were dealt with, send the rest in another", maxKeys, maxKeys))
		return
	}
	if err := in.Err(); err != nil {
		problem(w, http.StatusBadRequest, fmt.Sprintf("the fragment at place %d is none, and nothing from it on was stored: %v", len(results), err))
		return
	}
	o := newOut(w)
	defer o.end()
	for i, err := range results {
		fields := 2
		if err != nil {
			fields = 4
		}
		o.b = cbor.AppendMap(o.b, fields)
		o.b = cbor.AppendInt(cbor.AppendText(o.b, "at"), int64(i))
		o.b = cbor.AppendBool(cbor.AppendText(o.b, "stored"), err == nil)
		if err != nil {
			o.b = cbor.AppendText(cbor.AppendText(o.b, "refused"), fragment.Refused(err).Kind.String())
			o.b = cbor.AppendText(cbor.AppendText(o.b, "why"), err.Error())
		}
		o.room()
	}
}

func (c *Control) take(namespace string, in offer) error {
	id, err := fragment.NewID(namespace, in.key)
	if err != nil {
		return &fragment.Refusal{Kind: fragment.Invalid, Text: err.Error()}
	}
	if in.failed {
		return c.node.Fragments().GiveBack(id, in.Lease)
	}
	return c.node.Fragments().Put(id, in.Fill)
}

// describeFragments puts the plain handlers into the API's description.
func (c *Control) describeFragments() {
	api := c.api.OpenAPI()
	text := &huma.Schema{Type: "string"}
	param := func(name, in, doc string, required bool) *huma.Param {
		return &huma.Param{Name: name, In: in, Description: doc, Required: required, Schema: text}
	}
	answer := func(doc, kind string, headers ...string) *huma.Response {
		r := &huma.Response{Description: doc}
		if kind != "" {
			r.Content = map[string]*huma.MediaType{kind: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}
		}
		for i := 0; i+1 < len(headers); i += 2 {
			if r.Headers == nil {
				r.Headers = map[string]*huma.Param{}
			}
			r.Headers[headers[i]] = &huma.Param{Description: headers[i+1], Schema: text}
		}
		return r
	}
	fault := func(doc string) *huma.Response { return answer(doc, "application/problem+json") }
	namespace := param("namespace", "query", "The application; only needed with a token that is for none", false)
	name := param("key", "path", `The fragment's key: a name, and in brackets what tells pieces of the name apart, as in row("tholm",7)`, true)
	lease := param(leaseHeader, "header", "The lease that the last lookup gave", false)
	add := func(id, method, path, summary, about string, params []*huma.Param, body *huma.RequestBody, answers map[string]*huma.Response) {
		answers["401"], answers["403"] = fault("There is no token, or none that is known"), fault("The token lacks the right, or is for another application")
		op := operation(id, method, path, summary, records.Fragments)
		op.Description, op.Parameters, op.RequestBody, op.Responses = about, params, body, answers
		api.AddOperation(&op)
	}
	binary := func(kind string) *huma.RequestBody {
		return &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{kind: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}
	}
	add("get-fragment", http.MethodGet, "/v1/fragments/{key}", "Find a fragment, or get the right to fill it", "", []*huma.Param{name, namespace,
		param("wait", "query", "How long to wait while somebody else fills it: 2s", false),
		param("lease", "query", "How long the fill may take: 30s; 0 only looks", false),
		param("fresh", "query", "What is stale is to be filled, as if it were not there", false),
		param("renew", "query", "Ask for a lease even if it is fresh", false),
	}, nil, map[string]*huma.Response{
		"200": answer("It is there", "*/*", stateHeader, "fresh, or stale", leaseHeader, "With stale: it is yours to fill, behind whoever waits", leftHeader, "Seconds of its life that are left", costHeader, "Milliseconds that its fill took", "Cache-Groups", "Its tags (RFC 9875)", "Age", "Seconds since it was stored"),
		"202": answer("Somebody else fills it", "", stateHeader, "filling", "Retry-After", "Seconds"),
		"404": answer("It is not there", "application/problem+json", stateHeader, "yours, or missing if no lease was asked for", leaseHeader, "With yours: the right to fill it"),
		"400": fault("The key or a parameter is none"),
	})
	add("put-fragment", http.MethodPut, "/v1/fragments/{key}", "Store what was filled", "", []*huma.Param{name, namespace, lease,
		param("Cache-Control", "header", "max-age, the lifetime, and perhaps stale-while-revalidate, in seconds", true),
		param("Cache-Groups", "header", "Its tags, a list of strings (RFC 9875)", false),
		param(costHeader, "header", "Milliseconds that it took to make; since the lease was given, if left out", false),
		param("Content-Encoding", "header", "gzip, or left out", false),
	}, binary("*/*"), map[string]*huma.Response{
		"204": answer("It is stored", ""), "400": fault("The key or a header is none"), "409": fault("A purge or a newer fill has overtaken the lease"),
		"411": fault("The length is missing"), "413": fault("It does not fit into the store"), "422": fault("It has no lease, no lifetime, or too many tags"),
	})
	add("delete-fragment", http.MethodDelete, "/v1/fragments/{key}", "Drop a fragment on every node; with a lease, give that back instead", "", []*huma.Param{name, namespace, lease}, nil, map[string]*huma.Response{
		"200": answer("It is purged, as the purge in the body says", "application/json"), "204": answer("The lease is given back", ""), "409": fault("The lease is not in force"), "503": fault("The ledger cannot be written to"),
	})
	add("lookup-fragments", http.MethodPost, "/v1/fragments/lookup", "Find up to 1,000 fragments in one round trip",
		"The body is a CBOR map: keys (array of texts), wait and lease (milliseconds), fresh, renew and details (booleans). The answer is a CBOR sequence (RFC 8742): a map with namespace and stamp, then for each key, in any order, a map with at (its place), state, and as they apply lease, cause, waited, body, coding, age, left (seconds), tags, and with details type and cost (milliseconds).",
		[]*huma.Param{namespace}, binary("application/cbor"), map[string]*huma.Response{"200": answer("What was found", cbor.MediaType), "400": fault("The body is no lookup")})
	add("store-fragments", http.MethodPost, "/v1/fragments/store", "Store up to 1,000 fragments in one round trip",
		"The body is a CBOR sequence of maps with key, lease, and either failed: true or body, type, coding, life and stale (seconds), cost (milliseconds), tags, parts. The answer is a CBOR sequence of maps, in the same order, with at, stored, and if it is not stored refused (invalid, overtaken, too-large) and why.",
		[]*huma.Param{namespace}, binary(cbor.MediaType), map[string]*huma.Response{"200": answer("What became of each", cbor.MediaType), "400": fault("The body is no sequence of fragments"), "411": fault("The length is missing"), "413": fault("It does not fit into the store")})
}
