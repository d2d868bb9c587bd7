"""Counts the queries and rows of a DB-API connection (PEP 249) as the work of what is made with it.

    connection = gerastic.database.counted(sqlite3.connect("site.db"), fragments)
"""

from __future__ import annotations

from typing import Any, Iterator


def counted(connection: Any, fragments: Any) -> Any:
    """A connection that counts; everything else is as it was."""
    return _Connection(connection, fragments)


class _Proxy:
    def __init__(self, inner: Any, fragments: Any):
        self.__dict__.update(_inner=inner, _fragments=fragments)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._inner, name)

    def __setattr__(self, name: str, value: Any) -> None:
        setattr(self._inner, name, value)

    def __exit__(self, *error: Any) -> Any:
        return self._inner.__exit__(*error)


class _Connection(_Proxy):
    def __enter__(self) -> "_Connection":
        self._inner.__enter__()
        return self

    def cursor(self, *args: Any, **options: Any) -> "_Cursor":
        return _Cursor(self._inner.cursor(*args, **options), self._fragments)

    def execute(self, *args: Any) -> "_Cursor":  # not in PEP 249, but in sqlite3 and psycopg
        self._fragments.did(queries=1)
        return _Cursor(self._inner.execute(*args), self._fragments)


class _Cursor(_Proxy):
    def __enter__(self) -> "_Cursor":
        self._inner.__enter__()
        return self

    def execute(self, *args: Any, **options: Any) -> Any:
        self._fragments.did(queries=1)
        result = self._inner.execute(*args, **options)
        return self if result is self._inner else result

    def executemany(self, *args: Any, **options: Any) -> Any:
        self._fragments.did(queries=1)
        result = self._inner.executemany(*args, **options)
        return self if result is self._inner else result

    def fetchone(self) -> Any:
        row = self._inner.fetchone()
        if row is not None:
            self._fragments.did(rows=1)
        return row

    def fetchmany(self, *args: Any) -> Any:
        return self._rows(self._inner.fetchmany(*args))

    def fetchall(self) -> Any:
        return self._rows(self._inner.fetchall())

    def _rows(self, rows: Any) -> Any:
        if rows:
            self._fragments.did(rows=len(rows))
        return rows

    def __iter__(self) -> Iterator[Any]:
        for row in self._inner:
            self._fragments.did(rows=1)
            yield row
