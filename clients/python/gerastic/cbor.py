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


_SHORT = [bytes([0x60 | n]) for n in range(24)]  # heads of short texts


def encode(value: Any) -> bytes:
    """Encodes one value: a dict, list, str, int, float, bool, None or bytes."""
    if isinstance(value, str):
        text = value.encode()
        return (_SHORT[len(text)] if len(text) < 24 else _head(0x60, len(text))) + text
    if isinstance(value, float):
        return b"\xfb" + _FLOATS[0xFB].pack(value)
    if isinstance(value, dict):
        return _head(0xA0, len(value)) + b"".join([part for member in value.items() for part in map(encode, member)])
    if isinstance(value, (list, tuple)):
        return _head(0x80, len(value)) + b"".join(map(encode, value))
    if value is None:
        return b"\xf6"
    if isinstance(value, bool):
        return b"\xf5" if value else b"\xf4"
    if isinstance(value, int):
        return _head(0x00, value) if value >= 0 else _head(0x20, -1 - value)
    if isinstance(value, (bytes, bytearray, memoryview)):
        return _head(0x40, len(value)) + bytes(value)
    raise TypeError(f"a {type(value).__name__} cannot be sent")


def decode_all(data: bytes) -> list[Any]:
    """Decodes all data items in some bytes; the error is a Malformed."""
    items, at = [], 0
    try:
        while at < len(data):
            value, at = _decode(data, at, 0)
            items.append(value)
    except (IndexError, struct.error) as error:
        raise Malformed("the answer ends within an item") from error
    except UnicodeDecodeError as error:
        raise Malformed("a text that is not UTF-8") from error
    return items


_NUMBERS = {24: struct.Struct(">B"), 25: struct.Struct(">H"), 26: struct.Struct(">I"), 27: struct.Struct(">Q")}
_FLOATS = {0xFA: struct.Struct(">f"), 0xFB: struct.Struct(">d")}
_DOUBLE = _FLOATS[0xFB].unpack_from
_SIMPLE = {0xF4: False, 0xF5: True, 0xF6: None}


def _decode(data: bytes, at: int, depth: int) -> tuple[Any, int]:
    first = data[at]
    at += 1
    if first in _FLOATS:
        form = _FLOATS[first]
        return form.unpack_from(data, at)[0], at + form.size
    if first in _SIMPLE:
        return _SIMPLE[first], at
    major, n = first >> 5, first & 31
    if n >= 24:
        if n not in _NUMBERS or major > 5:
            raise Malformed("an item that is not known")
        form = _NUMBERS[n]
        n, at = form.unpack_from(data, at)[0], at + form.size
    if major == 0:
        return n, at
    if major == 1:
        return -1 - n, at
    if major in (2, 3):
        end = at + n
        if end > len(data):
            raise Malformed("the answer ends within an item")
        return (data[at:end] if major == 2 else data[at:end].decode()), end
    if depth > 16:
        raise Malformed("items are nested too deeply")
    if major == 4:
        items = []
        for _ in range(n):
            item, at = _decode(data, at, depth + 1)
            items.append(item)
        return items, at
    if major == 5:
        return _members(data, at, n, depth)
    raise Malformed("an item that is not known")


def _members(data: bytes, at: int, n: int, depth: int) -> tuple[dict[str, Any], int]:
    members = {}
    for _ in range(n):
        size = data[at] - 0x60
        if 0 <= size < 24:  # a short name, as all are
            name, at = data[at + 1 : at + 1 + size].decode(), at + 1 + size
        else:
            name, at = _decode(data, at, depth + 1)
        if not isinstance(name, str):
            raise Malformed("a member whose name is not text")
        first = data[at]
        if first < 24:  # a small number
            members[name], at = first, at + 1
        elif first == 0xFB:
            members[name], at = _DOUBLE(data, at + 1)[0], at + 9
        elif first in _SIMPLE:
            members[name], at = _SIMPLE[first], at + 1
        else:
            members[name], at = _decode(data, at, depth + 1)
    return members, at
