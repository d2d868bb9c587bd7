package edge

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func decode(t *testing.T, coding, body string) string {
	var r io.Reader
	switch coding {
	case "":
		return body
	case "gzip":
		g, err := gzip.NewReader(strings.NewReader(body))
		require.NoError(t, err)
		r = g
	case "br":
		r = brotli.NewReader(strings.NewReader(body))
	case "zstd":
		z, err := zstd.NewReader(strings.NewReader(body))
		require.NoError(t, err)
		r = z
	}
	plain, err := io.ReadAll(r)
	require.NoError(t, err)
	return string(plain)
}

// comes waits until a coded form of what is stored is there.
func (s *rig) comes(path, coding string) {
	require.Eventually(s.t, func() bool {
		return s.get(path, "Accept-Encoding: "+coding).header.Get("Content-Encoding") == coding
	}, 5*time.Second, time.Millisecond)
}

func TestStoredAnswersAreCompressedOnce(t *testing.T) {
	page := strings.Repeat("Ostrel Isles Ferries sail between the isles. ", 200)
	s := newRig(t, text(page, "Content-Type: text/html", `ETag: "v1"`))
	first := s.get("/ports/a", "Accept-Encoding: gzip")
	assert.Equal(t, page, first.body)
	assert.Equal(t, "Accept-Encoding", first.header.Get("Vary"), "it is said from the first answer on")
	for _, coding := range []string{"gzip", "br", "zstd"} { // each is made when somebody would like it
		assert.NotEqual(t, coding, s.get("/ports/a", "Accept-Encoding: gzip;q=0.5, "+coding).header.Get("Content-Encoding"), "nobody waits for it")
		s.comes("/ports/a", coding)
	}
	for _, c := range []struct{ accept, coding string }{
		{"gzip", "gzip"}, {"gzip, br", "br"}, {"gzip, br;q=0.5", "gzip"}, {"zstd", "zstd"}, {"*", "br"}, {"*;q=0.5, gzip", "gzip"},
		{"identity", ""}, {"", ""}, {"br;q=0", ""}, {"compress", ""}, {"gzip;q=0.5, identity", ""}, {"x-gzip", "gzip"},
	} {
		a := s.get("/ports/a", "Accept-Encoding: "+c.accept)
		assert.True(t, a.hit())
		assert.Equal(t, c.coding, a.header.Get("Content-Encoding"), c.accept)
		assert.Equal(t, page, decode(t, c.coding, a.body))
		assert.Equal(t, fmt.Sprint(len(a.body)), a.header.Get("Content-Length"))
		want := `"v1"`
		if c.coding != "" {
			want = `"v1+` + c.coding + `"`
			assert.Less(t, len(a.body), len(page)/2)
		}
		assert.Equal(t, want, a.header.Get("Etag"), "a strong validator names one sequence of bytes")
		assert.Equal(t, 304, s.get("/ports/a", "Accept-Encoding: "+c.accept, "If-None-Match: "+want).status)
	}
	assert.Equal(t, 304, s.get("/ports/a", "Accept-Encoding: gzip", `If-None-Match: "v1"`).status, "who has the plain form keeps it")
	assert.Equal(t, 200, s.get("/ports/a", "Accept-Encoding: gzip", `If-None-Match: "v0"`).status)
	s.answer(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNotModified) })
	s.pass(2 * time.Minute)
	renewed := s.get("/ports/a", "Accept-Encoding: br")
	assert.Contains(t, renewed.state, "fwd-status=304")
	assert.Equal(t, "br", renewed.header.Get("Content-Encoding"), "a renewed entry keeps its forms")
	assert.EqualValues(t, 2, s.asked.Swap(1))
	part := s.get("/ports/a", "Accept-Encoding: gzip", "Range: bytes=0-5")
	assert.Equal(t, "Ostrel", part.body, "ranges are of the plain form")
	assert.EqualValues(t, 1, s.asked.Load())
	for name, h := range map[string]http.HandlerFunc{
		"no-transform": text(page, "Content-Type: text/html", "Cache-Control: no-transform"),
		"an image":     text(page, "Content-Type: image/png"),
		"small":        text("small", "Content-Type: text/html", "Content-Length: 5"),
	} {
		s := newRig(t, h)
		s.get("/ports/a", "Accept-Encoding: gzip")
		a := s.get("/ports/a", "Accept-Encoding: gzip")
		assert.Empty(t, a.header.Get("Content-Encoding"), name)
		assert.Empty(t, a.header.Get("Vary"), name)
	}
}

func TestEncodedAnswersOfTheOriginAreKeptAsTheyAre(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Vary", "Accept-Encoding")
		if strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
			w.Header().Set("Content-Encoding", "gzip")
			_, _ = io.WriteString(w, "packed")
			return
		}
		_, _ = io.WriteString(w, "plain")
	})
	assert.Equal(t, "packed", s.get("/ports/a", "Accept-Encoding: gzip, deflate, br").body)
	a := s.get("/ports/a", "Accept-Encoding: br,gzip")
	assert.True(t, a.hit(), "visitors who can read the same share a variant: %s", a.state)
	assert.Equal(t, "packed", a.body)
	plain := s.get("/ports/a", "Accept-Encoding: identity")
	assert.Equal(t, "plain", plain.body)
	assert.Contains(t, plain.state, "fwd=vary-miss")
}
