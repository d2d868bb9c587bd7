package client

import (
	"context"
	"net/http"
	"slices"

	"gerastic.example/client/protocol"
)

// Tag notes that what is being made for ctx shows these things: purging one of the tags
// purges it. It returns false when that comes too late, because the header has gone
// out; the tags of a page must be known before its first MiB is written.
func Tag(ctx context.Context, tags ...string) bool {
	p := pageOf(ctx)
	return p != nil && p.add(tags)
}

// Part begins a part of a page: what is tagged in the context that it returns belongs
// to the part and to all that holds it, but not to its sisters. tags returns what the part
// has come to carry.
func Part(ctx context.Context) (part context.Context, tags func() []string) {
	p := &page{parent: pageOf(ctx)}
	if p.parent != nil {
		p.report, p.depth, p.fragment = p.parent.report, p.parent.depth, p.parent.fragment
	}
	return withPage(ctx, p), func() []string {
		p.mu.Lock()
		defer p.mu.Unlock()
		return slices.Clone(p.tags)
	}
}

// TagFrom notes that what is being made for ctx contains an answer with this header: it
// carries its tags (Cache-Groups, RFC 9875), too.
func TagFrom(ctx context.Context, header http.Header) bool {
	groups, _ := protocol.ParseGroups(header["Cache-Groups"])
	return Tag(ctx, groups...)
}

// Tagging sends what handlers tag with Tag as Cache-Groups, and tells the edge of the
// fragments that the page is made of: their tags, the shortest of their lives, and (Server-
// Timing) how many were found and how many made. To know it in time it holds back up to a
// MiB of the body; Flush sends what there is.
func Tagging(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p := &page{report: &report{}}
		t := &taggingWriter{ResponseWriter: w, page: p}
		defer func() {
			if broken := recover(); broken != nil {
				panic(broken) // nothing that was held back goes out
			}
			t.send()
		}()
		next.ServeHTTP(t, r.WithContext(withPage(r.Context(), p)))
	})
}

// heldBack is how much of a body waits for its tags.
const heldBack = 1 << 20

type taggingWriter struct {
	http.ResponseWriter
	page   *page
	status int
	body   []byte
	sent   bool
}

func (t *taggingWriter) WriteHeader(status int) {
	switch {
	case status >= 100 && status < 200 && status != http.StatusSwitchingProtocols:
		t.ResponseWriter.WriteHeader(status) // interim answers do not wait
	case t.status == 0:
		t.status = status
	}
}

func (t *taggingWriter) Write(p []byte) (int, error) {
	if t.status == 0 {
		t.status = http.StatusOK
	}
	if !t.sent {
		if len(t.body)+len(p) <= heldBack {
			t.body = append(t.body, p...)
			return len(p), nil
		}
		if err := t.send(); err != nil {
			return 0, err
		}
	}
	return t.ResponseWriter.Write(p)
}

// send sends the header with the tags, and what was held back.
func (t *taggingWriter) send() error {
	if t.sent {
		return nil
	}
	t.sent = true
	t.page.writeTo(t.Header())
	if t.status != 0 {
		t.ResponseWriter.WriteHeader(t.status)
	}
	if len(t.body) == 0 {
		return nil
	}
	_, err := t.ResponseWriter.Write(t.body)
	t.body = nil
	return err
}

// FlushError sends what there is; net/http calls it for Flush.
func (t *taggingWriter) FlushError() error {
	if t.status == 0 {
		t.status = http.StatusOK
	}
	if err := t.send(); err != nil {
		return err
	}
	return http.NewResponseController(t.ResponseWriter).Flush()
}

// Flush makes the writer a http.Flusher.
func (t *taggingWriter) Flush() { _ = t.FlushError() }

// Unwrap lets the standard library reach hijacking.
func (t *taggingWriter) Unwrap() http.ResponseWriter { return t.ResponseWriter }
