"""Purges and changes that are told when a transaction is committed, and only then, however the process ends.

    outbox = Outbox(lambda: sqlite3.connect("site.db"), gerastic)
    with outbox.transaction() as tx:
        tx.execute("update sailing set status = 'cancelled' where id = 7")
        tx.changed("sailing", before, after)

What is to be told stands in the table purge_outbox of the same database (SQLite, MariaDB, MySQL, PostgreSQL), in the
form that the Go client has. send() tells what an earlier process left; call it at the start, and now and then.
"""

from __future__ import annotations

import json
import secrets
import sys
import time
from contextlib import contextmanager
from typing import Any, Callable, Iterator

from .items import change_of, order_of
from .wire import Refused, Unreached

_IDS = {"sqlite3": "integer primary key autoincrement", "postgres": "bigint generated always as identity primary key", "mysql": "bigint auto_increment primary key"}
_TEXT = {"sqlite3": "text", "postgres": "jsonb", "mysql": "longtext"}
_MOST = 1000


class Transaction:
    """A transaction that knows what it changes; connection is that of the database."""

    def __init__(self, outbox: "Outbox", connection: Any):
        self.connection, self._outbox = connection, outbox
        self.messages: list[dict[str, Any]] = []

    def execute(self, statement: str, *values: Any) -> Any:
        """Carries out a statement, and returns its cursor."""
        cursor = self.connection.cursor()
        cursor.execute(statement, *values)
        return cursor

    def purge(self, *tags: str, reason: str = "") -> None:
        """Orders that tags be purged if the transaction is committed."""
        self.messages.append({"purge": order_of({"tags": tags}, False, "drop", reason)})

    def changed(self, kind: str, before: Any = None, after: Any = None) -> None:
        """Tells the rules of changes, if the transaction is committed; before None is a create, after None a delete."""
        self.messages.append({"changes": [{"id": secrets.token_hex(16), **change_of(kind, before, after)}]})


class Outbox:
    """Tells what transactions changed. connect opens a connection of its own each time."""

    def __init__(self, connect: Callable[[], Any], gerastic: Any):
        self._connect, self._gerastic = connect, gerastic
        connection = connect()
        package = type(connection).__module__.split(".")[0]
        driver = sys.modules.get(package)
        self._kind = "sqlite3" if "sqlite" in package else "mysql" if any(word in package.lower() for word in ("mysql", "maria")) else "postgres"
        self._place = {"qmark": "?", "numeric": ":1"}.get(getattr(driver, "paramstyle", "format"), "%s")
        stamp = "timestamptz not null default clock_timestamp()" if self._kind == "postgres" else "timestamp not null default current_timestamp"
        try:
            connection.cursor().execute(f"create table if not exists purge_outbox (id {_IDS[self._kind]}, at {stamp}, request {_TEXT[self._kind]} not null, refused text, tries int not null default 0)")
            connection.commit()
        finally:
            connection.close()

    @contextmanager
    def transaction(self) -> Iterator[Transaction]:
        """Commits at the end, and then tells; what cannot be told now is told later. An error rolls back."""
        connection = self._connect()
        try:
            tx = Transaction(self, connection)
            try:
                yield tx
                cursor = connection.cursor()
                for message in tx.messages:
                    cursor.execute(f"insert into purge_outbox (request) values ({self._place})", (json.dumps(message),))
                connection.commit()
            except BaseException:
                connection.rollback()
                raise
            self._send(connection)
        finally:
            connection.close()

    def send(self) -> int:
        """Tells what is left, in order; returns how much is left after that."""
        connection = self._connect()
        try:
            return self._send(connection)
        finally:
            connection.close()

    def left(self) -> list[tuple[int, str, str]]:
        """What is committed and not told: id, request, and why the node refused it, if it did."""
        connection = self._connect()
        try:
            cursor = connection.cursor()
            cursor.execute(f"select id, request, coalesce(refused, '') from purge_outbox order by id limit {_MOST}")
            return [(row[0], row[1] if isinstance(row[1], str) else json.dumps(row[1]), row[2]) for row in cursor.fetchall()]
        finally:
            connection.close()

    def _send(self, connection: Any) -> int:
        cursor = connection.cursor()
        cursor.execute(f"select id, request from purge_outbox order by id limit {_MOST}")
        rows = cursor.fetchall()
        left = 0
        for number, (id, request) in enumerate(rows):
            try:
                self._tell(json.loads(request) if isinstance(request, (str, bytes)) else request)
            except Refused as error:  # it would be again; the others must not wait for it
                left += 1
                cursor.execute(f"update purge_outbox set tries = tries + 1, refused = {self._place} where id = {int(id)}", (str(error),))
            except Unreached:
                left += len(rows) - number
                break
            else:
                cursor.execute(f"delete from purge_outbox where id = {int(id)}")
            connection.commit()
        connection.rollback()  # so that nothing stays open
        return left

    def _tell(self, message: dict[str, Any]) -> None:
        for attempt in (1, 2):
            try:
                if "purge" in message:
                    self._gerastic.purge(**{name: value for name, value in message["purge"].items()})
                else:
                    self._gerastic.send(message["changes"])
                return
            except Refused as error:
                if error.status < 500 or attempt == 2:
                    raise Unreached(str(error)) if error.status >= 500 else error
                time.sleep(0.05)
