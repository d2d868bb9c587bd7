package aftercommit

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"
)

// TestOnlyARefusedMessageIsSetAside: what is wrong with the message will be so at the next try;
// a node that cannot be reached, or a token without the right, says nothing of it.
func TestOnlyARefusedMessageIsSetAside(t *testing.T) {
	var status int
	node := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(status)
		_, _ = w.Write([]byte(`{"title":"no","detail":"no"}`))
	}))
	c := client.New(node.URL, "token")
	for code, want := range map[int]bool{400: true, 413: true, 422: true, 401: false, 403: false, 404: false, 409: false, 500: false, 503: false} {
		status = code
		_, err := c.Purge(context.Background(), client.PurgeRequest{Tags: []string{"a"}})
		require.Error(t, err)
		assert.Equal(t, want, refused(err), "status %d", code)
	}
	node.Close()
	_, err := c.Purge(context.Background(), client.PurgeRequest{Tags: []string{"a"}})
	require.Error(t, err)
	assert.False(t, refused(err), "nobody answers")
}

// TestATransactionKnowsWhatItChanges, in its order; what names nothing is not sent, and a change
// has an identity, so that it counts once however often it is sent.
func TestATransactionKnowsWhatItChanges(t *testing.T) {
	tx := &Tx{}
	tx.Purge("nothing")
	tx.Purge("pier closed", "port:tholm", "notices")
	tx.Changed("sailing", map[string]any{"id": 7, "status": "on time"}, map[string]any{"id": 7, "status": "cancelled"})
	tx.Changed("sailing", nil, map[string]any{"id": 8})
	require.Len(t, tx.sent, 3)
	assert.Equal(t, &client.PurgeRequest{Tags: []string{"port:tholm", "notices"}, Reason: "pier closed"}, tx.sent[0].Purge)
	assert.NotEqual(t, tx.sent[1].Changes[0].ID, tx.sent[2].Changes[0].ID)
	for _, m := range tx.sent {
		text, err := json.Marshal(m)
		require.NoError(t, err)
		var read message
		require.NoError(t, json.Unmarshal(text, &read))
		again, err := json.Marshal(read)
		require.NoError(t, err)
		assert.JSONEq(t, string(text), string(again), "as it is read from the table")
	}
}
