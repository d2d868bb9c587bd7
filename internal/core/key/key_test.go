package key

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"gerastic/internal/core/httprules"
)

func TestQueryRules(t *testing.T) {
	for _, c := range []struct {
		name  string
		rule  Query
		query string
		want  string
		has   bool
	}{
		{"all, as it came", Query{}, "b=2&&a=1&%61=%7e", "b=2&&a=1&%61=%7e", true},
		{"all, sorted by name", Query{Sorted: true}, "b=2&a=1", "a=1&b=2", true},
		{"equal names keep their order", Query{Sorted: true}, "b=1&a=2&a=1", "a=2&a=1&b=1", true},
		{"equal names keep their order however they are encoded", Query{Mode: Except, Sorted: true}, "b=0&a=1&%61=2&+=3", "+=3&a=1&%61=2&b=0", true},
		{"none", Query{Mode: None}, "a=1", "", false},
		{"only those named", Query{Mode: Only, Names: []Pattern{"date", "page"}}, "utm_source=x&page=2&date=d", "page=2&date=d", true},
		{"only those named, of which none is there", Query{Mode: Only, Names: []Pattern{"date"}}, "x=1", "", false},
		{"all except those named", Query{Mode: Except, Names: []Pattern{"utm_*", "ref"}}, "utm_source=x&q=1&ref=y", "q=1", true},
		{"a star in the middle", Query{Mode: Except, Names: []Pattern{"a*z"}}, "abcz=1&az=2&a=3", "a=3", true},
		{"names compare decoded", Query{Mode: Only, Names: []Pattern{"from port"}}, "from%20port=a&x=1", "from%20port=a", true},
		{"values stay as they were sent", Query{}, "a=%61&b=+", "a=%61&b=+", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, has := c.rule.Canonical(c.query, true)
			assert.Equal(t, c.want, got)
			assert.Equal(t, c.has, has)
		})
	}
	all := Query{}
	_, has := all.Canonical("", false)
	assert.False(t, has)
}

// part is text that tries to be mistaken for structure.
var part = rapid.OneOf(rapid.StringMatching(`[a-c=&;,/\x00\x01 ]{0,6}`), rapid.String())

func drawRequest(t *rapid.T, label string) *Request {
	r := &Request{Method: "GET", Scheme: rapid.SampledFrom([]string{"http", "https"}).Draw(t, label+"scheme"), Header: httprules.Header{}}
	r.Host, r.Path = part.Draw(t, label+"host"), "/"+part.Draw(t, label+"path")
	r.HasQuery = rapid.Bool().Draw(t, label+"has")
	if r.HasQuery {
		r.Query = part.Draw(t, label+"query")
	}
	if rapid.Bool().Draw(t, label+"header") {
		r.Header["X-A"] = []string{part.Draw(t, label+"x-a")}
	}
	if rapid.Bool().Draw(t, label+"cookie") {
		r.Header["Cookie"] = []string{"c=" + strings.ReplaceAll(part.Draw(t, label+"c"), ";", "")}
	}
	return r
}

// TestPromise1KeysAreNeverAmbiguous: two requests have one key only if they agree in
// every part, and a key reads back as what it was made of.
func TestPromise1KeysAreNeverAmbiguous(t *testing.T) {
	spec := &Spec{Query: Query{}, Headers: []string{"X-A"}, Cookies: []string{"c"}}
	rapid.Check(t, func(t *rapid.T) {
		a, b := drawRequest(t, "a "), drawRequest(t, "b ")
		ka, kb := string(spec.Append(nil, "r", a)), string(spec.Append(nil, "r", b))
		ca, hasA := CookieValue(a.Header, "c")
		cb, hasB := CookieValue(b.Header, "c")
		same := a.Scheme == b.Scheme && a.Host == b.Host && a.Path == b.Path && a.HasQuery == b.HasQuery && a.Query == b.Query &&
			a.Header.Has("X-A") == b.Header.Has("X-A") && a.Header.Get("X-A") == b.Header.Get("X-A") && hasA == hasB && ca == cb
		assert.Equal(t, same, ka == kb)
		parts := Parts(ka)
		assert.Len(t, parts, 7)
		assert.Equal(t, Part{Path, "", a.Path, true}, parts[3])
		assert.Equal(t, Part{Params, "", a.Query, a.HasQuery}, parts[4])
		assert.Equal(t, Part{Field, "X-A", a.Header.Get("X-A"), a.Header.Has("X-A")}, parts[5])
		assert.NotEqual(t, ka, string(spec.Append(nil, "r2", a)), "routes separate")
	})
}

func TestCanonicalQueriesAreStable(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		q := Query{Mode: rapid.SampledFrom([]QueryMode{All, Only, Except}).Draw(t, "mode"), Names: []Pattern{"a", "b*"}, Sorted: rapid.Bool().Draw(t, "sorted")}
		raw := rapid.StringMatching(`[abc=&%6]{0,12}`).Draw(t, "raw")
		once, has := q.Canonical(raw, true)
		twice, _ := q.Canonical(once, has)
		assert.Equal(t, once, twice)
	})
}

func TestPartsOfWhatIsNoKey(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) { Parts(rapid.String().Draw(t, "no key")) })
}
