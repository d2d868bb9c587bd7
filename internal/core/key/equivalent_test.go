package key

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestEquivalentPaths(t *testing.T) {
	for path, want := range map[string]string{
		"/caf%c3%a9":         "/caf%C3%A9",
		"/%7Eown/%61":        "/~own/a",
		"/a%2fb":             "/a%2Fb",
		"/a/./b/../c":        "/a/c",
		"/a/%2e%2e/b":        "/b",
		"/../a":              "/a",
		"/a/..":              "/",
		"/a/b/.":             "/a/b/",
		"/a//b":              "/a//b",
		"/100%":              "/100%",
		"/.well-known/a.css": "/.well-known/a.css",
	} {
		assert.Equal(t, want, EquivalentPath(path), path)
	}
	rapid.Check(t, func(t *rapid.T) {
		once := EquivalentPath("/" + rapid.StringMatching(`([a.]{0,3}/|%2[eEfF5]|%[67]1){0,6}`).Draw(t, "path"))
		assert.Equal(t, once, EquivalentPath(once))
	})
}

func TestPathsThatClimb(t *testing.T) {
	for _, path := range []string{
		"/static/../account", "/static/%2e%2e/account", "/static/.%2E/account", "/static/..%2faccount", "/static/..%2Faccount", "/static/..;/account", "/static/..;a=b/account",
		"/static/%252e%252e/account", "/static/..%5caccount", `/static/..\account`, "/static/./account", "/static/..", "/static/%2e", "/static/..%00/account", "/static/%2e%2e%3b/account",
		"/static/%c0%ae%c0%ae/account", "/..", "/static/%25252525252e%25252525252e/a", "/a;/../b", "/static/%20../account",
	} {
		assert.True(t, Climbs(path), path)
	}
	for _, path := range []string{"/", "/static/app.css", "/.well-known/x", "/a..b/c", "/...", "/a/..b", "/caf%C3%A9", "/a%2Fb", "/a;v=1/b", "/100%25", "/a%20b.txt", "/x/%2Fetc"} {
		assert.False(t, Climbs(path), path)
	}
}
