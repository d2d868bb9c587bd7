package policy

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/tags"
)

const onwardHead = "version: 1\norigins: [{ name: site, url: http://h }]\nroutes: []\nonward:\n"

// secrets are files of a test: one that is there, and one that others may read.
func secrets(name string) (string, error) {
	switch name {
	case "outer.token":
		return "Bearer of-the-outer-cache", nil
	case "open":
		return "", errors.New("others may read it")
	}
	return "", fmt.Errorf("no file %s", name)
}

func onwardOf(t *testing.T, target string) (*Policy, error) {
	return Outside{Secret: secrets, Lookup: func(string) (string, bool) { return "from-outside", true }}.Parse("p.yaml", []byte(onwardHead+"  - "+target+"\n"))
}

func TestWhatIsToldOnward(t *testing.T) {
	purge := tags.Purge{Sequence: 7, Tags: []string{`a"b`, "<c>"}, URLs: []tags.URL{{AnyHost: true, Path: "/p", Query: "q=1"}, {Host: "h", Path: "/p", AnyQuery: true, Query: "x"}}, Below: []tags.Below{{Host: "h", Path: "/b/"}, {AnyHost: true, Path: "/c/"}}}
	for _, c := range []struct{ target, sent string }{
		{`{ name: o, url: http://o/p, body: '{"tags": {{json .Tags}}, "all": {{.All}}}' }`, `{"tags": ["a\"b","<c>"], "all": false}`},
		{`{ name: o, url: http://o/p, body: '{{if .All}}*{{else}}{{join .URLs " "}}|{{range .Below}}{{.}};{{end}}{{end}}' }`, `/p?q=1 https://h/p|https://h/b/;/c/;`},
		{`{ name: o, url: http://o/p }`, `{"sequence":7,"at":"2026-05-17T12:00:00Z","mode":"drop","tags":["a\"b","<c>"],"together":false,"tags_begin":[],"urls":["/p?q=1","https://h/p"],"below":["https://h/b/","/c/"],"routes":[],"hosts":[],"all":false}`},
	} {
		p, err := onwardOf(t, c.target)
		require.NoError(t, err, c.target)
		sent, err := p.Onward[0].Body(Telling(&purge, time.Date(2026, 5, 17, 12, 0, 0, 0, time.UTC)))
		require.NoError(t, err)
		assert.Equal(t, c.sent, string(sent))
		assert.Empty(t, p.Warnings)
	}
	assert.True(t, TagPurges.Of(&purge) && URLPurges.Of(&purge) && EveryPurge.Of(&tags.Purge{}))
	assert.False(t, TagPurges.Of(&tags.Purge{All: true}) || URLPurges.Of(&tags.Purge{Tags: []string{"a"}}))

	p, err := onwardOf(t, `{ name: o, url: "http://o/p", body: '{"tags": {{json .Tags}}}', headers: { authorization: "secret_file:outer.token", X-From: "${NODE}" } }`)
	require.NoError(t, err)
	assert.Equal(t, "Bearer of-the-outer-cache", p.Onward[0].Header.Get("Authorization"))
	assert.Equal(t, "from-outside", p.Onward[0].Header.Get("X-From"))
	assert.Equal(t, "application/json", p.Onward[0].Header.Get("Content-Type"))
	require.Len(t, p.Warnings, 1)
	assert.Contains(t, p.Warnings[0].Message, "use .All")
}

func TestMistakesOfOnward(t *testing.T) {
	for target, says := range map[string]string{
		`{ name: o }`:                                                        "5:7: an onward target needs a name and a url",
		`{ name: o, url: "ftp://x" }`:                                        "5:21: url: this is no address",
		`{ name: o, url: http://o, method: post }`:                           "method: \"post\" is no method",
		`{ name: o, url: http://o, methd: POST }`:                            `did you mean "method"?`,
		`{ name: o, url: http://o, when: tag }`:                              `did you mean "tags"?`,
		`{ name: o, url: http://o, body: "{{json .Tgs}}" }`:                  "5:37: body: 1:7: executing \"body\" at <.Tgs>: can't evaluate field Tgs",
		`{ name: o, url: http://o, body: "{{.Tags" }`:                        "body: 1: unclosed action",
		`{ name: o, url: http://o, body: "{{jsn .Tags}}" }`:                  "function \"jsn\" not defined",
		`{ name: o, url: http://o, body: '{"tags": {{.Tags}}}' }`:            "which is no JSON; write {{json .Tags}}",
		`{ name: o, url: http://o, body: "{{range 1000000000}}{{end}}" }`:    "a loop goes over",
		`{ name: o, url: http://o, body: "{{$n := 9}}{{range $n}}{{end}}" }`: "a loop goes over",
		`{ name: o, url: http://o, body: "{{define \"x\"}}{{end}}" }`:        "defines templates",
		`{ name: o, url: http://o, body: "{{template \"body\"}}" }`:          "calls a template",
		`{ name: o, url: http://o, body: "` + strings.Repeat("{{range .Tags}}", 3) + strings.Repeat("{{end}}", 3) + `" }`: "more than 2 loops",
		`{ name: o, url: http://o, headers: { Content-Length: 3 } }`:                                                      "no field that can be set here",
		`{ name: o, url: http://o, headers: { "X Y": 3 } }`:                                                               "no field that can be set here",
		`{ name: o, url: http://o, headers: { X: "a\nb" } }`:                                                              "one line",
		`{ name: o, url: http://o, headers: { X: "secret_file:outer.tokn" } }`:                                            "5:45: headers.X: no file outer.tokn",
		`{ name: o, url: http://o, headers: { X: "secret_file:open" } }`:                                                  "others may read it",
		"{ name: o, url: http://o }\n  - { name: o, url: http://o }":                                                      "two onward targets are named",
	} {
		_, err := onwardOf(t, target)
		assert.ErrorContains(t, err, says, target)
	}
	source := onwardHead + `  - { name: o, url: "http://u:pass-of-the-outer@o/p", headers: { Authorization: "Bearer in-the-policy", X-Other: "secret_file:outer.token" } }` + "\n"
	shown := Hide(source, func(string) (string, bool) { return "", false })
	assert.NotContains(t, shown, "in-the-policy")
	assert.NotContains(t, shown, "pass-of-the-outer")
	assert.Contains(t, shown, "secret_file:outer.token")
	p, err := Outside{}.Parse("p.yaml", []byte(onwardHead+`  - { name: o, url: "secret_file:u" }`+"\n"))
	require.NoError(t, err)
	assert.Contains(t, p.Warnings[0].Message, "with --secrets DIR it is")
}
