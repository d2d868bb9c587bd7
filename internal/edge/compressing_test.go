package edge

import (
	"bufio"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const compressingYAML = `routes:
  - { name: all, match: { path: "/all/{x...}" }, compress: all }
  - { name: plain, match: { path: "/plain/{x...}" } }
`

// TestWhatPassesIsCompressed where the route says so: text of some length, for those who take it, whose
// origin did not do it or forbid it.
func TestWhatPassesIsCompressed(t *testing.T) {
	var seen string
	s := newRigOf(t, compressingYAML, func(w http.ResponseWriter, r *http.Request) {
		seen = r.Header.Get("If-None-Match")
		h := w.Header()
		h.Set("Cache-Control", "no-store")
		h.Set("Content-Type", "text/html")
		h.Set("Etag", `"v1"`)
		switch kind := r.URL.Query().Get("kind"); kind {
		case "image/png", "text/event-stream":
			h.Set("Content-Type", kind)
		case "no-transform":
			h.Set("Cache-Control", "no-store, no-transform")
		case "coded":
			h.Set("Content-Encoding", "br")
		case "short":
			_, _ = io.WriteString(w, "short")
			return
		case "vary":
			h.Set("Vary", "Accept-Language, accept-encoding")
		}
		if strings.Contains(seen, `"v1"`) {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		_, _ = io.WriteString(w, longText)
	})
	for _, c := range []struct {
		method, path, accept, coding, vary string
	}{
		{"GET", "/all/a", "gzip", "gzip", "Accept-Encoding"}, {"POST", "/all/a", "br, gzip", "gzip", "Accept-Encoding"}, {"GET", "/all/a", "zstd", "zstd", "Accept-Encoding"},
		{"GET", "/all/a?kind=vary", "gzip", "gzip", "Accept-Language, accept-encoding"},
		{"GET", "/all/a", "", "", "Accept-Encoding"}, {"GET", "/plain/a", "gzip", "", ""}, {"POST", "/plain/a", "gzip", "", ""},
		{"GET", "/all/a?kind=image/png", "gzip", "", ""}, {"GET", "/all/a?kind=text/event-stream", "gzip", "", ""}, {"GET", "/all/a?kind=no-transform", "gzip", "", ""},
		{"GET", "/all/a?kind=coded", "gzip", "br", ""}, {"GET", "/all/a?kind=short", "gzip", "", ""},
	} {
		a := s.do(c.method, c.path, "Accept-Encoding: "+c.accept)
		require.Equal(t, 200, a.status)
		assert.Equal(t, []string{c.coding, c.vary}, []string{a.header.Get("Content-Encoding"), a.header.Get("Vary")}, "%v", c)
		if c.coding == "gzip" || c.coding == "zstd" {
			assert.Equal(t, longText, decode(t, c.coding, a.body))
			assert.Equal(t, `W/"v1"`, a.header.Get("Etag"))
		}
	}
	assert.Equal(t, 304, s.get("/all/a", "Accept-Encoding: gzip", `If-None-Match: W/"v1"`).status, "the origin knows its tag again")
}

// TestWhatIsCompressedIsFlushed as it comes, and an answer that breaks off does not look whole.
func TestWhatIsCompressedIsFlushed(t *testing.T) {
	more := make(chan struct{})
	s := newRigOf(t, compressingYAML, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("Content-Type", "text/plain")
		_, _ = io.WriteString(w, "first\n")
		_ = http.NewResponseController(w).Flush()
		<-more
		panic(http.ErrAbortHandler)
	})
	for _, method := range []string{"POST", "GET"} {
		req, err := http.NewRequest(method, s.url+"/all/a", nil)
		require.NoError(t, err)
		req.Header.Set("Accept-Encoding", "gzip")
		resp, err := (&http.Transport{DisableCompression: true}).RoundTrip(req)
		require.NoError(t, err)
		require.Equal(t, "gzip", resp.Header.Get("Content-Encoding"))
		z, err := gzip.NewReader(resp.Body)
		require.NoError(t, err)
		line, err := bufio.NewReader(z).ReadString('\n')
		require.NoError(t, err)
		assert.Equal(t, "first\n", line)
		more <- struct{}{}
		_, err = io.ReadAll(z)
		assert.Error(t, err)
		resp.Body.Close()
	}
}
