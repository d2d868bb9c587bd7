package edge

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// conversation is two requests for one URL with some time between, and what the second
// must be: "hit", "stale" (asked again as a stale one), "validated" (a 304 confirmed it),
// "miss" (asked for as if nothing were stored).
type conversation struct {
	name   string
	status int
	answer []string      // the first answer's fields; $now+60s is a date
	first  []string      // the first request's fields
	wait   time.Duration // between the requests
	second []string      // the second request's fields
	want   string
}

// TestConversations: one row a rule, named by a sentence and its section. The route says
// nothing of its own, so that only the origin's word and the standard count.
func TestConversations(t *testing.T) {
	const etag = `ETag: "v1"`
	for _, c := range []conversation{
		{"a fresh answer is reused (§4.2)", 200, []string{"Cache-Control: max-age=60"}, nil, 59 * time.Second, nil, "hit"},
		{"at the end of its life it is not (§4.2)", 200, []string{"Cache-Control: max-age=60"}, nil, 60 * time.Second, nil, "miss"},
		{"a stale one with a validator is asked about (§4.3)", 200, []string{"Cache-Control: max-age=60", etag}, nil, 61 * time.Second, nil, "validated"},
		{"Last-Modified is a validator, too (§4.3.1)", 200, []string{"Cache-Control: max-age=60", "Last-Modified: $now-10h"}, nil, 61 * time.Second, nil, "validated"},
		{"Expires gives a life (§5.3)", 200, []string{"Expires: $now+60s"}, nil, 59 * time.Second, nil, "hit"},
		{"until it is over (§5.3)", 200, []string{"Expires: $now+60s", etag}, nil, 61 * time.Second, nil, "validated"},
		{"an Expires of 0 is in the past (§5.3)", 200, []string{"Expires: 0"}, nil, 0, nil, "miss"},
		{"max-age goes before Expires (§5.3)", 200, []string{"Expires: $now-60s", "Cache-Control: max-age=60"}, nil, 30 * time.Second, nil, "hit"},
		{"s-maxage goes before max-age (§5.2.2.10)", 200, []string{"Cache-Control: max-age=1, s-maxage=60"}, nil, 30 * time.Second, nil, "hit"},
		{"also when it is shorter (§5.2.2.10)", 200, []string{"Cache-Control: max-age=60, s-maxage=1", etag}, nil, 30 * time.Second, nil, "validated"},
		{"the age that it came with counts (§4.2.3)", 200, []string{"Cache-Control: max-age=60", "Age: 50"}, nil, 9 * time.Second, nil, "hit"},
		{"against its life (§4.2.3)", 200, []string{"Cache-Control: max-age=60", "Age: 50", etag}, nil, 11 * time.Second, nil, "validated"},
		{"an age beyond its life makes it stale at once (§4.2.3)", 200, []string{"Cache-Control: max-age=60", "Age: 61"}, nil, 0, nil, "miss"},
		{"no-store is not stored (§5.2.2.5)", 200, []string{"Cache-Control: no-store, max-age=60"}, nil, 0, nil, "miss"},
		{"names of directives have no case (§5.2)", 200, []string{"Cache-Control: NO-STORE"}, nil, 0, nil, "miss"},
		{"no-store on another line counts (§5.2)", 200, []string{"Cache-Control: max-age=60", "Cache-Control: no-store"}, nil, 0, nil, "miss"},
		{"no-cache is stored, and asked about each time (§5.2.2.4)", 200, []string{"Cache-Control: no-cache, max-age=60", etag}, nil, 0, nil, "validated"},
		{"no-cache for a field is about that field (§5.2.2.4)", 200, []string{`Cache-Control: no-cache="Set-Cookie", max-age=60`}, nil, 0, nil, "hit"},
		{"private is not for a shared cache (§5.2.2.7)", 200, []string{"Cache-Control: private, max-age=60"}, nil, 0, nil, "miss"},
		{"private for a field is about that field (§5.2.2.7)", 200, []string{`Cache-Control: private="X-User", max-age=60`}, nil, 0, nil, "hit"},
		{"must-revalidate says nothing while it is fresh (§5.2.2.2)", 200, []string{"Cache-Control: must-revalidate, max-age=60"}, nil, 30 * time.Second, nil, "hit"},
		{"Pragma in an answer says nothing (§5.4)", 200, []string{"Pragma: no-cache", "Cache-Control: max-age=60"}, nil, 0, nil, "hit"},
		{"nothing said, nothing stored", 200, nil, nil, 0, nil, "miss"},
		{"nothing said but a validator: asked about (§4.3)", 200, []string{etag}, nil, 0, nil, "validated"},
		{"a tenth of its time since the last change (§4.2.2)", 200, []string{"Last-Modified: $now-100m"}, nil, 9 * time.Minute, nil, "hit"},
		{"and no longer (§4.2.2)", 200, []string{"Last-Modified: $now-100m"}, nil, 11 * time.Minute, nil, "validated"},
		{"no guess beside a stated life (§4.2.2)", 200, []string{"Last-Modified: $now-100m", "Cache-Control: max-age=1"}, nil, 2 * time.Second, nil, "validated"},
		{"a 404 may be guessed about (RFC 9110 §15.1)", 404, []string{"Last-Modified: $now-100m"}, nil, time.Minute, nil, "hit"},
		{"a 302 may not (RFC 9110 §15.1)", 302, []string{"Last-Modified: $now-100m", "Location: /y"}, nil, 0, nil, "miss"},
		{"but may be given a life (§3)", 302, []string{"Cache-Control: max-age=60", "Location: /y"}, nil, 0, nil, "hit"},
		{"so may a failure (§3)", 500, []string{"Cache-Control: max-age=60"}, nil, 0, nil, "hit"},
		{"and a status that nobody knows (§3)", 299, []string{"Cache-Control: max-age=60"}, nil, 0, nil, "hit"},
		{"unless it must be understood (§5.2.2.3)", 299, []string{"Cache-Control: max-age=60, must-understand"}, nil, 0, nil, "miss"},
		{"a part is not the whole (§3.3)", 206, []string{"Cache-Control: max-age=60", "Content-Range: bytes 0-3/10"}, nil, 0, nil, "miss"},
		{"Authorization keeps it private (§3.5)", 200, []string{"Cache-Control: max-age=60"}, []string{"Authorization: Basic eDp5"}, 0, nil, "miss"},
		{"unless it is public (§3.5)", 200, []string{"Cache-Control: public, max-age=60"}, []string{"Authorization: Basic eDp5"}, 0, nil, "hit"},
		{"or s-maxage says so (§3.5)", 200, []string{"Cache-Control: s-maxage=60"}, []string{"Authorization: Basic eDp5"}, 0, nil, "hit"},
		{"or must-revalidate (§3.5)", 200, []string{"Cache-Control: must-revalidate, max-age=60"}, []string{"Authorization: Basic eDp5"}, 0, nil, "hit"},
		{"Vary that agrees (§4.1)", 200, []string{"Cache-Control: max-age=60", "Vary: X-A"}, []string{"X-A: 1"}, 0, []string{"X-A: 1"}, "hit"},
		{"Vary that differs (§4.1)", 200, []string{"Cache-Control: max-age=60", "Vary: X-A"}, []string{"X-A: 1"}, 0, []string{"X-A: 2"}, "variant"},
		{"Vary on what is absent now (§4.1)", 200, []string{"Cache-Control: max-age=60", "Vary: X-A"}, []string{"X-A: 1"}, 0, nil, "variant"},
		{"Vary on what was absent (§4.1)", 200, []string{"Cache-Control: max-age=60", "Vary: X-A"}, nil, 0, []string{"X-A: 1"}, "variant"},
		{"Vary names have no case (§4.1)", 200, []string{"Cache-Control: max-age=60", "Vary: x-a"}, []string{"X-A: 1"}, 0, []string{"X-A: 1"}, "hit"},
		{"Vary: * never agrees (§4.1)", 200, []string{"Cache-Control: max-age=60", "Vary: *"}, nil, 0, nil, "miss"},
		{"a visitor's no-cache is a conditional request (§5.2.1.4)", 200, []string{"Cache-Control: max-age=60", etag}, nil, 0, []string{"Cache-Control: no-cache"}, "validated"},
		{"so is their Pragma (§5.4)", 200, []string{"Cache-Control: max-age=60", etag}, nil, 0, []string{"Pragma: no-cache"}, "validated"},
		{"their max-age is not obeyed unless the route says so", 200, []string{"Cache-Control: max-age=60", etag}, nil, 30 * time.Second, []string{"Cache-Control: max-age=0"}, "hit"},
		{"nor their no-store", 200, []string{"Cache-Control: max-age=60"}, []string{"Cache-Control: no-store"}, 0, nil, "hit"},
		{"a targeted field goes before the general one (RFC 9213 §2.2)", 200, []string{"Cache-Control: no-store", "CDN-Cache-Control: max-age=60"}, nil, 30 * time.Second, nil, "hit"},
		{"also to forbid (RFC 9213 §2.2)", 200, []string{"Cache-Control: max-age=60", "CDN-Cache-Control: no-store"}, nil, 0, nil, "miss"},
		{"an unreadable one is ignored (RFC 9213 §2.2)", 200, []string{"Cache-Control: max-age=60", "CDN-Cache-Control: no-store, ="}, nil, 0, nil, "hit"},
		{"stale while it is renewed (RFC 5861 §3)", 200, []string{"Cache-Control: max-age=10, stale-while-revalidate=20"}, nil, 20 * time.Second, nil, "hit"},
		{"not beyond its window (RFC 5861 §3)", 200, []string{"Cache-Control: max-age=10, stale-while-revalidate=20", etag}, nil, 31 * time.Second, nil, "validated"},
		{"not where must-revalidate forbids it (§5.2.2.2)", 200, []string{"Cache-Control: max-age=10, stale-while-revalidate=20, must-revalidate", etag}, nil, 20 * time.Second, nil, "validated"},
		{"not where s-maxage forbids it (§5.2.2.10)", 200, []string{"Cache-Control: s-maxage=10, stale-while-revalidate=20", etag}, nil, 20 * time.Second, nil, "validated"},
	} {
		t.Run(c.name, func(t *testing.T) { c.run(t) })
	}
}

func (c *conversation) run(t *testing.T) {
	s := newRig(t, nil)
	var fields [][2]string
	for _, line := range c.answer {
		name, value, _ := strings.Cut(line, ": ")
		if offset, isDate := strings.CutPrefix(value, "$now"); isDate {
			d, err := time.ParseDuration(offset)
			assert.NoError(t, err)
			value = s.now().Add(d).UTC().Format(http.TimeFormat)
		}
		fields = append(fields, [2]string{name, value})
	}
	s.answer(func(w http.ResponseWriter, r *http.Request) {
		for _, f := range fields {
			w.Header().Add(f[0], f[1])
		}
		if r.Header.Get("If-None-Match") != "" || r.Header.Get("If-Modified-Since") != "" {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		w.WriteHeader(c.status)
		_, _ = w.Write([]byte("body"))
	})
	first := s.get("/x", c.first...)
	s.pass(c.wait)
	second := s.get("/x", c.second...)
	assert.Equal(t, first.body, second.body)
	assert.Equal(t, first.status, second.status)
	want := map[string]string{"hit": "hit;", "validated": "fwd-status=304", "variant": "fwd=vary-miss", "miss": "fwd="}[c.want]
	assert.Contains(t, second.state, want)
	if c.want == "miss" {
		assert.NotContains(t, second.state, "304")
	}
	for _, line := range c.answer { // what a field list names goes to nobody else
		if strings.Contains(line, `private="X-User"`) {
			assert.Empty(t, second.header.Get("X-User"))
		}
	}
}
