package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"
)

// TestTheDeskNeedsNoPurgeForNotices: the policy says what their writing changes, before it is answered,
// in the ledger as by the write; explain says it before.
func TestTheDeskNeedsNoPurgeForNotices(t *testing.T) {
	c := api()
	board := func() page { return visit(t, "/pieces/notices") }
	board()
	require.True(t, board().hit())
	made := fetch(t, http.MethodPost, company.Node.EdgeURL()+"/desk/notices", `{"title":"Slipway","text":"closed","ports":["tholm"]}`, "Content-Type: application/json")
	require.Equal(t, 200, made.status, made.body)
	assert.Empty(t, made.header.Get("Cache-Group-Invalidation"))
	now := board()
	assert.False(t, now.hit())
	assert.Contains(t, now.body, "Slipway")
	purges, err := c.Purges(ctx, 0, 5)
	require.NoError(t, err)
	found := false
	for _, p := range purges {
		found = found || p.Actor == "write:notices" && fmt.Sprint(p.Tags) == "[notices notices:tholm]"
	}
	assert.True(t, found, "%+v", purges)
	var out struct{ Notice int }
	require.NoError(t, json.Unmarshal([]byte(made.body), &out))
	gone := fetch(t, http.MethodDelete, fmt.Sprintf("%s/desk/notices/%d", company.Node.EdgeURL(), out.Notice), "")
	require.Equal(t, 200, gone.status)
	assert.NotContains(t, board().body, "Slipway")
	purges, err = c.Purges(ctx, 0, 5)
	require.NoError(t, err)
	last := purges[0].Sequence
	for range 2 {
		assert.Equal(t, 422, fetch(t, http.MethodPost, company.Node.EdgeURL()+"/desk/notices", `{"title":"x"}`, "Content-Type: application/json").status)
	}
	purges, err = c.Purges(ctx, 0, 5)
	require.NoError(t, err)
	assert.Equal(t, last, purges[0].Sequence, "what was refused purges nothing")

	ex, err := c.Explain(ctx, client.ExplainRequest{Method: "PUT", URL: "/desk/notices/3"})
	require.NoError(t, err)
	assert.Empty(t, ex.Writes[0].Tags)
	assert.Equal(t, []string{""}, ex.Writes[0].Begins, "its answer is not known")
}
