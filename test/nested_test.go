package test

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"
	"gerastic.example/client/aftercommit"

	"gerastic/internal/node"
)

// parts counts what the application made, by kind of part.
func parts(t testing.TB) (made map[string]int64) {
	var c struct {
		Parts map[string]int64 `json:"pieces"`
	}
	require.NoError(t, json.Unmarshal([]byte(fetch(t, http.MethodGet, company.Origin+"/desk/counters", "").body), &c))
	return c.Parts
}

// TestNestedContent: a port's page holds a board, the board holds rows, a row holds a
// vessel's card. A card that changes makes card, rows, board and page anew, and leaves
// sisters and children alone.
func TestNestedContent(t *testing.T) {
	const path = "/ports/marrowhithe"
	visit(t, path)
	made := func(change func()) map[string]int64 {
		before := parts(t)
		change()
		visit(t, path)
		after := parts(t)
		for kind := range after {
			after[kind] -= before[kind]
		}
		return after
	}
	// Two in a hundred hits of the page are also asked of the application, to be compared.
	assertMade := func(wanted, got map[string]int64, why ...any) {
		assert.GreaterOrEqual(t, got["page"], wanted["page"], why...)
		wanted["page"] = got["page"]
		assert.Equal(t, wanted, got, why...)
	}
	assertMade(map[string]int64{"page": 0, "board": 0, "row": 0, "card": 0}, made(func() {}))

	tagsOf := visit(t, path).header.Get("Cache-Groups")
	vessels := regexp.MustCompile(`"vessel:(\d+)"`).FindAllStringSubmatch(tagsOf, -1)
	require.Greater(t, len(vessels), 1, tagsOf)
	rows := int64(strings.Count(visit(t, path).body, `href="/vessels/`+vessels[0][1]+`" title=`))
	require.Positive(t, rows)
	got := made(func() {
		_, err := api().Purge(ctx, client.PurgeRequest{Tags: []string{vessels[0][0][1 : len(vessels[0][0])-1]}})
		require.NoError(t, err)
	})
	assertMade(map[string]int64{"page": 1, "board": 1, "row": rows, "card": 1}, got, "the card, the rows that show it, the board, the page")

	sailing := regexp.MustCompile(`"sailing:(\d+)"`).FindStringSubmatch(tagsOf)[1]
	got = made(func() { desk(t, sailing, `{"status":"delayed"}`) })
	assertMade(map[string]int64{"page": 1, "board": 1, "row": 1, "card": 0}, got, "a row does not make its card anew, nor its sisters")
	assert.Contains(t, visit(t, path).body, "delayed")
	got = made(func() {
		_, err := api().Purge(ctx, client.PurgeRequest{Tags: []string{"notices:marrowhithe"}})
		require.NoError(t, err)
	})
	assertMade(map[string]int64{"page": 1, "board": 0, "row": 0, "card": 0}, got)
	desk(t, sailing, `{"status":"on time"}`)
}

// TestABulkImportThatNobodyTellsOf goes straight into the database; the log shows it.
func TestABulkImportThatNobodyTellsOf(t *testing.T) {
	_, id := aSailing(t)
	shows := func(path, text string) func() bool {
		return func() bool { return strings.Contains(visit(t, path).body, text) }
	}
	sql := func(statement string) {
		pool, err := pgxpool.New(ctx, company.Cluster.URL("ostrel"))
		require.NoError(t, err)
		defer pool.Close()
		_, err = pool.Exec(ctx, statement)
		require.NoError(t, err)
	}
	visit(t, "/sailings/"+id)
	sql(`update sailing set status = 'cancelled' where id = ` + id)
	eventually(t, "a change by hand", shows("/sailings/"+id, `<span class="status">cancelled</span>`))

	for v := 1; v <= 6; v++ {
		visit(t, fmt.Sprintf("/vessels/%d", v))
	}
	eventually(t, "nothing is under way", func() bool { return visit(t, "/vessels/1").hit() && visit(t, "/vessels/2").hit() })
	sql(`update sailing set vessel_id = 1, departs_at = now() + interval '2 minutes' where id = ` + id)
	eventually(t, "the ship that got it shows it", shows("/vessels/1", "/sailings/"+id))
	sql(`update sailing set vessel_id = 2 where id = ` + id)
	eventually(t, "the next shows it", shows("/vessels/2", "/sailings/"+id))
	eventually(t, "and the one that lost it does not", func() bool { return !shows("/vessels/1", "/sailings/"+id)() })
	sql(`update sailing set status = 'on time' where id = ` + id)
}

func TestNoticesOfTheDesk(t *testing.T) {
	write := func(method, path, body string) page {
		return fetch(t, method, company.Origin+path, body, "Content-Type: application/json")
	}
	shown := func(port string) bool {
		return strings.Contains(visit(t, "/ports/"+port).body, "Slipway &#34;closed&#34;")
	}
	for _, port := range []string{"tholm", "saltern"} {
		assert.False(t, shown(port))
	}
	p := write("POST", "/desk/notices", `{"title":"Slipway \"closed\"","text":"until noon","ports":["tholm"]}`)
	require.Equal(t, 200, p.status, p.body)
	var made struct{ Notice int }
	require.NoError(t, json.Unmarshal([]byte(p.body), &made))
	assert.True(t, shown("tholm"), "at once")
	assert.False(t, shown("saltern"))
	notice := fmt.Sprintf("/desk/notices/%d", made.Notice)
	assert.Equal(t, 200, write("POST", notice, `{"ports":["saltern"]}`).status)
	assert.False(t, shown("tholm"), "the port that lost it")
	assert.True(t, shown("saltern"), "the port that got it")
	assert.Equal(t, 200, write("DELETE", notice, "").status)
	assert.False(t, shown("saltern"))
	for body, status := range map[string]int{`{"title":"x"}`: 422, `{"titel":"x"}`: 400, `{"title":"x","text":"y","ports":["nowhere"]}`: 422} {
		assert.Equal(t, status, write("POST", "/desk/notices", body).status, body)
	}
	assert.Equal(t, 404, write("DELETE", notice, "").status)
}

// TestPurgesAfterTheCommit: what a transaction changed is purged when it is committed,
// not when it is rolled back, and also when Gerastic could not be reached just then.
func TestPurgesAfterTheCommit(t *testing.T) {
	var asked atomic.Int64
	settings := node.Settings{Name: "a", Data: t.TempDir(), Database: database(t, "outbox"), AdminToken: "a token of the test", PolicyFile: policyFile(t, origin(t, &asked))}
	n := startNode(t, settings)
	pool, err := pgxpool.New(ctx, database(t, "application"))
	require.NoError(t, err)
	defer pool.Close()
	open := func(control string) *aftercommit.Outbox {
		o, err := aftercommit.Open(ctx, pool, client.New(control, settings.AdminToken), slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		return o
	}
	outbox := open(n.ControlURL())
	c := client.New(n.ControlURL(), settings.AdminToken)
	purges := func() int {
		all, err := c.Purges(ctx, 0, 100)
		require.NoError(t, err)
		return len(all)
	}
	order := func(tx *aftercommit.Tx) error {
		tx.Purge("a test", "path:a")
		return nil
	}
	purged, err := outbox.Run(ctx, order)
	require.NoError(t, err)
	assert.True(t, purged)
	assert.Equal(t, 1, purges())
	broken := errors.New("broken")
	_, err = outbox.Run(ctx, func(tx *aftercommit.Tx) error {
		_ = order(tx)
		return broken
	})
	assert.ErrorIs(t, err, broken)
	assert.Equal(t, 1, purges(), "what was rolled back purges nothing")
	outbox.Close()

	outbox = open("http://127.0.0.1:1") // nothing answers there
	purged, err = outbox.Run(ctx, order)
	require.NoError(t, err, "the transaction is committed all the same")
	assert.False(t, purged)
	outbox.Close()
	assert.Equal(t, 1, purges())
	outbox = open(n.ControlURL()) // as after a crash of the application
	defer outbox.Close()
	eventually(t, "it is purged when Gerastic answers", func() bool { return purges() == 2 })
	eventually(t, "and forgotten", func() bool {
		var left int
		require.NoError(t, pool.QueryRow(ctx, `select count(*) from purge_outbox`).Scan(&left))
		return left == 0
	})
	_, err = outbox.Run(ctx, func(tx *aftercommit.Tx) error {
		tx.Changed("thing", nil, map[string]int{"id": 1})
		return nil
	})
	require.NoError(t, err)
	runs, err := c.ChangeRuns(ctx, "sent", 0, 1)
	require.NoError(t, err)
	assert.EqualValues(t, 1, runs[0].Changes, "the rules are told of changes the same way")

	before := purges()
	purged, err = outbox.Run(ctx, func(tx *aftercommit.Tx) error {
		tx.Purge("a title that is not a tag", "title:"+strings.Repeat("x", 2000))
		return order(tx)
	})
	require.NoError(t, err)
	assert.False(t, purged, "one of the two")
	assert.Equal(t, before+1, purges(), "what is refused holds up nothing behind it")
	left, err := outbox.Left(ctx, 10)
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Contains(t, left[0].Refused, "a tag has 1 to 1024 bytes")
	assert.Equal(t, 1, left[0].Tries)
	assert.True(t, left[0].Next.After(time.Now()), "it is tried again")
	_, err = pool.Exec(ctx, `update purge_outbox set next = now(), at = now() - interval '1 minute'`)
	require.NoError(t, err)
	eventually(t, "and again", func() bool {
		left, err = outbox.Left(ctx, 10)
		return err == nil && left[0].Tries == 2
	})
	require.NoError(t, outbox.Drop(ctx, left[0].ID))
}
