package client

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/gzip"

	"gerastic.example/client/protocol"
)

// wire carries lookups and stores.
type wire struct {
	client  *Client
	conns   *conns
	paths   map[string]string // of a call, with its query
	bad     error             // the address is none
	options FragmentOptions
	known   atomic.Pointer[string] // the namespace, once an answer named it
	perKey  atomic.Int64           // bytes that the last lookup brought for a key: the next likely brings as many
}

func newWire(base, token string, o FragmentOptions) *wire {
	w := &wire{client: New(base, token), options: o, paths: map[string]string{}}
	for _, call := range []string{"lookup", "store"} {
		to, err := url.Parse(base + "/v1/fragments/" + call)
		switch {
		case err != nil:
			w.bad = err
			return w
		case strings.ContainsFunc(token, func(r rune) bool { return r < ' ' || r > '~' }):
			w.bad = errors.New("the token is not one line of ASCII; is there a line end behind it?")
			return w
		case to.Scheme != "http" && to.Scheme != "https" || to.Host == "":
			w.bad = fmt.Errorf("%q is no address of a node; write http://127.0.0.1:8490", base)
			return w
		}
		if o.Namespace != "" {
			to.RawQuery = url.Values{"namespace": {o.Namespace}}.Encode()
		}
		w.paths[call] = to.RequestURI()
		w.conns = newConns(to, token)
	}
	return w
}

// namespace is that of the token, as far as it is known.
func (w *wire) namespace() string {
	if known := w.known.Load(); known != nil {
		return *known
	}
	return w.options.Namespace
}

// answers are what a lookup found, in the order of its keys.
type answers struct {
	namespace string
	stamp     uint64
	at        time.Time // when they came
	bytes     int64     // that they took, about
	items     []answer
}

type answer struct {
	protocol.LookupAnswer
	seen bool
	same bool // the caller has the body
}

// ask is what a lookup wants besides its keys.
type ask struct {
	fresh bool // what is stale counts as missing
	renew bool // a lease even for what is fresh
	only  bool // no lease, and no wait for what others fill

	have []string // validators of what is at hand, by place
}

// lookup finds keys. It takes no longer than the time limit, or that and the wait for what
// others fill, as soon as Gerastic has begun to answer.
func (w *wire) lookup(ctx context.Context, keys []string, ask ask) (*answers, error) {
	lease, wait := float64(w.options.Lease.Milliseconds()), float64(w.options.Wait.Milliseconds())
	if ask.only {
		lease, wait = 0, 0
	}
	var body bytes.Buffer
	if err := protocol.Append(&body, protocol.Lookup{Keys: keys, Wait: wait, Lease: &lease, Fresh: ask.fresh, Renew: ask.renew, Have: ask.have}); err != nil {
		return nil, err
	}
	r, err := w.post(ctx, "lookup", body.Bytes(), w.options.Timeout)
	if err != nil {
		return nil, err
	}
	defer r.end()
	expect := r.ContentLength
	if expect < 0 { // more comes when others have filled it
		r.until(time.Now().Add(w.options.Timeout + w.options.Wait))
		expect = w.perKey.Load() * int64(len(keys))
	}
	a, err := readAnswers(r, expect, len(keys), ask.have)
	if err != nil {
		return nil, fmt.Errorf("reading what was found: %w", err)
	}
	w.perKey.Store(a.bytes / int64(len(keys)))
	if known := w.known.Load(); known == nil {
		w.known.Store(&a.namespace)
	}
	return a, nil
}

var errTooLate = fmt.Errorf("the node did not answer in time: %w", context.DeadlineExceeded)

// post makes a call; what does not succeed is an error.
func (w *wire) post(ctx context.Context, call string, body []byte, within time.Duration) (*reply, error) {
	if w.bad != nil {
		return nil, w.bad
	}
	r, err := w.conns.post(ctx, w.paths[call], body, within)
	if err != nil {
		return nil, err
	}
	if r.StatusCode != http.StatusOK {
		defer r.end()
		return nil, problemOf(r.Response, nil)
	}
	return r, nil
}

// aroundBody is what an answer says besides the body, in bytes, tags of usual length included.
const aroundBody = 256

// readAnswers reads what a lookup of so many keys found, in about as many bytes as are expected; have are the
// validators that it gave.
func readAnswers(body io.Reader, expect int64, keys int, have []string) (*answers, error) {
	in := protocol.NewReader(body, expect)
	var head protocol.LookupHead
	if err := in.Next(&head); err != nil {
		return nil, half(err)
	}
	a := &answers{namespace: head.Namespace, stamp: head.Stamp, items: make([]answer, keys)}
	var found protocol.LookupAnswer // one place for all: what it had is overwritten
	for seen := 0; ; {              // to the end: only then is the connection free for the next
		found = protocol.LookupAnswer{}
		if err := in.Next(&found); err == io.EOF && seen == keys {
			break
		} else if err != nil {
			return nil, half(err)
		}
		n, err := a.take(&found, have)
		if err != nil {
			return nil, err
		}
		seen += n
	}
	a.at = time.Now()
	return a, nil
}

// take notes an answer, which is of one key or of several, and returns of how many.
func (a *answers) take(found *protocol.LookupAnswer, have []string) (keys int, err error) {
	if found.Same == nil {
		a.bytes += int64(len(found.Body)) + aroundBody
		return 1, a.put(answer{LookupAnswer: *found})
	}
	if !found.Whole() {
		return 0, errors.New("the answer does not tell of each key what belongs to it")
	}
	for n, at := range found.Same {
		if at >= 0 && at < len(have) && have[at] == "" {
			return 0, fmt.Errorf("the answer takes the body at place %d for known, which is not", at)
		}
		one := answer{LookupAnswer: protocol.LookupAnswer{At: at, State: "fresh", Age: found.Ages[n], Left: found.Lives[n], Tags: found.LookupSame.Tags(n)}, same: true}
		if err := a.put(one); err != nil {
			return 0, err
		}
	}
	return len(found.Same), nil
}

func (a *answers) put(one answer) error {
	if one.At < 0 || one.At >= len(a.items) || a.items[one.At].seen {
		return fmt.Errorf("the answer tells of place %d among %d", one.At, len(a.items))
	}
	one.seen = true
	a.items[one.At] = one
	return nil
}

// half says of an answer that ended too early that it did: half is nothing.
func half(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// offer is a fragment to be stored, or (failed) a lease to be given back.
type offer struct {
	key, lease  string
	failed      bool
	body        []byte
	kind        string
	life, stale time.Duration
	cost        time.Duration
	tags, parts []string
	work        map[string]float64
	direct      bool
	since       *uint64
}

// packFrom is the size from which bodies are compressed, if that gains a tenth: below it,
// unpacking at each use costs more than the bytes.
const packFrom = 16 << 10

// message is the offer on the wire.
func (o *offer) message() protocol.Offer {
	if o.failed {
		return protocol.Offer{Key: o.key, Lease: o.lease, Failed: true}
	}
	m := protocol.Offer{
		Key: o.key, Lease: o.lease, Type: o.kind, Life: o.life.Seconds(), Stale: o.stale.Seconds(), CostMS: float64(o.cost) / float64(time.Millisecond),
		Tags: o.tags, Parts: o.parts, Body: o.body, Work: o.work, Direct: o.direct, Since: o.since,
	}
	if len(o.body) >= packFrom {
		var packed bytes.Buffer
		w, _ := gzip.NewWriterLevel(&packed, 3)
		_, _ = w.Write(o.body)
		if _ = w.Close(); packed.Len() < len(o.body)*9/10 {
			m.Body, m.Coding = packed.Bytes(), "gzip"
		}
	}
	return m
}

// store offers fragments, and returns what became of each.
func (w *wire) store(ctx context.Context, offers []offer, within time.Duration) (became []protocol.Stored, err error) {
	var b bytes.Buffer
	for i := range offers {
		if err := protocol.Append(&b, offers[i].message()); err != nil {
			return nil, err
		}
	}
	r, err := w.post(ctx, "store", b.Bytes(), within)
	if err != nil {
		return nil, err
	}
	defer r.end()
	in := protocol.NewReader(r, r.ContentLength)
	became = make([]protocol.Stored, len(offers))
	for i := 0; ; i++ {
		var stored protocol.Stored
		switch err := in.Next(&stored); {
		case err == io.EOF && i == len(offers):
			return became, nil
		case err != nil:
			return nil, half(err)
		case i == len(offers):
			return nil, fmt.Errorf("the answer tells of more than the %d that were offered", i)
		}
		became[i] = stored
	}
}

// FragmentBody returns the bytes of a fragment as they are stored, unpacked; an error with
// status 404 if it is not there. The token needs the right fragments.
func (c *Client) FragmentBody(ctx context.Context, namespace, key string) ([]byte, error) {
	return c.bytes(ctx, "/v1/fragments/"+url.PathEscape(key)+"?lease=0&namespace="+url.QueryEscape(namespace))
}

// bytes returns what stands at a path, as it is.
func (c *Client) bytes(ctx context.Context, path string) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+path, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, fmt.Errorf("no node answers at %s; is it running, and is --control right? (%w)", c.base, unwrapURL(err))
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, problemOf(resp, nil)
	}
	return io.ReadAll(resp.Body)
}

// DropFragment removes a fragment by its key on every node; namespace is "" with a token that
// is for one application. StatusOf the error is 503 while the ledger cannot be written to.
func (c *Client) DropFragment(ctx context.Context, namespace, key string) (PurgeResult, error) {
	var out PurgeResult
	q := url.Values{}
	if namespace != "" {
		q.Set("namespace", namespace)
	}
	return out, c.call(ctx, http.MethodDelete, "/v1/fragments/"+url.PathEscape(key), q, nil, &out)
}
