package client

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/gzip"

	"gerastic.example/client/protocol"
)

// wire carries lookups and stores.
type wire struct {
	client    *Client
	transport *http.Transport
	lookupURL *url.URL
	storeURL  *url.URL
	header    http.Header // of every call; read only
	bad       error       // the address is none
	options   FragmentOptions
	known     atomic.Pointer[string] // the namespace, once an answer named it
	perKey    atomic.Int64           // bytes that the last lookup brought for a key: the next likely brings as many
}

func newWire(base, token string, o FragmentOptions) *wire {
	query := ""
	if o.Namespace != "" {
		query = "?namespace=" + url.QueryEscape(o.Namespace)
	}
	w := &wire{client: New(base, token), options: o}
	// HTTP/1.1 on connections of its own: lookups are many and short.
	w.transport = http.DefaultTransport.(*http.Transport).Clone()
	w.transport.MaxIdleConns, w.transport.MaxIdleConnsPerHost, w.transport.DisableCompression = 256, 256, true
	w.transport.Proxy = nil
	if w.lookupURL, w.bad = url.Parse(base + "/v1/fragments/lookup" + query); w.bad == nil {
		w.storeURL, w.bad = url.Parse(base + "/v1/fragments/store" + query)
	}
	w.header = http.Header{
		"Authorization": {"Bearer " + token}, "Content-Type": {protocol.MediaType},
		// A call that a broken connection swallowed is made again; nothing is sent of this.
		"Idempotency-Key": {},
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
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	limit := time.AfterFunc(w.options.Timeout, func() { cancel(errTooLate) })
	defer limit.Stop()
	resp, err := w.post(ctx, w.lookupURL, body.Bytes())
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.ContentLength < 0 { // more comes when others have filled it
		limit.Reset(w.options.Timeout + w.options.Wait)
	}
	expect := resp.ContentLength
	if perKey := w.perKey.Load(); expect < 0 && perKey > 0 {
		expect = perKey * int64(len(keys))
	}
	a, err := readAnswers(resp.Body, expect, len(keys))
	if err != nil && context.Cause(ctx) != nil {
		err = context.Cause(ctx)
	}
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

func (w *wire) post(ctx context.Context, to *url.URL, body []byte) (*http.Response, error) {
	if w.bad != nil {
		return nil, w.bad
	}
	req := (&http.Request{
		Method: http.MethodPost, URL: to, Host: to.Host, Header: w.header, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
		Body: io.NopCloser(bytes.NewReader(body)), ContentLength: int64(len(body)),
		GetBody: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body)), nil },
	}).WithContext(ctx)
	resp, err := w.transport.RoundTrip(req)
	if err != nil {
		if cause := context.Cause(ctx); cause != nil {
			err = cause
		}
		return nil, fmt.Errorf("%s: %w", to.Host, err)
	}
	if resp.StatusCode != http.StatusOK {
		defer resp.Body.Close()
		return nil, problemOf(resp, nil)
	}
	return resp, nil
}

// aroundBody is what an answer says besides the body, in bytes, tags of usual length included.
const aroundBody = 256

// readAnswers reads what a lookup of so many keys found, in about as many bytes as are expected.
func readAnswers(body io.Reader, expect int64, keys int) (*answers, error) {
	in := protocol.NewReader(body, expect)
	var head protocol.LookupHead
	if err := in.Next(&head); err != nil {
		return nil, half(err)
	}
	a := &answers{namespace: head.Namespace, stamp: head.Stamp, items: make([]answer, keys)}
	var found answer          // one place for all: what it had is overwritten
	for seen := 0; ; seen++ { // to the end: only then is the connection free for the next
		found = answer{}
		if err := in.Next(&found.LookupAnswer); err == io.EOF && seen == keys {
			break
		} else if err != nil {
			return nil, half(err)
		}
		if found.At < 0 || found.At >= keys || a.items[found.At].seen {
			return nil, fmt.Errorf("the answer tells of place %d among %d", found.At, keys)
		}
		found.seen = true
		a.items[found.At] = found
		a.bytes += int64(len(found.Body)) + aroundBody
	}
	a.at = time.Now()
	return a, nil
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

// store offers fragments. refusals says for each why it was not taken; "" if it was.
func (w *wire) store(ctx context.Context, offers []offer) (refusals []string, err error) {
	var b bytes.Buffer
	for i := range offers {
		if err := protocol.Append(&b, offers[i].message()); err != nil {
			return nil, err
		}
	}
	resp, err := w.post(ctx, w.storeURL, b.Bytes())
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	in := protocol.NewReader(resp.Body, resp.ContentLength)
	refusals = make([]string, len(offers))
	for i := 0; ; i++ {
		var stored protocol.Stored
		switch err := in.Next(&stored); {
		case err == io.EOF && i == len(offers):
			return refusals, nil
		case err != nil:
			return nil, half(err)
		case i == len(offers):
			return nil, fmt.Errorf("the answer tells of more than the %d that were offered", i)
		}
		refusals[i] = stored.Why
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
