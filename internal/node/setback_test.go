package node

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/tags"
	"gerastic/internal/localpg"
	"gerastic/internal/records"
)

// TestPromise3APurgeThatTheLedgerLostIsOrderedAgain: a node that has not read so far does not see
// that the ledger was set back, since what it has read is still there; but the purge that it wrote
// is gone.
func TestPromise3APurgeThatTheLedgerLostIsOrderedAgain(t *testing.T) {
	ctx := context.Background()
	cluster, err := localpg.Start(ctx, localpg.Options{Dir: t.TempDir(), Throwaway: true})
	require.NoError(t, err)
	defer cluster.Stop()
	database, err := cluster.CreateDatabase(ctx, "setback")
	require.NoError(t, err)
	policy := filepath.Join(t.TempDir(), "policy.yaml")
	require.NoError(t, os.WriteFile(policy, []byte("version: 1\norigins: [{ name: site, url: http://127.0.0.1:1 }]\nroutes: [{ name: any, match: { path: \"/{x...}\" } }]\n"), 0o600))
	n, err := Start(ctx, Settings{Name: "a", Data: t.TempDir(), Database: database, PolicyFile: policy, AdminToken: "a token of a test", Edge: "127.0.0.1:0", Control: "127.0.0.1:0", Memory: 16 << 20, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer n.Stop(ctx)
	rec, err := n.Records()
	require.NoError(t, err)
	conn, err := pgx.Connect(ctx, database)
	require.NoError(t, err)
	defer conn.Close(ctx)
	newest := func() (sequence uint64) {
		require.NoError(t, conn.QueryRow(ctx, `select sequence from ledger`).Scan(&sequence))
		return sequence
	}
	_, _, err = n.Purge(ctx, tags.Purge{Tags: []string{"first"}}, "test", "")
	require.NoError(t, err)
	page := tags.Subject{Tags: []string{"mine"}, Stamp: n.barrier.Stamp()}

	n.ledger.mu.Lock() // it reads no further
	others := make([]records.Order, 10)
	for i := range others {
		others[i] = records.Order{Purge: tags.Purge{Tags: []string{"other"}}, Actor: "other"}
	}
	_, err = rec.Append(ctx, "other", others, time.Second)
	require.NoError(t, err)
	before := newest()
	o := &pendingPurge{Order: records.Order{Purge: tags.Purge{Tags: []string{"mine"}}, Actor: "test"}, ctx: ctx, restarts: n.ledger.started, done: make(chan struct{})}
	n.ledger.orders <- o
	require.Eventually(t, func() bool { return newest() == before+1 }, 10*time.Second, time.Millisecond)
	_, err = conn.Exec(ctx, `begin; update ledger set sequence = sequence - 3; delete from purge where sequence > (select sequence from ledger); commit`)
	require.NoError(t, err)
	n.ledger.mu.Unlock()
	<-o.done
	require.NoError(t, o.err, "it was written")
	_, err = n.ownPart(ctx, rec, o)
	assert.ErrorIs(t, err, errTakenBack)

	_, own, err := n.order(ctx, rec, o.Purge, "test", "")
	require.NoError(t, err)
	assert.Equal(t, "a", own.Node)
	assert.Equal(t, tags.Dropped, n.barrier.Judge(&page))
}
