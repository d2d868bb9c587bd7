<?php
declare(strict_types=1);

namespace Gerastic;

/** A PDO that counts queries and rows as the work of what is made with it: new CountedPdo($fragments, 'sqlite:site.db'). */
final class CountedPdo extends \PDO
{
    public function __construct(private readonly Fragments $fragments, string $dsn, ?string $user = null, ?string $password = null, array $options = [])
    {
        parent::__construct($dsn, $user, $password, $options);
        $this->setAttribute(\PDO::ATTR_STATEMENT_CLASS, [CountedStatement::class, [$fragments]]);
    }

    public function query(string $query, ?int $mode = null, mixed ...$how): \PDOStatement|false
    {
        $this->fragments->did(queries: 1);
        return $mode === null ? parent::query($query) : parent::query($query, $mode, ...$how);
    }

    public function exec(string $statement): int|false
    {
        $this->fragments->did(queries: 1);
        return parent::exec($statement);
    }
}
