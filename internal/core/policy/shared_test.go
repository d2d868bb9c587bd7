package policy

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/key"
)

const sharing = `version: 1
routes:
  - name: people
    like: listing
    match: { path: ["/people", "/staff/{id}"] }
    lifetime: { fresh: 5m }
    tags: [people, "person:{id}"]
  - name: all
    like: [listing, shop]
    match: { path: "/{x...}" }
    key: { query: { except: [utm_*] } }
  - { name: plain, match: { path: /plain }, lifetime: *short }
defaults: { lifetime: { stale_if_error: 1d }, compare: 0.1% }
shapes:
  listing: { key: { query: { only: [page, sort] } }, lifetime: &short { fresh: 10m, idle: 1h } }
  shop:
    like: listing
    lifetime:
      fresh: 1m
`

// TestSharedSettings: maps are merged member by member, lists and plain values replace, one
// alternative takes the place of the other, and the last that is named counts most.
func TestSharedSettings(t *testing.T) {
	p, err := Outside{Elsewhere: true}.Parse("p.yaml", []byte(sharing))
	require.NoError(t, err)
	people, all, plain := p.Routes[0], p.Routes[1], p.Routes[2]
	assert.Equal(t, []any{5 * time.Minute, time.Hour, 24 * time.Hour}, []any{people.Terms.Fresh, people.Idle, people.Terms.StaleIfError})
	assert.Equal(t, []any{time.Minute, time.Hour, 24 * time.Hour}, []any{all.Terms.Fresh, all.Idle, all.Terms.StaleIfError})
	assert.Equal(t, []any{10 * time.Minute, time.Hour, 24 * time.Hour}, []any{plain.Terms.Fresh, plain.Idle, plain.Terms.StaleIfError}, "an alias is the value itself")
	assert.Equal(t, []key.Pattern{"page", "sort"}, people.Key.Query.Names)
	assert.Equal(t, key.Except, all.Key.Query.Mode)
	assert.InDelta(t, 0.001, plain.Compare.Share, 1e-9)
	assert.True(t, people.Path.Match("/staff/7"))
	assert.Equal(t, []string{"people"}, people.TagsOf(&key.Request{Path: "/people"}))
	assert.Equal(t, []string{"people", "person:7"}, people.TagsOf(&key.Request{Path: "/staff/7"}))
}

// TestFullSaysWhereSettingsAreFrom, and is a policy's routes itself.
func TestFullSaysWhereSettingsAreFrom(t *testing.T) {
	full, err := Outside{Elsewhere: true}.Full("p.yaml", []byte(sharing))
	require.NoError(t, err)
	for _, line := range []string{
		"  - name: people\n", "      fresh: 5m\n", "      idle: 1h  # shape listing, line 15\n", "      stale_if_error: 1d  # defaults, line 13\n",
		"      fresh: 1m  # shape shop, line 19\n", "        only: [page, sort]  # shape listing, line 15\n", "        except: [utm_*]\n",
	} {
		assert.Contains(t, full, line)
	}
	again, err := Outside{Elsewhere: true}.Parse("full.yaml", []byte("version: 1\n"+full))
	require.NoError(t, err)
	p, err := Outside{Elsewhere: true}.Parse("p.yaml", []byte(sharing))
	require.NoError(t, err)
	for i := range p.Routes {
		assert.True(t, p.Routes[i].sameFor(again.Routes[i]), p.Routes[i].Name)
	}
}

// TestDifferencesNameWhatChanged: whatever of a route or of the rest is another, it is named.
func TestDifferencesNameWhatChanged(t *testing.T) {
	const before = "version: 1\norigins: [{ name: s, url: http://h }]\nroutes:\n  - { name: a, match: { path: /a } }\n  - { name: b, match: { path: /b }, key: { group: { ask: /g, from: \"cookie:s\" } } }\nwrites: [{ match: { path: /w }, tags: [x] }]\nonward: [{ name: o, url: http://o, body: x }]\n"
	parse := func(source string) *Policy {
		p, err := Outside{}.Parse("p.yaml", []byte(source))
		require.NoError(t, err)
		return p
	}
	old := parse(before)
	for _, c := range []struct{ from, to, says string }{
		{"", "", ""}, {"path: /a }", "path: /a }, keep_warm: true", "changed: a"}, {"path: /a }", "path: /a }, compress: off", "changed: a"}, {"path: /a }", "path: /a }, lifetime: { browser: 1s }", "changed: a"},
		{"ask: /g", "ask: /h", "changed: b"}, {"ask: /g", "keep: 1m, ask: /g", "changed: b"}, {"name: a,", "name: c,", "new: c; gone: a"},
		{"tags: [x]", "tags: [y]", "also changed: writes"}, {"body: x", "body: y", "also changed: onward"}, {"http://h", "http://i", "also changed: origins"},
	} {
		assert.Equal(t, c.says, parse(strings.Replace(before, c.from, c.to, 1)).DifferencesFrom(old).String(), c.to)
	}
}
