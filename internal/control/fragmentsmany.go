package control

import (
	"bytes"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"sync"
	"time"

	"gerastic/internal/cbor"
	"gerastic/internal/core/fragment"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
)

// Limits of the calls for many fragments.
const (
	maxKeys   = 1000
	maxLookup = maxKeys * (fragment.MaxKey + 16)
	// gathered is how much of an answer is put together before it goes out.
	gathered = 96 << 10
)

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
	o.b = cbor.AppendInt(o.b, int64(fragments.Barrier.Stamp()))
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

// maxUnleased is how long a body may be, in bytes, that comes before its lease does: a longer
// one is passed over.
const maxUnleased = 1 << 20

func (c *Control) readOffer(r *cbor.Reader) (in offer) {
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
			n := r.BytesHead()
			if in.TooLong = n > maxUnleased && !c.node.Fragments().Leases.Known(in.Lease); in.TooLong {
				r.Discard(n)
				break
			}
			in.Body = bytes.Clone(r.Body(n)) // it stays; what else came with it does not
		case "tags":
			in.Tags = r.TextsUpTo(httprules.MaxGroups+1, math.MaxInt)
		case "life":
			in.Lifetime = seconds()
		case "stale":
			in.Stale = seconds()
		case "cost":
			in.Cost = time.Duration(max(0, min(r.Number(), 3600_000)) * float64(time.Millisecond))
		case "parts":
			in.Parts = r.TextsUpTo(fragment.MaxParts, fragment.MaxKey+65)
		default:
			return false
		}
		return true
	})
	return in
}

// storeAll takes many fragments in, or leases back whose fill failed; each has an answer.
func (c *Control) storeAll(w http.ResponseWriter, r *http.Request, namespace string) {
	if r.ContentLength < 0 {
		problem(w, http.StatusLengthRequired, "send the length of the body, so that room can be made for it")
		return
	}
	room := c.reserving(r.Body)
	defer room.release()
	in := cbor.NewReader(room, r.ContentLength)
	var results []error
	for in.More() && len(results) < maxKeys {
		offered := c.readOffer(in)
		if in.Err() != nil {
			break
		}
		room.release() // the store counts it from here on
		results = append(results, c.take(namespace, offered))
	}
	if in.Err() == nil && in.More() {
		problem(w, http.StatusBadRequest, fmt.Sprintf("one call stores up to %d fragments; the first %d of them were dealt with, send the rest in another", maxKeys, maxKeys))
		return
	}
	if room.refused {
		problem(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("the fragment at place %d does not fit into the store, and nothing from it on was stored; the limit is set with --memory", len(results)))
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
