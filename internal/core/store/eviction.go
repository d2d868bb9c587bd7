package store

// Eviction decides which entry goes when memory is full. A store calls it under its
// own lock; an implementation needs none, must not call back, and must forget an
// entry when it is told that it was removed.
type Eviction interface {
	// Added tells of a new entry.
	Added(e *Entry)
	// Removed tells that an entry is gone, for whatever reason.
	Removed(e *Entry)
	// Victim names the entry to go next, or nil when there is none. The store removes it.
	Victim() *Entry
}

// leastRecentlyUsed is a queue in the order of last use. A hit only writes a time
// into its entry; an entry that was used since it took its place is put to the front
// when it comes to the end, so that hits need no lock.
type leastRecentlyUsed struct {
	newest, oldest *Entry
}

// LeastRecentlyUsed returns an eviction by last use.
func LeastRecentlyUsed() Eviction { return &leastRecentlyUsed{} }

func (q *leastRecentlyUsed) Added(e *Entry) {
	e.queuedAt = e.used.Load()
	e.newer, e.older = nil, q.newest
	if q.newest != nil {
		q.newest.newer = e
	} else {
		q.oldest = e
	}
	q.newest = e
}

func (q *leastRecentlyUsed) Removed(e *Entry) {
	if e.newer != nil {
		e.newer.older = e.older
	} else {
		q.newest = e.older
	}
	if e.older != nil {
		e.older.newer = e.newer
	} else {
		q.oldest = e.newer
	}
	e.newer, e.older = nil, nil
}

func (q *leastRecentlyUsed) Victim() *Entry {
	for q.oldest != nil && q.oldest.used.Load() > q.oldest.queuedAt {
		e := q.oldest
		q.Removed(e)
		q.Added(e)
		if q.newest == q.oldest {
			break
		}
	}
	return q.oldest
}
