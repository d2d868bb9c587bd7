package policy

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
)

func TestTagTemplates(t *testing.T) {
	r := &key.Request{Host: "h", Query: "page=2&q=a%20b", Header: httprules.Header{"Accept-Language": {"nb"}, "Cookie": {"currency=kr"}}}
	value := func(name string) string { return map[string]string{"port": "gannet sound"}[name] }
	for _, c := range []struct {
		template, want string
		ok             bool
	}{
		{"timetable", "timetable", true},
		{"port:{port}", "port:gannet sound", true},
		{"{host}/{query:page}/{header:accept-language}/{cookie:currency}", "h/2/nb/kr", true},
		{"q:{query:q}", "q:a b", true},
		{"q:{query:none}", "", false},
	} {
		parsed, err := parseTagTemplate(c.template, []string{"port"})
		assert.NoError(t, err)
		tag, ok := parsed.Tag(r, &key.Query{}, value)
		assert.Equal(t, c.ok, ok, c.template)
		assert.Equal(t, c.want, tag)
	}
	for template, says := range map[string]string{
		"": "at least one character", "a{": "not closed", "{vessel}": "has no {vessel}", "{body:x}": "is not a placeholder", "{query:}": "is not a placeholder", "{header:a b}": "is not a placeholder",
		"{path.port}": "is written {port} by now", "{header.X-Shop}": "is written {header:X-Shop} by now",
	} {
		_, err := parseTagTemplate(template, []string{"port"})
		assert.ErrorContains(t, err, says)
	}
	long, _ := parseTagTemplate("{x}", []string{"x"})
	_, ok := long.Tag(r, &key.Query{}, func(string) string { return strings.Repeat("x", 1025) })
	assert.False(t, ok, "a tag over the limit is not carried")
}
