package policy

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const edited = `version: 1   # the rules
routes:
  # The boards.
  - name: board   # of a port
    match: { path: "/board/{port}" }
    lifetime:
      fresh: 10m   # as agreed
      # for a while
      stale_if_error: 1d

  # All ports.
  - { name: port, match: { path: "/ports/{port}" }, lifetime: { fresh: 1m } }   # short

  - name: rest
    match:
      path: "/{x...}"
    tags: [
      all,
    ]
writes: []   # none
`

// TestEdits: only what is meant changes; comments and all other lines stay.
func TestEdits(t *testing.T) {
	set := func(name string, texts ...string) func(string) (string, error) {
		return func(source string) (string, error) {
			var all []Setting
			for _, text := range texts {
				s, err := ParseSetting(text)
				require.NoError(t, err)
				all = append(all, s)
			}
			return SetRoute(source, name, all)
		}
	}
	add := func(before string, lines ...string) func(string) (string, error) {
		return func(source string) (string, error) { return AddRoute(source, lines, before) }
	}
	for _, c := range []struct {
		name     string
		edit     func(string) (string, error)
		old, new string // what of the lines is another
	}{
		{"a value in lines", set("board", "lifetime.fresh=5m"), "      fresh: 10m   # as agreed", "      fresh: 5m   # as agreed"},
		{"a value that was not there", set("board", "lifetime.idle=1h"), "      stale_if_error: 1d\n", "      stale_if_error: 1d\n      idle: 1h\n"},
		{"a mapping that was not there", set("board", "key.query=none"), "      stale_if_error: 1d\n", "      stale_if_error: 1d\n    key: { query: none }\n"},
		{"a deeper one", set("board", "lifetime.by_status.404=30s"), "      stale_if_error: 1d\n", "      stale_if_error: 1d\n      by_status: { 404: 30s }\n"},
		{"a mapping in brackets", set("board", "match.methods=[GET]"), `{ path: "/board/{port}" }`, `{ path: "/board/{port}", methods: [GET] }`},
		{"a route in brackets", set("port", "lifetime.fresh=2m", "compare=off"), `lifetime: { fresh: 1m } }   # short`, `lifetime: { fresh: 2m }, compare: off }   # short`},
		{"a value over lines", set("rest", "tags=[some]"), "    tags: [\n      all,\n    ]\n", "    tags: [some]\n"},
		{"out of lines", set("board", "lifetime.fresh="), "      fresh: 10m   # as agreed\n", ""},
		{"out of brackets", set("port", "lifetime.fresh="), "lifetime: { fresh: 1m }", "lifetime: {  }"},
		{"one more as the last", add("", "name: new", "match: { path: /new }"), "    ]\n", "    ]\n  - name: new\n    match: { path: /new }\n"},
		{"one more before another", add("port", "name: new", "match: { path: /new }"), "  # All ports.\n", "  - name: new\n    match: { path: /new }\n  # All ports.\n"},
		{"one less", func(s string) (string, error) { return RemoveRoute(s, "port") }, "\n  # All ports.\n  - { name: port, match: { path: \"/ports/{port}\" }, lifetime: { fresh: 1m } }   # short\n", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := c.edit(edited)
			require.NoError(t, err)
			require.Equal(t, 1, strings.Count(edited, c.old))
			assert.Equal(t, strings.Replace(edited, c.old, c.new, 1), got)
			if !strings.Contains(c.new, "{  }") {
				_, err = Outside{Elsewhere: true}.Parse("p.yaml", []byte(got))
				assert.NoError(t, err)
			}
		})
	}
	for _, source := range []string{"version: 1\n", "version: 1\nroutes:\n", "version: 1\nroutes: [] # none yet\n", "version: 1\nroutes: [{ name: a, match: { path: /a } }]\nvisitors: { signed_in: [\"cookie:s\"] }\n"} {
		got, err := AddRoute(source, []string{"name: new", "match: { path: /new }"}, "")
		require.NoError(t, err)
		p, err := Outside{Elsewhere: true}.Parse("p.yaml", []byte(got))
		require.NoError(t, err, got)
		assert.Equal(t, "new", p.Routes[len(p.Routes)-1].Name)
		got, err = RemoveRoute(got, "new")
		require.NoError(t, err)
		_, err = Outside{Elsewhere: true}.Parse("p.yaml", []byte(got))
		require.NoError(t, err, got)
	}
	_, err := RemoveRoute(edited, "bord")
	assert.ErrorContains(t, err, `there is no route "bord"; did you mean "board"?`)
	for _, text := range []string{"fresh", "=1", ".a=1", "a..b=1", "a={", "a=1 # x", "a=1\nb: 2"} {
		_, err := ParseSetting(text)
		assert.Error(t, err, text)
	}
}
