package edge

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/tags"
)

var longText = strings.Repeat("Ostrel Isles Ferries sail between the isles. ", 200)

const settingsYAML = `routes:
  - name: people
    match: { path: ["/people", "/staff"] }
    key: { query: { only: [page, sort], default: { page: 1, sort: name } } }
    lifetime: { fresh: 10m }
    tags: ["page:{query:page}"]
  - name: media
    match: { path: "/media/{x...}" }
    lifetime: { fresh: 1m, by_type: { "image/*": 7d, "image/svg+xml": 1h }, by_status: { 404: 30s }, browser: { fresh: 10s, by_type: { "image/*": 1d } } }
  - name: untouched
    match: { path: "/untouched" }
    lifetime: { fresh: 1m }
    validators: origin
`

// TestDefaultsOfParameters: what is left out and what is said are one entry, and the origin is asked
// for the same.
func TestDefaultsOfParameters(t *testing.T) {
	var asked []string
	s := newRigOf(t, settingsYAML, func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.URL.RequestURI())
		_, _ = w.Write([]byte(r.URL.RawQuery))
	})
	for i, path := range []string{"/people", "/people?page=1", "/people?sort=name&page=1", "/people?page=%31", "/people?ref=x&page=1"} {
		assert.Equal(t, i > 0, s.get(path).hit(), path)
	}
	for _, path := range []string{"/people?page=2", "/people?page=1&page=2", "/people?page=", "/people?page=01", "/staff"} {
		assert.False(t, s.get(path).hit(), path)
	}
	assert.Equal(t, []string{"/people", "/people?page=2", "/people?page=1&page=2", "/people?page=", "/people?page=01", "/staff"}, asked)
	s.purge(tags.Purge{Tags: []string{"page:1"}})
	assert.False(t, s.get("/people?page=1").hit(), "the tag is made of the default, too")
	assert.True(t, s.get("/people?page=2").hit())
}

// TestLivesByType: the most exact of status, class, type and fresh counts, for us and for browsers.
func TestLivesByType(t *testing.T) {
	s := newRigOf(t, settingsYAML, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", r.URL.Query().Get("type"))
		if r.URL.Query().Has("missing") {
			w.WriteHeader(http.StatusNotFound)
		}
		_, _ = w.Write([]byte("x"))
	})
	for _, c := range []struct {
		query, browser string
		life           time.Duration
	}{
		{"type=image/png", "86400", 7 * 24 * time.Hour}, {"type=Image/PNG", "86400", 7 * 24 * time.Hour}, {"type=image/svg%2bxml", "86400", time.Hour},
		{"type=text/html", "10", time.Minute}, {"type=image/png&missing", "86400", 30 * time.Second},
	} {
		path := "/media/a?" + c.query
		first := s.get(path)
		require.Equal(t, "max-age="+c.browser, first.header.Get("Cache-Control"), path)
		s.pass(c.life - time.Second)
		assert.True(t, s.get(path).hit(), path)
		s.pass(2 * time.Second)
		assert.False(t, s.get(path).hit(), path)
	}
}

// TestValidatorsAreMade of an answer's bytes, where it is stored and its origin gives none.
func TestValidatorsAreMade(t *testing.T) {
	var tag, body, sent string
	s := newRigOf(t, settingsYAML, func(w http.ResponseWriter, r *http.Request) {
		sent = r.Header.Get("If-None-Match")
		w.Header().Set("Content-Type", "text/html")
		if tag != "" {
			w.Header().Set("Etag", tag)
		}
		_, _ = w.Write([]byte(body))
	})
	body = longText
	s.get("/people")
	first := s.get("/people")
	made := first.header.Get("Etag")
	require.Regexp(t, `^"g[A-Za-z0-9_-]{22}"$`, made)
	again := s.get("/people", "If-None-Match: "+made)
	assert.Equal(t, 304, again.status)
	assert.Equal(t, made, again.header.Get("Etag"))
	part := s.get("/people", "Range: bytes=0-3", "If-Range: "+made)
	assert.Equal(t, []any{206, longText[:4]}, []any{part.status, part.body})
	s.comes("/people", "gzip")
	coded := s.get("/people", "Accept-Encoding: gzip")
	assert.NotEqual(t, made, coded.header.Get("Etag"), "other bytes")
	assert.Equal(t, 304, s.get("/people", "Accept-Encoding: gzip", "If-None-Match: "+coded.header.Get("Etag")).status)

	s.pass(11 * time.Minute)
	assert.Equal(t, made, func() string { s.get("/people", "If-None-Match: "+made); return s.get("/people").header.Get("Etag") }(), "equal bytes, the same tag")
	assert.Empty(t, sent, "its origin does not know it")
	body = longText + "changed"
	s.pass(11 * time.Minute)
	s.get("/people")
	assert.Equal(t, 200, s.get("/people", "If-None-Match: "+made).status, "other bytes, another tag")
	tag = `"own"`
	s.pass(11 * time.Minute)
	s.get("/people")
	assert.Equal(t, tag, s.get("/people").header.Get("Etag"), "its own wins")

	tag = ""
	for range 2 {
		assert.Empty(t, s.get("/untouched").header.Get("Etag"))
		assert.Empty(t, s.get("/elsewhere").header.Get("Etag"), "what is not stored stays as it came")
	}
}
