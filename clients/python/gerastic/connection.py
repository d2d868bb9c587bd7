"""A connection to a node, which carries one exchange of HTTP/1.1 (RFC 9112) after the other.

The library's http.client takes four times as long as the node: it reads the fields of an answer as those of mail.
"""

from __future__ import annotations

import re
import socket
import ssl
import time

_STATUS = re.compile(rb"HTTP/1\.\d (\d{3})(?= |\r|\Z)")
_FIELD = re.compile(rb"\r\n(content-length|transfer-encoding|connection):([^\r\n]*)", re.IGNORECASE)
_LONGEST_HEAD = 64 << 10
_LONGEST_BODY = 256 << 20


class Gone(ConnectionError):
    """The other side closed a connection before any of its answer came."""


class BadAnswer(ConnectionError):
    """What came is no answer of HTTP."""


class Connection:
    """A connection; after an error it is of no use. Errors are OSErrors; used says that it had answers before."""

    def __init__(self, host: str, port: int, secure: bool, timeout: float):
        self.used = self._begun = False
        self._sock = socket.create_connection((host, port), timeout)
        self._sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        if secure:
            self._sock = ssl.create_default_context().wrap_socket(self._sock, server_hostname=host)
        self._data = b""  # what came and is not read yet

    def close(self) -> None:
        self._sock.close()

    def exchange(self, request: bytes, begins: float, ends: float) -> tuple[int, bytes, bool]:
        """The status and body of the answer, and whether there may be another exchange. begins and ends are of time.monotonic."""
        self._data, self._begun = b"", False
        try:
            self._sock.settimeout(max(0.001, begins - time.monotonic()))
            self._sock.sendall(request)
            status, fields = self._head(begins)
        except (ConnectionError, ssl.SSLEOFError) as error:
            if self._begun:
                raise
            raise Gone(str(error)) from error
        while status < 200:  # an interim answer (RFC 9110 §15.2)
            status, fields = self._head(begins)
        if status == 408:  # said to a connection that rested, and no answer (RFC 9110 §15.5.9)
            raise Gone("it gave up waiting for a request")
        last = fields.get(b"connection", b"").lower() == b"close"
        if status in (204, 304):
            body = b""
        elif b"transfer-encoding" in fields:
            body = self._chunks(fields[b"transfer-encoding"], ends)
        elif (length := fields.get(b"content-length")) is not None:
            body = self._take(_number(length, 10), ends)
        else:
            last, body = True, self._rest(ends)
        self.used = True
        return status, body, not last and not self._data

    def _head(self, until: float) -> tuple[int, dict[bytes, bytes]]:
        head = self._line(b"\r\n\r\n", until)
        first = _STATUS.match(head)
        if first is None:
            raise BadAnswer("its answer is not of HTTP/1.1")
        return int(first[1]), {name.lower(): value.strip() for name, value in _FIELD.findall(head, first.end())}

    def _line(self, end: bytes, until: float) -> bytes:
        while (at := self._data.find(end)) < 0:
            if len(self._data) > _LONGEST_HEAD:
                raise BadAnswer("the head of its answer is too long")
            self._need(until)
        line, self._data = self._data[:at], self._data[at + len(end) :]
        return line

    def _need(self, until: float) -> None:
        if not self._more(until):
            raise BadAnswer("its answer ended too early")

    def _more(self, until: float) -> bool:
        left = until - time.monotonic()
        if left <= 0:
            raise TimeoutError("it did not answer in time")
        self._sock.settimeout(left)
        piece = self._sock.recv(256 << 10)
        self._data += piece
        self._begun = self._begun or bool(piece)
        return bool(piece)

    def _take(self, size: int, until: float) -> bytes:
        if size > _LONGEST_BODY:
            raise BadAnswer("its answer is too long")
        pieces = [self._data[:size]]
        self._data, left = self._data[size:], size - len(pieces[0])
        while left > 0:
            self._need(until)
            pieces.append(self._data[:left])
            self._data, left = self._data[left:], left - len(pieces[-1])
        return b"".join(pieces)

    def _chunks(self, coding: bytes, until: float) -> bytes:
        if coding.lower() != b"chunked":
            raise BadAnswer("its answer is in a transfer coding that nobody asked for")
        pieces, size = [], 0
        while length := _number(self._line(b"\r\n", until).partition(b";")[0], 16):
            if (size := size + length) > _LONGEST_BODY:
                raise BadAnswer("its answer is too long")
            pieces.append(self._take(length, until))
            if self._take(2, until) != b"\r\n":
                raise BadAnswer("its answer is in chunks of another length than they say")
        while self._line(b"\r\n", until):
            pass  # fields behind the body
        return b"".join(pieces)

    def _rest(self, until: float) -> bytes:
        pieces, size = [], 0
        while True:
            pieces.append(self._data)
            if (size := size + len(self._data)) > _LONGEST_BODY:
                raise BadAnswer("its answer is too long")
            self._data = b""
            if not self._more(until):
                return b"".join(pieces)


def _number(text: bytes, base: int) -> int:
    digits = text.strip()
    if not digits.isalnum():  # int would take a sign, and underscores
        raise BadAnswer("its answer says no length")
    try:
        return int(digits, base)
    except ValueError:
        raise BadAnswer("its answer says no length") from None
