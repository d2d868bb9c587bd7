<?php
declare(strict_types=1);

namespace Gerastic;

/** A statement of CountedPdo. */
final class CountedStatement extends \PDOStatement
{
    protected function __construct(private readonly Fragments $fragments)
    {
    }

    public function execute(?array $params = null): bool
    {
        $this->fragments->did(queries: 1);
        return parent::execute($params);
    }

    public function fetch(int $mode = \PDO::FETCH_DEFAULT, int $cursorOrientation = \PDO::FETCH_ORI_NEXT, int $cursorOffset = 0): mixed
    {
        $row = parent::fetch($mode, $cursorOrientation, $cursorOffset);
        $row !== false && $this->fragments->did(rows: 1);
        return $row;
    }

    public function fetchAll(int $mode = \PDO::FETCH_DEFAULT, mixed ...$args): array
    {
        $rows = parent::fetchAll($mode, ...$args);
        $rows !== [] && $this->fragments->did(rows: count($rows));
        return $rows;
    }
}
