package policy

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestTheMatcherFindsTheFirst: the same route as when all are looked through.
func TestTheMatcherFindsTheFirst(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		path := rapid.StringMatching(`(/(a|b|\{x\}|%61|a%2Fb)){0,3}(/|/\{r\.\.\.\})?`)
		host := rapid.SampledFrom([]string{"*", "h", "h:80", "*.h", "g"})
		var b strings.Builder
		b.WriteString("version: 1\nroutes:\n")
		for i := range rapid.IntRange(1, 30).Draw(t, "routes") {
			p := path.Draw(t, "path")
			if !strings.HasPrefix(p, "/") {
				p = "/" + p
			}
			for strings.Count(p, "{x}") > 1 {
				p = strings.Replace(p, "{x}", fmt.Sprint("{x", strings.Count(p, "{x}"), "}"), 1)
			}
			fmt.Fprintf(&b, "  - { name: r%d, match: { path: %q, hosts: [%q], methods: [%s] } }\n", i, p, host.Draw(t, "host"), rapid.SampledFrom([]string{"GET", "HEAD", "GET, HEAD"}).Draw(t, "methods"))
		}
		p, err := Outside{Elsewhere: true}.Parse("p.yaml", []byte(b.String()))
		require.NoError(t, err, b.String())
		plain := &Policy{Routes: p.Routes}
		for range 20 {
			asked := rapid.StringMatching(`(/(a|b|c|%61|a%2Fb|%zz)?){0,4}`).Draw(t, "asked")
			on, method := rapid.SampledFrom([]string{"h", "h:80", "x.h", "x.h:80", "g:1", "[::1]:80"}).Draw(t, "on"), rapid.SampledFrom([]string{"GET", "HEAD", "POST"}).Draw(t, "method")
			assert.Equal(t, plain.Match(method, on, asked), p.Match(method, on, asked), "%s %s %s of\n%s", method, on, asked, b.String())
		}
	})
}

// BenchmarkMatch is the time to find one route among ten thousand.
func BenchmarkMatch(b *testing.B) {
	var text strings.Builder
	text.WriteString("version: 1\nroutes:\n")
	for i := range 10_000 {
		fmt.Fprintf(&text, "  - { name: r%d, match: { path: \"/api/r%d/{id}\", hosts: [h%d] } }\n", i, i%5000, i%100)
	}
	p, err := Outside{Elsewhere: true}.Parse("p.yaml", []byte(text.String()))
	require.NoError(b, err)
	for b.Loop() {
		if p.Match("GET", "h99", "/api/r4999/7") == nil {
			b.Fatal("it is not found")
		}
	}
}
