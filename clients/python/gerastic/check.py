"""A wrong key is noticed: what was found is filled, too, and compared."""

from __future__ import annotations

import re
import time
from functools import partial
from types import CodeType, FunctionType
from typing import Any, Callable, Optional

from .items import Wanted, as_bytes

GRACE = 1.0  # seconds in which a purge may come that explains a difference
_SAMPLE = 400
_MOST_NAMES = 1000


def code_of(fill: Any) -> Optional[CodeType]:
    """The code of a fill, behind what wraps it."""
    fill = getattr(fill, "func", fill)  # functools.partial
    fill = getattr(fill, "__func__", fill)  # a method
    if not isinstance(fill, FunctionType):
        fill = getattr(type(fill), "__call__", None)
    return getattr(fill, "__code__", None)


def _shape(code: CodeType) -> Any:
    """What a function does, but for the numbers in it."""
    return code.co_code, code.co_names, tuple(_shape(one) if isinstance(one, CodeType) else one for one in code.co_consts if isinstance(one, (str, bytes, CodeType)))


class Places:
    """Where each name is filled: two places that do something else are a copied block."""

    def __init__(self) -> None:
        self._of: dict[str, CodeType] = {}

    def clash(self, name: str, fill: Callable[..., Any]) -> Optional[str]:
        """What is wrong, if another place fills this name otherwise."""
        code = code_of(fill)
        if code is None:
            return None
        if name not in self._of:
            if len(self._of) < _MOST_NAMES:
                self._of[name] = code
            return None
        before = self._of[name]
        if before is code or (before.co_filename, before.co_firstlineno) == (code.co_filename, code.co_firstlineno) or _shape(before) == _shape(code):
            return None
        return (f"the fragment {name} is filled in two places, {before.co_filename}:{before.co_firstlineno} and {code.co_filename}:{code.co_firstlineno}; "
                "give each a name of its own, or share one fill")


def _held(fill: Any) -> dict[str, Any]:
    """What a function holds: variables around it, defaults, and globals that it names."""
    code = code_of(fill)
    if code is None:
        return {}
    values: dict[str, Any] = {}
    for name, cell in zip(code.co_freevars, getattr(fill, "__closure__", None) or ()):
        try:
            values[name] = cell.cell_contents
        except ValueError:
            pass  # it has no value yet
    defaults = getattr(fill, "__defaults__", None) or ()
    values.update(zip(code.co_varnames[code.co_argcount - len(defaults) : code.co_argcount], defaults))
    around = getattr(fill, "__globals__", {})
    values.update({name: around[name] for name in code.co_names if name in around})
    return values


def _values(fill: Any, item: Any) -> dict[str, Any]:
    """The values that a fill depends on, by name: what it holds, its defaults, and the attributes of these."""
    if isinstance(fill, partial):
        values = dict(fill.keywords)
    else:
        values = _held(fill)
    for name, value in list(values.items()):
        fields = value if isinstance(value, dict) else getattr(value, "__dict__", None)
        if isinstance(fields, dict) and not callable(value):
            values.update({f"{name}.{field}": inner for field, inner in list(fields.items())[:50] if isinstance(field, str)})
    return {name: value for name, value in values.items() if isinstance(value, (str, int, float, bool, bytes)) or value is None}


def missing(fill: Any, one: Wanted, found: str, made: str) -> str:
    """The argument that the key likely leaves out: one whose value stands in what was made and not in what was found."""
    parts = [str(part) for part in one.item.get("parts") or ()]
    left_out = {name: str(value) for name, value in _values(fill, one.item).items() if str(value) not in parts}
    for name, text in left_out.items():
        if text and re.search(r"\b" + re.escape(text), made) and not re.search(r"\b" + re.escape(text), found):
            return name
    return next((name for name in left_out if "." not in name), "")


def samples(found: Any, made: Any) -> tuple[str, str]:
    """Both texts, around where they begin to differ."""
    a, b = (as_bytes(value).decode(errors="replace") for value in (found, made))
    at = next((i for i, (x, y) in enumerate(zip(a, b)) if x != y), min(len(a), len(b)))
    begin = max(0, at - _SAMPLE // 2) if max(len(a), len(b)) > _SAMPLE else 0
    return a[begin : begin + _SAMPLE], b[begin : begin + _SAMPLE]


def clash_of(fill: Any, one: Wanted, found: Any, made: Any) -> dict[str, Any]:
    """What is told of a clash."""
    a, b = samples(found, made)
    return {"key": one.key, "samples": [a, b], "missing": missing(fill, one, as_bytes(found).decode(errors="replace"), as_bytes(made).decode(errors="replace"))}


def words_of(clash: dict[str, Any]) -> str:
    """The line of a clash."""
    likely = f", likely {clash['missing']}" if clash["missing"] else ""
    a, b = (" ".join(sample.split())[:80] for sample in clash["samples"])
    return f"the key {clash['key']} leaves something out{likely}: what was there is {a!r}, and a fill made {b!r}"


class Told:
    """Names whose clash was told of lately."""

    def __init__(self) -> None:
        self._at: dict[str, float] = {}

    def due(self, name: str) -> bool:
        """Reports whether a clash of a name would be the first in a minute."""
        return time.monotonic() - self._at.get(name, -60.0) >= 60.0

    def first(self, name: str) -> bool:
        """Reports the same, and notes it."""
        if not self.due(name):
            return False
        if len(self._at) >= _MOST_NAMES:
            self._at.clear()
        self._at[name] = time.monotonic()
        return True
