<?php
declare(strict_types=1);

namespace Gerastic;

/**
 * Purges and changes that are told when a transaction is committed, and only then, however the process ends:
 *
 *   $outbox = new Outbox($pdo, $client);
 *   $outbox->transaction(function (Outbox $tx) use ($pdo): void {
 *       $pdo->exec("update sailing set status = 'cancelled' where id = 7");
 *       $tx->changed('sailing', $before, $after);
 *   });
 *
 * What is to be told stands in the table purge_outbox of the same database (SQLite, MariaDB, MySQL, PostgreSQL), in the
 * form that the Go client has. send() tells what an earlier process left; call it at the start, and now and then.
 */
final class Outbox
{
    private const MOST = 1000;
    /** @var list<array> of the transaction that runs */
    private array $messages = [];

    public function __construct(private readonly \PDO $pdo, private readonly Client $client)
    {
        $pdo->setAttribute(\PDO::ATTR_ERRMODE, \PDO::ERRMODE_EXCEPTION);
        [$id, $at, $text] = match ($pdo->getAttribute(\PDO::ATTR_DRIVER_NAME)) {
            'sqlite' => ['integer primary key autoincrement', 'timestamp not null default current_timestamp', 'text'],
            'mysql' => ['bigint auto_increment primary key', 'timestamp not null default current_timestamp', 'longtext'],
            default => ['bigint generated always as identity primary key', 'timestamptz not null default clock_timestamp()', 'jsonb'],
        };
        $pdo->exec("create table if not exists purge_outbox (id $id, at $at, request $text not null, refused text, tries int not null default 0)");
    }

    /** Orders that tags be purged if the transaction is committed. */
    public function purge(array $tags, string $reason = ''): void
    {
        $tags !== [] && $this->messages[] = ['purge' => ['tags' => array_values($tags), 'reason' => $reason]];
    }

    /** Tells the rules of changes, if the transaction is committed; before null is a create, after null a delete. */
    public function changed(string $kind, mixed $before, mixed $after): void
    {
        $this->messages[] = ['changes' => [['id' => bin2hex(random_bytes(16))] + Client::change($kind, $before, $after)]];
    }

    /** Commits at the end, and then tells; what cannot be told now is told later. What is thrown rolls back. */
    public function transaction(callable $do): mixed
    {
        $this->messages = [];
        $this->pdo->beginTransaction();
        try {
            $result = $do($this);
            $insert = $this->pdo->prepare('insert into purge_outbox (request) values (?)');
            foreach ($this->messages as $message) {
                $insert->execute([json_encode($message, JSON_THROW_ON_ERROR)]);
            }
            $this->pdo->commit();
        } catch (\Throwable $error) {
            $this->pdo->inTransaction() && $this->pdo->rollBack();
            throw $error;
        } finally {
            $this->messages = [];
        }
        $this->send();
        return $result;
    }

    /** Tells what is left, in order; returns how much is left after that. */
    public function send(): int
    {
        $rows = $this->pdo->query('select id, request from purge_outbox order by id limit ' . self::MOST)->fetchAll(\PDO::FETCH_NUM);
        $left = 0;
        foreach ($rows as $i => [$id, $request]) {
            try {
                $this->tell(json_decode((string) $request, true, 64, JSON_THROW_ON_ERROR));
                $this->pdo->exec('delete from purge_outbox where id = ' . (int) $id);
            } catch (Refused $error) {
                if ($error->getCode() >= 500) {
                    return $left + count($rows) - $i;
                }
                $left++; // it would be refused again; the others must not wait for it
                $this->pdo->prepare('update purge_outbox set tries = tries + 1, refused = ? where id = ' . (int) $id)->execute([$error->getMessage()]);
            } catch (Unreached) {
                return $left + count($rows) - $i;
            }
        }
        return $left;
    }

    /** What is committed and not told: id, request, and why the node refused it, if it did. */
    public function left(): array
    {
        return $this->pdo->query("select id, request, coalesce(refused, '') as refused from purge_outbox order by id limit " . self::MOST)->fetchAll(\PDO::FETCH_ASSOC);
    }

    private function tell(array $message): void
    {
        isset($message['purge']) ? $this->client->purge($message['purge']) : $this->client->send($message['changes']);
    }
}
