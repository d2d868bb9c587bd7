"""Keys of fragments, and lengths of time."""

from __future__ import annotations

import json
import math
import re
from datetime import datetime, timedelta, timezone
from functools import lru_cache
from typing import Any, Sequence, Union

#: A length of time: seconds, a timedelta, or "90s", "15m", "1h", "1d" or "forever".
Time = Union[int, float, str, timedelta]

#: Seconds of a life that only a purge or a new version ends.
FOREVER = 100.0 * 365 * 24 * 3600

_name = re.compile(r"[A-Za-z0-9_.-]{1,64}\Z")
_time = re.compile(r"(\d+(?:\.\d+)?)(ms|s|m|h|d)\Z")
_NO_VALUE = "a part of the fragment {} is not a value; parts are text, numbers, booleans, times, bytes, and lists of them"
_deepest = 16
_units = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0}


def seconds(time: Time, what: str = "lifetime") -> float:
    """Reads a length of time; a ValueError says what is wanted."""
    try:
        return _seconds(time)
    except (TypeError, ValueError):
        raise ValueError(f"the {what}, {time if isinstance(time, (str, int, float)) else type(time).__name__}, is no length of time; write 90s, 15m, 1h, 1d or forever") from None


@lru_cache(maxsize=256)
def _seconds(time: Time) -> float:
    if isinstance(time, timedelta):
        read = time.total_seconds()
    elif isinstance(time, str):
        if time == "forever":
            return FOREVER
        match = _time.match(time)
        if not match:
            raise ValueError
        read = float(match[1]) * _units[match[2]]
    elif isinstance(time, (int, float)) and not isinstance(time, bool):
        read = float(time)
    else:
        raise TypeError
    if not 0 <= read < math.inf:
        raise ValueError
    return min(read, FOREVER)


def key_of(name: str, parts: Sequence[Any] = (), version: Any = None) -> str:
    """The key of a fragment: name("part",2)@"version". A TypeError or ValueError says what cannot be part of it."""
    if not isinstance(name, str) or not _name.match(name):
        raise ValueError(f"a fragment's name has 1 to 64 letters, digits, -, _ and .; {name} is not one")
    if not isinstance(parts, (list, tuple)):
        raise TypeError(f"the parts of the fragment {name} are a list")
    key = f"{name}({','.join(_value(name, part) for part in parts)})"
    if version is not None:
        key += "@" + _value(name, version)
    if len(key.encode()) > 1024:
        raise ValueError(f"the key of the fragment {name} has more than 1024 bytes; use an identifier, or a digest, in place of a long text")
    return key


def _value(name: str, v: Any, depth: int = 0) -> str:
    """Writes a part so that it reads one way only: as canonical JSON (RFC 8785), times behind t, bytes behind x."""
    if v is None:
        return "null"
    if isinstance(v, bool):
        return "true" if v else "false"
    if isinstance(v, str):
        try:
            v.encode()
        except UnicodeEncodeError:
            raise ValueError(f"a part of the fragment {name} is not text; make it bytes") from None
        return json.dumps(v, ensure_ascii=False)
    if isinstance(v, int):
        return str(int(v))
    if isinstance(v, float):
        if not math.isfinite(v):
            raise ValueError(_NO_VALUE.format(name))
        return _number(v)
    if isinstance(v, datetime):
        if v.tzinfo is None:
            raise ValueError(f"a part of the fragment {name} is a time without a time zone; use datetime.now(timezone.utc)")
        v = v.astimezone(timezone.utc)
        fraction = f".{v.microsecond:06d}".rstrip("0") if v.microsecond else ""
        return f't"{v:%Y-%m-%dT%H:%M:%S}{fraction}Z"'
    if isinstance(v, (bytes, bytearray, memoryview)):
        return f'x"{bytes(v).hex()}"'
    if isinstance(v, (list, tuple)) and depth < _deepest:
        return "[" + ",".join(_value(name, item, depth + 1) for item in v) + "]"
    raise TypeError(_NO_VALUE.format(name))


def _number(v: float) -> str:
    """Writes a number as ECMAScript does (RFC 8785 §3.2.2.3)."""
    if v == 0:
        return "0"
    text = repr(abs(v))
    digits, _, power = text.partition("e")
    whole, _, fraction = digits.partition(".")
    exponent = int(power or 0) + len(whole)
    figures = (whole + fraction).lstrip("0")
    exponent -= len(whole + fraction) - len(figures)
    figures = figures.rstrip("0")
    if 0 < exponent <= 21:
        out = figures.ljust(exponent, "0") if len(figures) <= exponent else f"{figures[:exponent]}.{figures[exponent:]}"
    elif -6 < exponent <= 0:
        out = "0." + "0" * -exponent + figures
    else:
        mantissa = figures if len(figures) == 1 else f"{figures[0]}.{figures[1:]}"
        out = f"{mantissa}e{exponent - 1:+d}"
    return ("-" if v < 0 else "") + out
