package databases

import (
	"database/sql"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/node"
)

// outboxes are programs that carry out a transaction that is rolled back and one that is committed, while
// no node answers, and then tell what is left. CONNECT is how they connect, CONTROL and TOKEN the node.
var outboxes = map[string]struct{ command, program string }{
	"Python": {"/usr/bin/python3", `
import sqlite3, sys
sys.path.insert(0, "../../clients/python")
from gerastic import Gerastic
from gerastic.outbox import Outbox
away = Outbox(lambda: CONNECT, Gerastic("http://127.0.0.1:1", "none"))
try:
    with away.transaction() as tx:
        tx.execute("insert into done (n) values (1)")
        tx.purge("never")
        raise ValueError
except ValueError:
    pass
with away.transaction() as tx:
    tx.execute("insert into done (n) values (2)")
    tx.purge("a tag", reason="from the outbox")
    tx.changed("item", {"id": 1}, {"id": 2})
with away.transaction() as tx:
    tx.purge("")
here = Outbox(lambda: CONNECT, Gerastic("CONTROL", "TOKEN"))
print(len(away.left()), here.send(), len(here.left()), "tag" in here.left()[0][2])
`},
	"PHP": {"php", `
require '../../clients/php/autoload.php';
use Gerastic\{Client, Outbox};
$pdo = CONNECT;
$away = new Outbox($pdo, new Client('http://127.0.0.1:1', 'none'));
try {
    $away->transaction(function ($tx) use ($pdo) { $pdo->exec('insert into done (n) values (1)'); $tx->purge(['never']); throw new LogicException(); });
} catch (LogicException) {
}
$away->transaction(function ($tx) use ($pdo) {
    $pdo->exec('insert into done (n) values (2)');
    $tx->purge(['a tag'], 'from the outbox');
    $tx->changed('item', ['id' => 1], ['id' => 2]);
});
$away->transaction(fn ($tx) => $tx->purge(['']));
$here = new Outbox($pdo, new Client('CONTROL', 'TOKEN'));
echo count($away->left()), ' ', $here->send(), ' ', count($here->left()), ' ', str_contains($here->left()[0]['refused'], 'tag') ? 'True' : 'False', "\n";
`},
}

// connections are how a language connects to a base.
func connections(t *testing.T, b base, language string) string {
	if b.name == "SQLite" {
		return map[string]string{"Python": fmt.Sprintf("sqlite3.connect(%q)", b.source), "PHP": fmt.Sprintf("new PDO('sqlite:%s')", b.source)}[language]
	}
	u, err := url.Parse(b.address)
	require.NoError(t, err)
	password, _ := u.User.Password()
	database := strings.TrimPrefix(u.Path, "/")
	driver := map[string]string{"MariaDB": "pymysql", "PostgreSQL": "psycopg2"}[b.name]
	if language == "Python" {
		return fmt.Sprintf("__import__(%q).connect(host=%q, port=%s, user=%q, password=%q, database=%q)", driver, u.Hostname(), u.Port(), u.User.Username(), password, database)
	}
	return fmt.Sprintf("new PDO('%s:host=%s;port=%s;dbname=%s', '%s', '%s')", map[string]string{"MariaDB": "mysql", "PostgreSQL": "pgsql"}[b.name], u.Hostname(), u.Port(), database, u.User.Username(), password)
}

// TestOutboxes: what is committed is told once the node answers, in order; what is rolled back never is; what
// the node refuses holds up nothing.
func TestOutboxes(t *testing.T) {
	site := httptest.NewServer(http.NotFoundHandler())
	defer site.Close()
	n, err := node.Start(ctx, node.Settings{Name: "w", Data: t.TempDir(), Origin: site.URL, Memory: 16 << 20, Log: quiet, Edge: "127.0.0.1:0", Control: "127.0.0.1:0", AdminToken: "a token of the test"})
	require.NoError(t, err)
	defer n.Stop(ctx)
	api := client.New(n.ControlURL(), "a token of the test")
	for _, start := range []func(*testing.T) base{postgresBase, mariaDBBase, sqliteBase} {
		b := start(t)
		db, err := sql.Open(b.driver, b.source)
		require.NoError(t, err)
		defer db.Close()
		_, err = db.Exec("create table done (n int)")
		require.NoError(t, err)
		for language, program := range outboxes {
			t.Run(language+" "+b.name, func(t *testing.T) {
				_, _ = db.Exec("drop table purge_outbox") // of the language before
				_, err = db.Exec("delete from done")
				require.NoError(t, err)
				before, err := api.Purges(ctx, 0, 1)
				require.NoError(t, err)
				text := strings.NewReplacer("CONNECT", connections(t, b, language), "CONTROL", n.ControlURL(), "TOKEN", "a token of the test").Replace(program.program)
				out, err := exec.Command(program.command, map[string]string{"Python": "-c", "PHP": "-r"}[language], text).CombinedOutput()
				require.NoError(t, err, string(out))
				assert.Equal(t, "3 1 1 True\n", string(out))
				var sum int
				require.NoError(t, db.QueryRow("select sum(n) from done").Scan(&sum))
				assert.Equal(t, 2, sum, "what is rolled back did not happen")
				purges, err := api.Purges(ctx, 0, 10)
				require.NoError(t, err)
				fresh := purges
				if len(before) > 0 {
					fresh = purges[:purges[0].Sequence-before[0].Sequence]
				}
				require.Len(t, fresh, 1)
				assert.Equal(t, []any{[]string{"a tag"}, "from the outbox"}, []any{fresh[0].Tags, fresh[0].Reason})
			})
		}
	}
}
