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

	"gerastic/internal/cbor"
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
		"Authorization": {"Bearer " + token}, "Content-Type": {cbor.MediaType},
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
	items     []answer
}

type answer struct {
	state, lease, coding string
	body                 []byte
	tags                 []string
	age, left            float64 // seconds
	waited               bool
	seen                 bool
}

// lookup finds keys. It takes no longer than the time limit, or that and the wait for what
// others fill, as soon as Gerastic has begun to answer.
func (w *wire) lookup(ctx context.Context, keys []string, fresh, renew bool) (*answers, error) {
	size := 64
	for _, key := range keys {
		size += len(key) + 3
	}
	b := make([]byte, 0, size)
	fields := 3
	if fresh {
		fields++
	}
	if renew {
		fields++
	}
	b = cbor.AppendTexts(cbor.AppendText(cbor.AppendMap(b, fields), "keys"), keys)
	b = cbor.AppendInt(cbor.AppendText(b, "wait"), w.options.Wait.Milliseconds())
	b = cbor.AppendInt(cbor.AppendText(b, "lease"), w.options.Lease.Milliseconds())
	if fresh {
		b = cbor.AppendBool(cbor.AppendText(b, "fresh"), true)
	}
	if renew {
		b = cbor.AppendBool(cbor.AppendText(b, "renew"), true)
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	limit := time.AfterFunc(w.options.Timeout, func() { cancel(errTooLate) })
	defer limit.Stop()
	resp, err := w.post(ctx, w.lookupURL, b)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.ContentLength < 0 { // more comes when others have filled it
		limit.Reset(w.options.Timeout + w.options.Wait)
	}
	a, err := readAnswers(cbor.NewReader(resp.Body, resp.ContentLength), len(keys))
	if err != nil && context.Cause(ctx) != nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		return nil, fmt.Errorf("reading what was found: %w", err)
	}
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

func readAnswers(r *cbor.Reader, keys int) (*answers, error) {
	a := &answers{items: make([]answer, keys)}
	defer func() { a.at = time.Now() }()
	r.Fields(func(name string) bool {
		switch name {
		case "namespace":
			a.namespace = r.Text()
		case "stamp":
			a.stamp = uint64(r.Number())
		default:
			return false
		}
		return true
	})
	seen := 0
	tags := make([]string, 0, 2*keys) // of all of them
	for r.More() {
		at := -1
		var item answer
		r.Fields(func(name string) bool {
			switch name {
			case "at":
				at = int(r.Number())
			case "state":
				item.state = r.TextInPlace()
			case "lease":
				item.lease = r.Text()
			case "coding":
				item.coding = r.TextInPlace()
			case "body":
				item.body = r.Bytes()
			case "tags":
				from := len(tags)
				tags = r.TextsInPlace(tags)
				item.tags = tags[from:len(tags):len(tags)]
			case "age":
				item.age = r.Number()
			case "left":
				item.left = r.Number()
			case "waited":
				item.waited = r.Bool()
			default:
				return false
			}
			return true
		})
		if r.Err() != nil {
			break
		}
		if at < 0 || at >= keys || a.items[at].seen {
			return nil, fmt.Errorf("the answer tells of place %d among %d", at, keys)
		}
		item.seen = true
		a.items[at] = item
		seen++
	}
	if err := r.Err(); err != nil {
		return nil, err
	}
	if seen != keys {
		return nil, io.ErrUnexpectedEOF // half is nothing
	}
	return a, nil
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
}

// packFrom is the size from which bodies are compressed, if that gains a tenth: below it,
// unpacking at each use costs more than the bytes.
const packFrom = 16 << 10

func (o *offer) append(b []byte) []byte {
	if o.failed {
		b = cbor.AppendText(cbor.AppendText(cbor.AppendMap(b, 3), "key"), o.key)
		b = cbor.AppendText(cbor.AppendText(b, "lease"), o.lease)
		return cbor.AppendBool(cbor.AppendText(b, "failed"), true)
	}
	body, coding := o.body, ""
	if len(body) >= packFrom {
		var packed bytes.Buffer
		w, _ := gzip.NewWriterLevel(&packed, 3)
		_, _ = w.Write(body)
		if _ = w.Close(); packed.Len() < len(body)*9/10 {
			body, coding = packed.Bytes(), "gzip"
		}
	}
	b = cbor.AppendText(cbor.AppendText(cbor.AppendMap(b, 10), "key"), o.key)
	b = cbor.AppendText(cbor.AppendText(b, "lease"), o.lease)
	b = cbor.AppendText(cbor.AppendText(b, "type"), o.kind)
	b = cbor.AppendText(cbor.AppendText(b, "coding"), coding)
	b = cbor.AppendFloat(cbor.AppendText(b, "life"), o.life.Seconds())
	b = cbor.AppendFloat(cbor.AppendText(b, "stale"), o.stale.Seconds())
	b = cbor.AppendFloat(cbor.AppendText(b, "cost"), float64(o.cost)/float64(time.Millisecond))
	b = cbor.AppendTexts(cbor.AppendText(b, "tags"), o.tags)
	b = cbor.AppendTexts(cbor.AppendText(b, "parts"), o.parts)
	return cbor.AppendBytes(cbor.AppendText(b, "body"), body)
}

// store offers fragments. refusals says for each why it was not taken; "" if it was.
func (w *wire) store(ctx context.Context, offers []offer) (refusals []string, err error) {
	var b []byte
	for i := range offers {
		b = offers[i].append(b)
	}
	resp, err := w.post(ctx, w.storeURL, b)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	refusals = make([]string, len(offers))
	r := cbor.NewReader(resp.Body, resp.ContentLength)
	for i := 0; r.More() && i < len(offers); i++ {
		r.Fields(func(name string) bool {
			if name == "why" {
				refusals[i] = r.Text()
				return true
			}
			return false
		})
	}
	return refusals, r.Err()
}

// FragmentBody returns the bytes of a fragment as they are stored, unpacked; an error with
// status 404 if it is not there. The token needs the right fragments.
func (c *Client) FragmentBody(ctx context.Context, namespace, key string) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+"/v1/fragments/"+url.PathEscape(key)+"?lease=0&namespace="+url.QueryEscape(namespace), nil)
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

// DropFragment removes a fragment by its key on every node; namespace is "" with a token
// that is for one application.
func (c *Client) DropFragment(ctx context.Context, namespace, key string) (PurgeResult, error) {
	var out PurgeResult
	q := url.Values{}
	if namespace != "" {
		q.Set("namespace", namespace)
	}
	return out, c.call(ctx, http.MethodDelete, "/v1/fragments/"+url.PathEscape(key), q, nil, &out)
}
