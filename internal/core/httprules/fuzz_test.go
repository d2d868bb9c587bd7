package httprules

import (
	"strings"
	"testing"
	"time"
)

// FuzzResponse feeds everything that reads an origin's or a visitor's fields. go test
// runs the seeds; go test -fuzz looks for more.
func FuzzResponse(f *testing.F) {
	for _, seed := range []string{
		`max-age=60, private="a, b", no-cache`, `"unclosed`, `bytes=0-1,5-,-2`, `params=("a" "b%20c"), key-order`, `gzip;q=0.5, *;q=0`, `W/"a", "b"`, `max-age="1", max-age=2`,
		"Sun, 06 Nov 1994 08:49:37 GMT", "\x00=\x01,,;;", "bytes=9223372036854775807-9223372036854775808",
	} {
		f.Add(seed, int64(100))
	}
	f.Fuzz(func(t *testing.T, field string, size int64) {
		h := Header{}
		for _, name := range []string{"Cache-Control", "Cdn-Cache-Control", "Vary", "Age", "Expires", "Date", "Range", "If-Range", "If-None-Match", "If-Match", "Accept-Encoding", "No-Vary-Search", "Cache-Groups", "Etag"} {
			h[name] = []string{field}
		}
		at := time.Unix(0, 0)
		d := ParseResponseDirectives(h)
		life := FreshnessOf(200, h, d, at, at, NoTerms())
		if life.Lifetime < 0 || life.Age(at) < 0 {
			t.Fatalf("a lifetime of %v, an age of %v", life.Lifetime, life.Age(at))
		}
		if size = max(0, size); size > 0 {
			_, spans := Ranges(h, h, size)
			for _, s := range spans {
				if s.From < 0 || s.Length <= 0 || s.From+s.Length > size {
					t.Fatalf("a span %+v of %d bytes", s, size)
				}
			}
		}
		search := ParseNoVarySearch(h)
		if once := search.Canonical(field); search.Stated && search.Canonical(once) != once {
			t.Fatalf("%q reduces to %q and then to %q", field, once, search.Canonical(once))
		}
		if normal := NormalEncoding(h["Accept-Encoding"]); NormalEncoding([]string{normal}) != normal {
			t.Fatalf("%q is written %q and then %q", field, normal, NormalEncoding([]string{normal}))
		}
		if !Matches(VaryingOf(VaryNames(h), h), h) {
			t.Fatal("an answer does not match the request that brought it")
		}
		NotModified(h, 200, h, at)
		RankCodings(h)
		if strings.Contains(CacheStatus{Key: field, Forward: ForwardMiss}.String(), "\n") {
			t.Fatal("a line break in a field")
		}
	})
}
