package policy

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
)

func TestTagTemplates(t *testing.T) {
	r := &key.Request{Host: "h", Query: "page=2&q=a%20b", Header: httprules.Header{"Accept-Language": {"nb"}, "Cookie": {"currency=kr"}}}
	path, err := parsePath("/{port}")
	require.NoError(t, err)
	r.Path, r.Content = "/gannet%20sound", map[string]any{"variables": map[string]any{"port": "tholm", "days": []any{"mon", "tue"}}}
	f := &filling{request: r, query: &key.Query{}, paths: Paths{path}, body: &Message{r.Content}}
	for _, c := range []struct {
		template, want string
		ok             bool
	}{
		{"timetable", "timetable", true},
		{"port:{port}", "port:gannet sound", true},
		{"{host}/{query:page}/{header:accept-language}/{cookie:currency}", "h/2/nb/kr", true},
		{"q:{query:q}", "q:a b", true},
		{"q:{query:none}", "", false},
		{"port:{body:variables.port}", "port:tholm", true}, {"{body:variables.days}@{port}", "mon@gannet sound tue@gannet sound", true}, {"{body:variables.none}", "", false},
	} {
		parsed, err := parseMessageTag(c.template, []string{"port"}, "body")
		assert.NoError(t, err)
		tags, _ := parsed.fill(f)
		assert.Equal(t, c.ok, len(tags) > 0, c.template)
		assert.Equal(t, c.want, strings.Join(tags, " "))
	}
	for template, says := range map[string]string{
		"": "at least one character", "a{": "not closed", "{vessel}": "has no {vessel}", "{body:}": "does not say which member", "{answer:x}": "is not a placeholder", "{query:}": "is not a placeholder", "{header:a b}": "is not a placeholder",
		"{path.port}": "is written {port} by now", "{header.X-Shop}": "is written {header:X-Shop} by now",
	} {
		_, err := parseMessageTag(template, []string{"port"}, "body")
		assert.ErrorContains(t, err, says)
	}
	long, err := parseMessageTag("{port}", []string{"port"}, "body")
	require.NoError(t, err)
	r.Path = "/" + strings.Repeat("x", 1025)
	tags, _ := long.fill(f)
	assert.Empty(t, tags, "a tag over the limit is not carried")
}
