package fetch

import (
	"bytes"
	"cmp"
	"context"
	"io"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/tags"
)

// write is a request that may change something at its origin, on its way: what is stored of
// its target is then not to be used any more (RFC 9111 §4.4).
type write struct {
	fetcher                   *Fetcher
	host, path, query, method string
	declared                  []*policy.Write // what the policy says of it
	request                   key.Request
	body, answerBody          *policy.Message // nil: not known
	reached                   atomic.Bool     // the origin has its header
	answered                  atomic.Bool     // with a final status
}

// writeOf is a request as one that may change something; nil if it only asks, whatever its
// method.
func (f *Fetcher) writeOf(p *Passing) *write {
	if !httprules.Unsafe(p.Visitor.Method) || p.AsksOnly {
		return nil
	}
	return &write{
		fetcher: f, host: p.Visitor.Host, path: p.Visitor.Path, query: p.Visitor.Query, method: p.Visitor.Method, declared: p.Writes, request: p.Visitor, body: p.Body,
	}
}

// lasting is the request in a context that outlives the visitor: an origin that has it will
// carry it out, so that its answer is awaited. cancel must be called when it has ended.
func (w *write) lasting(r *http.Request) (_ *http.Request, cancel func()) {
	ctx, end := context.WithCancel(context.WithoutCancel(r.Context()))
	stop := context.AfterFunc(w.fetcher.Tasks.Life(), end)
	stopLeft := context.AfterFunc(r.Context(), func() {
		if !w.reached.Load() {
			end() // it is still in line: the origin will never know of it
		}
	})
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{WroteHeaders: func() { w.reached.Store(true) }})
	return r.WithContext(ctx), func() {
		stop()
		stopLeft()
		end()
	}
}

// answer carries out what the origin's answer means, before the visitor sees it, so that they
// read their own write.
func (w *write) answer(resp *http.Response) {
	w.answered.Store(true)
	switch {
	case resp.StatusCode >= 500:
		w.fetcher.doubts.about(w, afterFailure)
		w.purgeDeclared()
	case resp.StatusCode >= 200 && resp.StatusCode <= 399:
		w.readAnswer(resp)
		w.invalidate(httprules.Header(resp.Header))
		w.purgeDeclared()
	}
}

// readsAnswer reports whether what is purged depends on the answer's body.
func (w *write) readsAnswer() bool {
	return slices.ContainsFunc(w.declared, func(d *policy.Write) bool { _, reads := d.Reads(); return reads })
}

// readAnswer reads the answer's body, if it is short, and leaves it to be read again.
func (w *write) readAnswer(resp *http.Response) {
	if !w.readsAnswer() {
		return
	}
	body, err := io.ReadAll(io.LimitReader(resp.Body, policy.MostMessage+1))
	rest := resp.Body
	resp.Body = struct {
		io.Reader
		io.Closer
	}{io.MultiReader(bytes.NewReader(body), failing{err}, rest), rest}
	if err == nil && len(body) <= policy.MostMessage {
		w.answerBody = policy.ReadMessage(resp.Header.Get("Content-Type"), body)
	}
}

// failing is an error where a body broke off, or nothing.
type failing struct{ err error }

// Read implements io.Reader.
func (f failing) Read([]byte) (int, error) { return 0, cmp.Or(f.err, io.EOF) }

// purgeDeclared puts into force what the policy says of the write, before the visitor is answered.
func (w *write) purgeDeclared() {
	for _, d := range w.declared {
		p := d.Purge(&w.request, w.body, w.answerBody)
		if len(p.Begins) > 0 && w.answered.Load() {
			w.fetcher.tellUnread(w, d, p.Begins)
		}
		w.fetcher.order(p, "write:"+d.Name, w.method, w.path)
	}
}

// end is called when the request has ended, in whichever way. Where the origin had it, and gave
// no final answer, it may have been carried out.
func (w *write) end() {
	if w.reached.Load() && !w.answered.Load() {
		w.purgeDeclared()
	}
	if w.reached.Load() && !w.answered.Swap(true) {
		w.fetcher.doubts.about(w, 0)
	}
}

// target names what the success of a write makes unusable: the target and, on the same host,
// Location and Content-Location (RFC 9111 §4.4), and the groups that the answer names
// (RFC 9875 §3).
func (w *write) target(answer httprules.Header) tags.Purge {
	p := groupsOf(w.host, answer)
	inForce := w.fetcher.Policy()
	p.URLs = inForce.URLForms(policy.URL{Host: w.host, Path: w.path, Query: w.query})
	base := &url.URL{Scheme: "http", Host: w.host, Path: w.path}
	for _, name := range []string{"Location", "Content-Location"} {
		if u, err := base.Parse(answer.Get(name)); err == nil && answer.Get(name) != "" && key.CanonicalHost(u.Host, u.Scheme) == w.host {
			p.URLs = append(p.URLs, inForce.URLForms(policy.URL{Host: w.host, Path: u.EscapedPath(), Query: u.RawQuery})...)
		}
	}
	return p
}

// groupsOf is what an answer to an unsafe method says of groups.
func groupsOf(host string, answer httprules.Header) tags.Purge {
	p := tags.Purge{Mode: tags.Drop, Host: host}
	p.Tags, _ = protocol.ParseGroups(answer["Cache-Group-Invalidation"])
	return p
}

// invalidateGroups carries out what the answer to a question that came by an unsafe method says
// of groups: it changes nothing of its own target.
func (f *Fetcher) invalidateGroups(method, host, path string, resp *http.Response) {
	if httprules.Unsafe(method) && resp.StatusCode >= 200 && resp.StatusCode <= 399 {
		f.invalidate(groupsOf(host, httprules.Header(resp.Header)), method, path)
	}
}

// invalidate makes the target of the write unusable, and what its answer names; answer is nil
// if there was none.
func (w *write) invalidate(answer httprules.Header) {
	w.fetcher.invalidate(w.target(answer), w.method, w.path)
}

// invalidate puts a purge that an answer calls for into force.
func (f *Fetcher) invalidate(p tags.Purge, method, path string) { f.order(p, "origin", method, path) }

// order puts a purge into force, as somebody's.
func (f *Fetcher) order(p tags.Purge, actor, method, path string) {
	if len(p.URLs)+len(p.Tags)+len(p.Begins)+len(p.Routes) == 0 {
		return // no route could have stored anything that this concerns
	}
	if err := f.Purge(context.WithoutCancel(f.Tasks.Life()), p, actor, method+" "+key.EquivalentPath(path)); err != nil {
		// Never worse than no cache: without the ledger, this node at least forgets.
		f.Log.Error("an invalidation is not in the ledger yet; until it is, it holds on this node only", "error", err)
		f.Barrier.Forget(p)
	}
}

// tellUnread says that a body was too long to be read, once in a while for each write.
func (f *Fetcher) tellUnread(w *write, d *policy.Write, begins []string) {
	now := f.Now()
	if last, told := f.unread.of(d.Name); told && now.Sub(last) < unreadQuiet {
		return
	}
	f.unread.remember(d.Name, now)
	if f.Found != nil {
		f.Found(Finding{At: now, Route: "write:" + d.Name, URL: w.method + " " + key.EquivalentPath(w.path), Kind: UnreadWrite, Separator: "a body of more than 64 KiB, so that all tags were purged that begin with: " + strings.Join(begins, ", ")})
	}
}

// UnreadWrite is the kind of the finding that a write's body was too long to be read.
const UnreadWrite = "unread-write"

// unreadQuiet is how long nothing more is said of a write whose bodies are too long.
const unreadQuiet = time.Hour

// doubts are the writes whose outcome is not known. Each makes its target unusable, but for no
// URL more often than once in doubtTime: what comes sooner is carried out when that has passed.
type doubts struct {
	fetcher *Fetcher
	last    memo[*doubt]
	waiting atomic.Int64
}

// mostWaiting is how many wait at a time. Beyond, each is carried out before its visitor is
// answered.
const mostWaiting = 1024

const (
	doubtTime = time.Second
	// afterFailure is how long after an answer that says that it failed a write is carried out,
	// behind its visitor, to whom nothing was promised: many that fail are one.
	afterFailure = 100 * time.Millisecond
)

// doubt is what was done last for a URL.
type doubt struct {
	at      atomic.Int64 // unix ns
	waiting atomic.Bool  // one is to come
}

// about carries out a write whose outcome is not known, not sooner than after some time: at once
// if that is 0 and it is time.
func (d *doubts) about(w *write, after time.Duration) {
	name := w.host + w.path + "?" + w.query
	known, _ := d.last.of(name)
	if known == nil {
		known = &doubt{}
		d.last.remember(name, known)
	}
	wait := max(after, doubtTime-time.Since(time.Unix(0, known.at.Load())))
	if wait <= 0 || d.waiting.Load() >= mostWaiting {
		known.at.Store(time.Now().UnixNano())
		w.invalidate(nil)
		return
	}
	if known.waiting.Swap(true) {
		return
	}
	d.waiting.Add(1)
	later := func() {
		d.waiting.Add(-1)
		known.waiting.Store(false) // first: what comes from now on is not covered
		known.at.Store(time.Now().UnixNano())
		w.invalidate(nil)
	}
	if !d.fetcher.Tasks.Go(func() {
		select {
		case <-time.After(wait):
		case <-d.fetcher.Tasks.Life().Done():
		}
		later()
	}) {
		later()
	}
}
