package client

import (
	"bytes"
	"sync"
)

// atHand keeps bodies that the node need not send again, and when each key was last looked up. Both are
// bounded; what gives way is any, since the node sends it again. Safe for concurrent use.
type atHand struct {
	mu    sync.Mutex
	most  int64 // bytes of bodies
	bytes int64
	kept  map[string]keptBody
	seen  map[string]uint64 // ledger sequence
}

// keptBody is a body, unpacked, with the node's validator of it.
type keptBody struct {
	etag string
	body []byte
}

const (
	// mostAtHand is how many bytes of bodies a process keeps, unless it is told otherwise.
	mostAtHand = 16 << 20
	// mostSeen is of how many keys it is known when they were looked up.
	mostSeen = 10_000
)

// of returns what is kept of some keys, by place, and the validators for a lookup.
func (h *atHand) of(keys []string) (kept []keptBody, have []string) {
	kept, have = make([]keptBody, len(keys)), make([]string, len(keys))
	h.mu.Lock()
	defer h.mu.Unlock()
	for i, key := range keys {
		kept[i] = h.kept[key]
		have[i] = kept[i].etag
	}
	return kept, have
}

// put keeps a copy of a body, which may be a small piece of what came with it.
func (h *atHand) put(key, etag string, body []byte) {
	size := int64(len(body) + len(key) + 64)
	h.mu.Lock()
	defer h.mu.Unlock()
	if size > h.most {
		return
	}
	if h.kept == nil {
		h.kept = map[string]keptBody{}
	}
	h.drop(key)
	for other := range h.kept {
		if h.bytes+size <= h.most {
			break
		}
		h.drop(other)
	}
	h.kept[key] = keptBody{etag, bytes.Clone(body)}
	h.bytes += size
}

// drop drops a body. Under mu.
func (h *atHand) drop(key string) {
	if kept, there := h.kept[key]; there {
		h.bytes -= int64(len(kept.body) + len(key) + 64)
		delete(h.kept, key)
	}
}

// saw notes as of when keys were looked up.
func (h *atHand) saw(keys []string, stamp uint64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.seen == nil || len(h.seen)+len(keys) > mostSeen {
		h.seen = make(map[string]uint64, len(keys))
	}
	for _, key := range keys {
		h.seen[key] = stamp
	}
}

// since is as of when a key was last looked up; nil: it was not, or so long ago that nobody knows.
func (h *atHand) since(key string) *uint64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	if stamp, known := h.seen[key]; known {
		return &stamp
	}
	return nil
}
