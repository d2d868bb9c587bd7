package edge

import (
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRangesColdAndStored(t *testing.T) {
	const body = "0123456789"
	for _, c := range []struct {
		name    string
		headers []string
		status  int
		content string
		part    string // Content-Range
	}{
		{"the first bytes", []string{"Range: bytes=0-3"}, 206, "0123", "bytes 0-3/10"},
		{"from one on", []string{"Range: bytes=7-"}, 206, "789", "bytes 7-9/10"},
		{"the last bytes", []string{"Range: bytes=-2"}, 206, "89", "bytes 8-9/10"},
		{"beyond the end", []string{"Range: bytes=8-99"}, 206, "89", "bytes 8-9/10"},
		{"backwards is none", []string{"Range: bytes=5-2"}, 200, body, ""},
		{"another unit is ignored", []string{"Range: lines=1-2"}, 200, body, ""},
		{"If-Range holds", []string{"Range: bytes=0-0", `If-Range: "v1"`}, 206, "0", "bytes 0-0/10"},
		{"If-Range does not hold", []string{"Range: bytes=0-0", `If-Range: "v0"`}, 200, body, ""},
		{"If-Range needs a strong validator", []string{"Range: bytes=0-0", `If-Range: W/"v1"`}, 200, body, ""},
		{"a condition goes first", []string{"Range: bytes=0-0", `If-None-Match: "v1"`}, 304, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRig(t, text(body, `ETag: "v1"`, "Content-Type: text/plain", "Content-Length: 10"))
			for _, when := range []string{"cold", "stored"} {
				a := s.get("/ports/a", c.headers...)
				assert.Equal(t, c.status, a.status, when)
				assert.Equal(t, c.content, a.body, when)
				assert.Equal(t, c.part, a.header.Get("Content-Range"), when)
			}
			assert.EqualValues(t, 1, s.asked.Load(), "the whole was stored from the first")
		})
	}
	s := newRig(t, text(body, "Content-Type: text/plain", "Content-Length: 10"))
	s.get("/ports/a")
	none := s.get("/ports/a", "Range: bytes=10-")
	assert.Equal(t, 416, none.status)
	assert.Equal(t, "bytes */10", none.header.Get("Content-Range"))
	several := s.get("/ports/a", "Range: bytes=0-1, 5-6")
	assert.Equal(t, 206, several.status)
	_, params, err := mime.ParseMediaType(several.header.Get("Content-Type"))
	require.NoError(t, err)
	parts := multipart.NewReader(strings.NewReader(several.body), params["boundary"])
	for _, want := range []string{"bytes 0-1/10 01", "bytes 5-6/10 56"} {
		p, err := parts.NextPart()
		require.NoError(t, err)
		content, _ := io.ReadAll(p)
		assert.Equal(t, want, p.Header.Get("Content-Range")+" "+string(content))
	}
	assert.Equal(t, 200, s.get("/ports/a", "Range: bytes=0-5, 2-8").status, "ranges that overlap get the whole")
}

func TestARangeOfWhatIsNotStoredGoesThrough(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		http.ServeContent(w, r, "x.txt", time.Time{}, strings.NewReader("0123456789"))
	})
	for range 3 {
		a := s.get("/ports/a", "Range: bytes=2-3")
		assert.Equal(t, 206, a.status)
		assert.Equal(t, "23", a.body)
	}
}
