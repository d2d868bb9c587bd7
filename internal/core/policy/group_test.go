package policy

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/httprules"
)

// noKeys are keys by which nothing holds; one file of them is missing.
type noKeys struct{ text string }

func (noKeys) Open(place string) (Keys, error) {
	if place == "/missing" {
		return nil, errors.New("there is no such file; did you mean /keys?")
	}
	return noKeys{}, nil
}

func (noKeys) Of(text string) (Keys, error) { return noKeys{text}, nil }

func (noKeys) Value(context.Context, string, Claim, time.Time) (value string, until time.Time, ok bool) {
	return "", until, false
}

func groupOf(group string) (*Policy, error) {
	return Outside{Secret: secrets, Keys: noKeys{}}.Parse("p.yaml", []byte("version: 1\norigins: [{ name: s, url: http://h }]\nroutes:\n  - { name: r, match: { path: /x }, key: { group: "+group+" } }\n"))
}

func TestGroupsOfAPolicy(t *testing.T) {
	p, err := groupOf(`{ claim: role, from: [authorization, "cookie:s", "header:x-token"], keys: "secret_file:outer.token", issuer: us }`)
	require.NoError(t, err)
	g := p.Routes[0].Group
	assert.Equal(t, noKeys{"Bearer of-the-outer-cache"}, g.Keys)
	assert.True(t, g.Takes("Authorization") && g.Takes("X-Token") && g.TakesCookie("s") && g.TakesCookie("s.sig"))
	assert.False(t, g.Takes("Cookie") || g.TakesCookie("t"))
	for said, token := range map[string]string{"bearer  a.b.c": "a.b.c", "Basic x": "", "a.b.c": "", "": ""} {
		assert.Equal(t, token, g.Token(httprules.Header{"Authorization": {said}}), said)
	}
	assert.Equal(t, "a.b.c", g.Token(httprules.Header{"X-Token": {"a.b.c"}}))
	assert.Equal(t, "a.b.c", g.Token(httprules.Header{"Cookie": {"t=1; s=a.b.c"}}))
	assert.Empty(t, g.Token(httprules.Header{"Authorization": {"Bearer a.b.c", "Bearer d.e.f"}}), "two are none")
	one, two := g.Credentials(httprules.Header{"X-Token": {"1"}, "Cookie": {"s=2"}}), g.Credentials(httprules.Header{"X-Token": {"1 s=2"}})
	assert.NotEqual(t, one, two)
	assert.Empty(t, g.Credentials(httprules.Header{"Cookie": {"t=1"}}))

	other, err := groupOf(`{ claim: team, from: [authorization, "cookie:s", "header:x-token"], keys: "secret_file:outer.token", issuer: us }`)
	require.NoError(t, err)
	assert.NotEqual(t, p.Routes[0].KeyName, other.Routes[0].KeyName, "what was stored for roles is not for teams")

	for group, says := range map[string]string{
		`{ claim: role, from: authorization }`:                                 "name keys:",
		`{ claim: role, keys: /keys }`:                                         "needs to know where from",
		`{ claim: role, ask: /g, from: authorization, keys: /keys }`:           "either the claim",
		`{ from: authorization }`:                                              "either the claim",
		`{ ask: /g, from: "cookie:s", keys: /keys }`:                           "keys are for the claim",
		`{ ask: /g, from: "cookie:s", issuer: x }`:                             "issuer and audience",
		`{ ask: "http://x/g", from: "cookie:s" }`:                              "no path of the origin",
		`{ ask: /g, from: "cookie:s", keep: 2d }`:                              "from 1s to 1d",
		`{ ask: /g, from: "cookie:s", keep: 5 }`:                               "key.group.keep",
		`{ claim: role, from: authorization, keys: /keys, keep: 5m }`:          "keep is for what the origin says",
		`{ claim: role, from: "kookie:s", keys: /keys }`:                       "key.group.from cannot be",
		`{ claim: role, from: "header:Gerastic-Group", keys: /keys }`:          "key.group.from cannot be",
		`{ claim: role, from: authorization, keys: /missing }`:                 "4:93: key.group.keys: there is no such file; did you mean /keys?",
		`{ claim: role, from: authorization, keys: "secret_file:outer.tokn" }`: "no file outer.tokn",
		`{ claim: role, from: authorization, keys: /keys, nobody: share }`:     `did you mean "shared"?`,
		`{ claim: role, form: authorization, keys: /keys }`:                    `did you mean "from"?`,
		`{ ask: /g, from: "cookie:s" }, identity: authorization`:               "keep one of them",
		`{ ask: /g, from: "cookie:s" }, headers: [gerastic-group]`:             "write key.group",
		`editors`: "must be a mapping",
	} {
		_, err := groupOf(group)
		assert.ErrorContains(t, err, says, group)
	}
}
