package test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"
)

// TestEntriesAreListedAndShown: by the API and the commands; bodies are for admins only, and
// nothing that a browser would take for a page.
func TestEntriesAreListedAndShown(t *testing.T) {
	visit(t, "/vessels/3")
	list, err := api().Entries(ctx, client.EntryQuery{URL: "/vessels/3"})
	require.NoError(t, err)
	require.Equal(t, 1, list.Total)
	e := list.Entries[0]
	assert.Equal(t, "vessel", e.Route)
	assert.Equal(t, "GET", e.Method)
	assert.True(t, strings.HasSuffix(e.URL, "/vessels/3") && e.BodyBytes > 100 && e.Bytes > e.BodyBytes && e.CostMS > 0 && e.Worth > 0 && e.Tier == "memory", "%+v", e)
	assert.Contains(t, e.Tags, client.EntryTag{Tag: "vessel:3", From: "route"})

	detail, err := api().EntryOf(ctx, e.ID)
	require.NoError(t, err)
	assert.NotEmpty(t, detail.Headers["Content-Type"])
	body, err := api().EntryBody(ctx, e.ID)
	require.NoError(t, err)
	assert.Equal(t, visit(t, "/vessels/3").body, string(body))
	raw := fetch(t, http.MethodGet, company.Node.ControlURL()+"/v1/entries/"+e.ID+"/body", "", "Authorization: Bearer "+company.Token)
	assert.Equal(t, "application/octet-stream", raw.header.Get("Content-Type"))
	assert.Contains(t, raw.header.Get("Content-Security-Policy"), "sandbox")

	for args, says := range map[string][]string{
		"entries list --route vessel --sort worth": {"/vessels/3", "worth", e.ID}, "entries list --below /vessels/ --limit 1": {"/vessels/", "vessel"}, "entries list --tag nothing-has-it": {"nothing is stored that fits"},
		"entries show " + e.ID: {"vessel:3 (route; a purge takes ", "ns a byte", "Content-Type:"}, "entries show " + e.ID + " --body": {"<html"},
	} {
		r := run(strings.Fields(args)...)
		assert.Zero(t, r.code, r.errs)
		for _, s := range says {
			assert.Contains(t, r.out+r.errs, s, args)
		}
	}
	for args, says := range map[string]string{
		"entries show m0-0": "no entry of this ID is stored", "entries list --sort size": "sort", "entries list --below vessels": "is not a path to be below", "entries list --after x": "is no place in a list", "entries list --limit 0": "--limit must be",
	} {
		r := run(strings.Fields(args)...)
		assert.Contains(t, r.errs, says, args)
		assert.NotZero(t, r.code, args)
	}

	reader, err := api().CreateToken(ctx, "entries reader", []string{"read"}, "")
	require.NoError(t, err)
	assert.Equal(t, 200, fetch(t, http.MethodGet, company.Node.ControlURL()+"/v1/entries/"+e.ID, "", "Authorization: Bearer "+reader.Secret).status)
	assert.Equal(t, 403, fetch(t, http.MethodGet, company.Node.ControlURL()+"/v1/entries/"+e.ID+"/body", "", "Authorization: Bearer "+reader.Secret).status)
}
