package control

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"sync"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/fragment"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/tags"
)

// Limits of the calls for many fragments.
const (
	maxLookup = protocol.MaxKeys * (protocol.MaxKey + 16)
	// gathered is how much of an answer is put together before it goes out.
	gathered = 96 << 10
)

// lookupCall is the body of a lookup.
type lookupCall struct {
	asked
	ids     []fragment.ID
	have    []string              // validators of what the caller has, by place; nil: it asks for none
	details bool                  // tell type and cost, too
	found   protocol.LookupAnswer // the one that is being written
	same    protocol.LookupSame   // what is to be written together
}

// readLookup reads a lookup; an error says what is wrong with it.
func readLookup(r *http.Request, namespace string) (q lookupCall, err error) {
	in := protocol.NewReader(r.Body, r.ContentLength)
	var asks protocol.Lookup
	if err := in.Next(&asks); err != nil {
		return q, fmt.Errorf("the body is not a lookup: a CBOR map with keys (an array of texts), and perhaps wait, lease, fresh, renew, details, have: %w", err)
	}
	q.Lease, q.FreshOnly, q.Renew, q.details = defaultLease, asks.Fresh, asks.Renew, asks.Details
	if q.wait, err = milli(asks.Wait, maxWait); err == nil && asks.Lease != nil {
		q.Lease, err = milli(*asks.Lease, maxLease)
	}
	if err == nil && (len(asks.Keys) == 0 || len(asks.Keys) > protocol.MaxKeys) {
		err = fmt.Errorf("a lookup has 1 to %d keys; this one has %d", protocol.MaxKeys, len(asks.Keys))
	}
	if err == nil && len(asks.Have) > 0 && len(asks.Have) != len(asks.Keys) {
		err = fmt.Errorf("have has a validator for each key, or an empty text; there are %d keys, and %d of these", len(asks.Keys), len(asks.Have))
	}
	if err != nil {
		return q, err
	}
	q.have = asks.Have
	q.ids = make([]fragment.ID, len(asks.Keys))
	for i, k := range asks.Keys {
		if q.ids[i], err = fragment.NewID(namespace, k); err != nil {
			return q, err
		}
	}
	return q, nil
}

// milli is a time that is written in milliseconds.
func milli(ms float64, most time.Duration) (time.Duration, error) {
	if !(ms >= 0 && ms <= float64(most/time.Millisecond)) {
		return 0, fmt.Errorf("wait and lease are milliseconds, from 0 to %d", most/time.Millisecond)
	}
	return time.Duration(ms * float64(time.Millisecond)), nil
}

// sequence gathers an answer, and sends it in large pieces.
type sequence struct {
	w    http.ResponseWriter
	b    *bytes.Buffer
	sent bool

	buffers *sync.Pool // those that were used
}

func (c *Control) newSequence(w http.ResponseWriter) *sequence {
	w.Header()["Content-Type"] = []string{protocol.MediaType}
	b, used := c.buffers.Get().(*bytes.Buffer)
	if !used {
		b = bytes.NewBuffer(make([]byte, 0, gathered))
	}
	return &sequence{w: w, b: b, buffers: &c.buffers}
}

// add appends a message, and sends what there is when it is much.
func (s *sequence) add(message any) {
	_ = protocol.Append(s.b, message) // all that we say can be written
	if s.b.Len() > gathered*3/4 {
		s.flush()
	}
}

func (s *sequence) flush() {
	_, _ = s.w.Write(s.b.Bytes())
	s.b.Reset()
	s.sent = true
}

func (s *sequence) end() {
	if !s.sent {
		s.w.Header()["Content-Length"] = []string{strconv.Itoa(s.b.Len())}
	}
	s.flush()
	if s.b.Cap() <= 2*gathered { // one that held a large body is not kept
		s.buffers.Put(s.b)
	}
}

// lookup finds many fragments, each with its state and perhaps a lease. What is there goes
// out first. It waits for what others fill only if it gives no lease: whoever has to fill
// something must not wait for somebody who waits for them.
func (c *Control) lookup(w http.ResponseWriter, r *http.Request, namespace string) {
	r.Body = http.MaxBytesReader(w, r.Body, maxLookup)
	q, err := readLookup(r, namespace)
	if err != nil {
		problem(w, http.StatusBadRequest, err.Error())
		return
	}
	fragments := c.node.Fragments()
	out := c.newSequence(w)
	defer out.end()
	// The stamp is taken before anything is found, so that nothing found is older than it says.
	out.add(protocol.LookupHead{Namespace: namespace, Stamp: uint64(fragments.Barrier.Stamp())})
	began := c.now()
	leased := false
	var open []int
	var waiting []fragment.Answer
	samples, ids := make([]meter.Sample, 0, len(q.ids)), make([]fragment.ID, 0, len(q.ids))
	for i, id := range q.ids {
		if !q.Renew {
			fragments.Asked(id, began)
		}
		a := fragments.Look(id, q.Ask, began)
		leased = leased || a.State == fragment.Yours
		if a.State == fragment.Filling && q.wait > 0 {
			open, waiting = append(open, i), append(waiting, a)
			continue
		}
		samples, ids = append(samples, fragments.Sample(id, a, false, 0, began)), append(ids, id)
		q.tell(out, i, a, false, began)
	}
	if len(q.same.Same) > 0 {
		out.add(&q.same)
	}
	took := c.now().Sub(began)
	for i := range samples {
		samples[i].Took = took // they came together
	}
	if len(open) > 0 && !leased {
		out.flush()
		_ = http.NewResponseController(w).Flush()
	}
	for n, i := range open {
		a := waiting[n]
		if !leased {
			a = c.await(r.Context(), q.ids[i], q.Ask, a, began.Add(q.wait))
			leased = a.State == fragment.Yours
		}
		now := c.now()
		samples, ids = append(samples, fragments.Sample(q.ids[i], a, true, now.Sub(began), now)), append(ids, q.ids[i])
		q.tell(out, i, a, true, now)
	}
	fragments.Record(ids, samples)
}

// tell writes what was found of the key at a place in the lookup, or puts it with others to be written together.
func (q *lookupCall) tell(out *sequence, at int, a fragment.Answer, waited bool, now time.Time) {
	q.found = q.answer(at, a, now)
	q.found.Waited = waited
	if a.Entry == nil || len(q.have) == 0 {
		out.add(&q.found)
		return
	}
	digest := a.Entry.Digest()
	if q.found.ETag = hex.EncodeToString(digest[:12]); q.found.ETag == q.have[at] && a.State == fragment.Fresh && !waited {
		q.same.Add(at, q.found.Age, q.found.Left, q.found.Tags)
		return
	}
	if kind := a.Entry.Header.Get("Content-Type"); kind != protocol.PlainType {
		q.found.Type = kind
	}
	out.add(&q.found)
}

// answer is what was found of the key at a place in the lookup.
func (q *lookupCall) answer(at int, a fragment.Answer, now time.Time) protocol.LookupAnswer {
	out := protocol.LookupAnswer{At: at, State: a.State.String()}
	if a.Lease != nil && a.State != fragment.Filling {
		out.Lease = a.Lease.ID
	}
	e := a.Entry
	if e == nil {
		out.Cause = a.Cause.String()
		return out
	}
	out.Age, out.Left = e.Freshness.Age(now).Seconds(), a.Left(now).Seconds()
	out.Coding, out.Tags, out.Body = e.Header.Get("Content-Encoding"), e.Subject.Tags, e.Body
	if q.details {
		out.Type, out.CostMS = e.Header.Get("Content-Type"), milliseconds(e.Cost())
	}
	return out
}

// forever is the longest lifetime in seconds that is told apart from for ever.
const forever = 100 * 365 * 24 * 3600

// maxUnleased is how long a body may be, in bytes, that comes with a lease that is not known: a
// longer one is not looked at.
const maxUnleased = 1 << 20

// fillOf is the fragment that is offered.
func (c *Control) fillOf(o *protocol.Offer) fragment.Fill {
	seconds := func(s float64) time.Duration { return time.Duration(max(0, min(s, forever)) * float64(time.Second)) }
	in := fragment.Fill{
		Lease: o.Lease, Direct: o.Direct, Type: o.Type, Coding: o.Coding, Tags: o.Tags[:min(len(o.Tags), protocol.MaxTags+1)],
		Lifetime: seconds(o.Life), Stale: seconds(o.Stale), Cost: time.Duration(max(0, min(o.CostMS, 3600_000)) * float64(time.Millisecond)), Work: meter.NewWork(o.Work),
	}
	if o.Since != nil {
		since := tags.Stamp(*o.Since)
		in.Since = &since
	}
	for _, part := range o.Parts {
		if len(in.Parts) < protocol.MaxParts && len(part) <= protocol.MaxKey+65 {
			in.Parts = append(in.Parts, part)
		}
	}
	if in.TooLong = len(o.Body) > maxUnleased && !c.node.Fragments().Leases.Known(in.Lease); !in.TooLong {
		in.Body = bytes.Clone(o.Body) // it stays; what else came with it does not
	}
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
	in := protocol.NewReader(room, r.ContentLength)
	var results []error
	for {
		var offered protocol.Offer
		err := in.Next(&offered)
		if err == io.EOF {
			break
		}
		switch {
		case room.refused:
			problem(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("the fragment at place %d does not fit into the store, and nothing from it on was stored; the limit is set with --memory", len(results)))
			return
		case err != nil:
			problem(w, http.StatusBadRequest, fmt.Sprintf("the fragment at place %d is not one, and nothing from it on was stored: %v", len(results), err))
			return
		case len(results) == protocol.MaxKeys:
			problem(w, http.StatusBadRequest, fmt.Sprintf("one call stores up to %d fragments; the first %d of them were dealt with, send the rest in another", protocol.MaxKeys, protocol.MaxKeys))
			return
		}
		room.release() // the store counts it from here on
		results = append(results, c.take(namespace, &offered))
	}
	out := c.newSequence(w)
	defer out.end()
	for i, err := range results {
		stored := protocol.Stored{At: i, Stored: err == nil}
		if err != nil {
			stored.Refused, stored.Why = fragment.Refused(err).Kind.String(), err.Error()
		}
		out.add(stored)
	}
}

func (c *Control) take(namespace string, offered *protocol.Offer) error {
	id, err := fragment.NewID(namespace, offered.Key)
	if err != nil {
		return &fragment.Refusal{Kind: fragment.Invalid, Text: err.Error()}
	}
	if offered.Failed {
		return c.node.Fragments().GiveBack(id, offered.Lease)
	}
	err = c.node.Fragments().Put(id, c.fillOf(offered))
	if refusal := fragment.Refused(err); refusal != nil && refusal.Kind == fragment.Invalid {
		_ = c.node.Fragments().GiveBack(id, offered.Lease) // nobody mends one of many: who waits is not kept waiting
	}
	return err
}
