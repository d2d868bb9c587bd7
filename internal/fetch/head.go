package fetch

import (
	"net/http"
	"sync/atomic"
	"time"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// Head is what is known of an answer before its body. It does not change once it is out; what is
// known later is in Completion.
type Head struct {
	Status   int
	Header   httprules.Header // for everyone
	Own      httprules.Header // for the one who leads: with the fields that are for them alone; of a 304, only those
	Received time.Time
	Waited   time.Duration // from asking to the first byte
	Length   int64         // of the body, -1 if unknown
	Trailers []string      // announced
	Browser  time.Duration // Cache-Control max-age for visitors; httprules.Unset: the origin's
	PageInfo []string      // of the fragments in it, for engineers
	Work     meter.Work    // that it took to make

	Reason   httprules.Reason // why the answer is not for others; OK if it is
	Fresh    bool             // on arrival, so that those who joined may have it
	Unsure   bool             // only its end shows whether it is stored
	Withheld bool             // the origin did not see what may make the answer another
	Personal bool             // for the one whom the key names
	Busy     bool             // too many answers go at their visitors' pace for this one
	Composes bool             // it is a skeleton

	Subject   *tags.Subject          // of the entry that it becomes
	Vary      []httprules.Varying    // what the answer depends on, as the leader's request had it
	Encodings []string               // content codings that its origin gave it
	Search    httprules.NoVarySearch // which other queries it answers
	Query     string                 // that it was asked with

	Filling *store.Entry // that it may become; nil: it is not for the store
	Entry   *store.Entry // a stored answer that the origin confirmed (304): the body is there
	AtHand  bool         // Entry was stored meanwhile: nobody was asked

	Completion
}

// Completion is what is known of an answer only when all of it has come.
type Completion struct {
	stored   atomic.Bool
	took     atomic.Int64 // ns, from asking to the last byte; 0 until then
	body     atomic.Pointer[[]byte]
	skeleton atomic.Pointer[compose.Page]
	trailer  http.Header // complete when the body is
}

// Took is how long it took from asking to the last byte; 0 until that is there.
func (c *Completion) Took() time.Duration { return time.Duration(c.took.Load()) }

// Whole returns the body, once all of it is there and stored; nil before.
func (c *Completion) Whole() *[]byte { return c.body.Load() }

// Skeleton returns the parsed body of what is composed, once it is stored; nil before.
func (c *Completion) Skeleton() *compose.Page { return c.skeleton.Load() }

// Trailer returns the fields after the body. They are complete when the body is.
func (c *Completion) Trailer() http.Header { return c.trailer }

// atHand is the head of an entry that was stored meanwhile.
func atHand(e *store.Entry, query string) *Head {
	h := headOf(e)
	h.Header, h.AtHand, h.Fresh, h.Query, h.Received, h.Search = e.Header, true, true, query, e.Received, httprules.ParseNoVarySearch(e.Header)
	h.stored.Store(true)
	return h
}

// headOf is a head with what an entry says of the answer that it is made of.
func headOf(e *store.Entry) *Head {
	return &Head{Status: e.Status, Header: e.Header, Entry: e, Subject: &e.Subject, Vary: e.Vary, Encodings: e.Encodings, Browser: httprules.Unset}
}

// IsShared reports whether those who joined may have the answer at all: it is stored, and
// needs no validation for each of them (RFC 9111 §5.2.2.4).
func (h *Head) IsShared() bool { return h.Reason == httprules.OK && h.Fresh }

// Answers reports whether a request that joined may read the answer.
func (h *Head) Answers(request httprules.Fields, query string) bool {
	return h.IsShared() && httprules.Accepts(request, h.Encodings) && httprules.Matches(h.Vary, request) && h.Search.Canonical(h.Query) == h.Search.Canonical(query)
}

// ClaimsStored reports whether the answer may be said to be stored: it is, or nothing is known
// that would keep it from that.
func (f *Fetcher) ClaimsStored(h *Head) bool {
	if h.Reason != httprules.OK || h.Entry != nil && !h.stored.Load() {
		return false
	}
	return h.stored.Load() || h.took.Load() == 0 && h.Length >= 0 && !h.Unsure && f.Barrier.Judge(h.Subject) != tags.Dropped
}

// Held is about how many bytes of an answer that is not stored are held for a visitor.
func (h *Head) Held() int64 {
	if h.Length < 0 {
		return fill.Piece
	}
	return min(h.Length, fill.Window)
}

// isFresh reports whether an answer needs no validation before it is used for others.
func isFresh(entry *store.Entry, received time.Time) bool {
	return !entry.Freshness.MustAsk && entry.Freshness.Remaining(received) > 0
}
