"""The part of CBOR (RFC 8949) that the calls for many fragments are made of.

A call's body is a sequence of data items (RFC 8742).
"""

from __future__ import annotations

import struct
from typing import Any


class Malformed(ValueError):
    """An answer is no CBOR, or not of the part that is known here."""


def _head(major: int, n: int) -> bytes:
    if n < 24:
        return bytes([major | n])
    for code, form, most in ((24, ">B", 1 << 8), (25, ">H", 1 << 16), (26, ">I", 1 << 32), (27, ">Q", 1 << 64)):
        if n < most:
            return bytes([major | code]) + struct.pack(form, n)
    raise Malformed("a number that is too large")


def encode(value: Any) -> bytes:
    """Encodes one value: a dict, list, str, int, float, bool, None or bytes."""
    if value is None:
        return b"\xf6"
    if isinstance(value, bool):
        return b"\xf5" if value else b"\xf4"
    if isinstance(value, int):
        return _head(0x00, value) if value >= 0 else _head(0x20, -1 - value)
    if isinstance(value, float):
        return b"\xfb" + struct.pack(">d", value)
    if isinstance(value, str):
        text = value.encode()
        return _head(0x60, len(text)) + text
    if isinstance(value, (bytes, bytearray, memoryview)):
        return _head(0x40, len(value)) + bytes(value)
    if isinstance(value, (list, tuple)):
        return _head(0x80, len(value)) + b"".join(map(encode, value))
    if isinstance(value, dict):
        return _head(0xA0, len(value)) + b"".join(encode(k) + encode(v) for k, v in value.items())
    raise TypeError(f"a {type(value).__name__} cannot be sent")


def decode_all(data: bytes) -> list[Any]:
    """Decodes all data items in some bytes; the error is a Malformed."""
    items, at = [], 0
    while at < len(data):
        value, at = _decode(data, at, 0)
        items.append(value)
    return items


def _take(data: bytes, at: int, n: int) -> int:
    if n > len(data) - at:
        raise Malformed("the answer ends within an item")
    return at + n


def _decode(data: bytes, at: int, depth: int) -> tuple[Any, int]:
    if depth > 16:
        raise Malformed("items are nested too deeply")
    end = _take(data, at, 1)
    major, n = data[at] >> 5, data[at] & 31
    at = end
    if major == 7:
        if n in (20, 21, 22):
            return {20: False, 21: True, 22: None}[n], at
        if n not in (26, 27):
            raise Malformed("a simple value that is not known")
        form = ">f" if n == 26 else ">d"
        end = _take(data, at, struct.calcsize(form))
        return struct.unpack(form, data[at:end])[0], end
    if 24 <= n <= 27:
        size = 1 << (n - 24)
        end = _take(data, at, size)
        n, at = int.from_bytes(data[at:end], "big"), end
    elif n > 27:
        raise Malformed("an item of indefinite length")
    if major == 0:
        return n, at
    if major == 1:
        return -1 - n, at
    if major in (2, 3):
        end = _take(data, at, n)
        if major == 2:
            return data[at:end], end
        try:
            return data[at:end].decode(), end
        except UnicodeDecodeError as error:
            raise Malformed("a text that is not UTF-8") from error
    if major == 4:
        items = []
        for _ in range(n):
            item, at = _decode(data, at, depth + 1)
            items.append(item)
        return items, at
    if major == 5:
        members = {}
        for _ in range(n):
            name, at = _decode(data, at, depth + 1)
            if not isinstance(name, str):
                raise Malformed("a member whose name is not text")
            members[name], at = _decode(data, at, depth + 1)
        return members, at
    raise Malformed("a tagged item")
