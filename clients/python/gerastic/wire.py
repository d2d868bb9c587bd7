"""How calls reach a node: connections that are kept, time limits, and a breaker."""

from __future__ import annotations

import json
import os
import threading
import time
from typing import Any, Optional
from urllib.parse import quote, urlsplit

from . import cbor
from .connection import Connection, Gone

_BREAK_AFTER = 5
_BREAK_FOR = 2.0
_MOST_IDLE = 16


def query(namespace: Optional[str]) -> str:
    """The query that names a namespace, which is only needed with a token that is for none."""
    return f"?namespace={quote(namespace, safe='')}" if namespace else ""


class Unreached(Exception):
    """The node did not answer, not in time, or not as it should."""


class Refused(Exception):
    """The node answered that a call cannot be carried out; status is its HTTP status."""

    def __init__(self, status: int, text: str):
        super().__init__(text)
        self.status = status


class Wire:
    """Carries calls. It may be used by several threads, and after a fork."""

    def __init__(self, control: str, token: str):
        given, control = control, control if "://" in control else "http://" + control
        address = urlsplit(control)
        if address.scheme not in ("http", "https") or not address.hostname:
            raise ValueError(f'control: "{given}" is no address; write http://127.0.0.1:8490')
        if not token:
            raise ValueError("a token is missing; make one with: gerastic token create --name APP --rights fragments --namespace APP")
        self._secure = address.scheme == "https"
        self._prefix = address.path.rstrip("/")
        self._host, self._port = address.hostname, address.port or (443 if self._secure else 80)
        self._head = f"Host: {address.netloc.rpartition('@')[2]}\r\nAuthorization: Bearer {token}\r\n"
        if not self._head.isascii() or self._head.count("\r") + self._head.count("\n") > 4:
            raise ValueError("the token is not one line of ASCII")
        self._lock = threading.Lock()
        self._idle: list[Connection] = []
        self._process = os.getpid()
        self._failures, self._rests_until = 0, 0.0

    def _connection(self, timeout: float) -> Connection:
        with self._lock:
            if self._process != os.getpid():  # the parent's connections are not ours
                self._idle, self._process = [], os.getpid()
            if self._idle:
                return self._idle.pop()
        return Connection(self._host, self._port, self._secure, timeout)

    def _give_back(self, connection: Connection) -> None:
        with self._lock:
            if len(self._idle) < _MOST_IDLE:
                self._idle.append(connection)
                return
        connection.close()

    def exchange(self, method: str, path: str, body: Optional[bytes], kind: str, timeout: float, more: float = 0.0) -> tuple[int, bytes]:
        """Makes a call; the answer has begun within timeout seconds and ended more seconds later, or it is Unreached."""
        head = f"{method} {self._prefix}{path} HTTP/1.1\r\n{self._head}"
        if body is not None:
            head += f"Content-Type: {kind}\r\nContent-Length: {len(body)}\r\n"
        request = (head + "\r\n").encode() + (body or b"")
        begins = time.monotonic() + timeout
        while True:
            connection = None
            try:
                connection = self._connection(timeout)
                status, data, again = connection.exchange(request, begins, begins + more)
            except OSError as error:
                if connection is not None:
                    connection.close()
                    if connection.used and isinstance(error, Gone):
                        continue  # it had rested for too long
                raise Unreached(str(error) or type(error).__name__) from error
            if again:
                self._give_back(connection)
            else:
                connection.close()
            return status, data

    def items(self, what: str, namespace: Optional[str], values: list[Any], timeout: float, more: float) -> list[Any]:
        """Calls with data items and returns those of the answer, unless the node did not answer several times of late."""
        if time.monotonic() < self._rests_until:
            raise Unreached("it did not answer several times, and is done without for a moment")
        try:
            status, data = self.exchange("POST", f"/v1/fragments/{what}{query(namespace)}", b"".join(map(cbor.encode, values)), "application/cbor-seq", timeout, more)
            if status != 200:
                raise Unreached(_detail(status, data))
            items = cbor.decode_all(data)
        except (Unreached, cbor.Malformed) as error:
            self._failures += 1
            if self._failures >= _BREAK_AFTER:
                self._rests_until = time.monotonic() + _BREAK_FOR
            raise error if isinstance(error, Unreached) else Unreached("its answer cannot be read") from error
        self._failures = 0
        return items

    def json(self, method: str, path: str, value: Any = None, timeout: float = 10.0) -> Any:
        """Makes a call in JSON; the error is a Refused or an Unreached."""
        body = None if value is None else json.dumps(value).encode()
        status, data = self.exchange(method, path, body, "application/json", timeout, timeout)
        if status >= 400:
            raise Refused(status, _detail(status, data))
        try:
            return None if status == 204 else json.loads(data)
        except ValueError as error:
            raise Unreached("its answer is no JSON") from error


def _detail(status: int, data: bytes) -> str:
    try:
        return str(json.loads(data)["detail"])
    except (ValueError, KeyError, TypeError):
        return f"it answered {status}"
