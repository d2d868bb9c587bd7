package fetch

import (
	"time"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// storeEntry puts a whole answer away. An entry that a purge has overtaken meanwhile is
// not worth its room: the marks would defeat it at every lookup. Nobody joins the flight
// afterwards: a visitor who has the whole of one answer may ask again before it ends.
func (f *Fetcher) storeEntry(a *arrival) {
	o, h, entry := a.request, a.head, a.entry
	defer a.flight.Leave()
	defer func() {
		if !h.stored.Load() {
			f.Store.Abandon(entry)
		}
	}()
	entry.Body = a.flight.Body()
	if h.Composes {
		entry.Skeleton = f.parse(entry.Body, o)
	}
	now := f.Now()
	entry.Filled(o.Stored, now.Sub(a.began))
	entry.Prepare()
	if o.Route.Key.Body == key.GraphQL && key.HasGraphQLErrors(entry.Body) {
		f.Learned.refused(o, h, httprules.GraphQLErrors)
		return
	}
	if a.flight.Disowned() || f.Barrier.Judge(&entry.Subject) == tags.Dropped {
		return
	}
	f.Learned.search(o, entry.Header)
	if !f.put(a.flight, entry, now) {
		return
	}
	h.stored.Store(true)
	if o.Stored != nil && !entry.Failure { // this is the answer now to the request that it answered, whatever each of them depends on
		f.Store.Remove(o.Stored, store.Replaced)
	}
	if o.Route.Compress == policy.CompressAtStore {
		for _, coding := range httprules.Codings {
			f.Coder.Want(entry, coding)
		}
	}
}

// put stores what a fill brought; false if it did not fit, or something newer was there. A
// change that the ledger could not take may come at the same moment: then either its sweep
// finds the entry, or this finds the flight disowned.
func (f *Fetcher) put(flight *fill.Flight[*Head], entry *store.Entry, now time.Time) bool {
	if f.Store.Put(entry, now) != nil {
		return false
	}
	if flight.Disowned() {
		f.Store.Remove(entry, store.Purged)
		return false
	}
	return true
}

// parse parses what is composed for each request; nil if it has no marks, or they are
// not in order: then it is served as it came.
func (f *Fetcher) parse(body []byte, o *Request) *compose.Page {
	page, err := compose.Parse(body)
	if err != nil {
		f.Log.Warn("a page is served with its marks, since they are not in order", "path", o.Visitor.Path, "error", err)
	}
	return page
}
