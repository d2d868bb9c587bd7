"""What an application says of a fragment, and the fragment on its way through a load."""

from __future__ import annotations

import gzip
import logging
import math
import os
import time
from dataclasses import dataclass, field
from typing import Any, Callable, Iterable, Mapping, Optional, Sequence

from .keys import FOREVER, Time, key_of, seconds
from .scope import Scope

_log = logging.getLogger("gerastic")
_WARN_EVERY = 10.0
_PACK_FROM = 16 << 10
_TEXT, _BYTES, NOTHING = "text/html; charset=utf-8", "application/octet-stream", "application/x-nothing"
WORDS = ("name", "parts", "version", "lifetime", "stale", "tags", "nothing")

_KNOWN = frozenset(WORDS)

Item = dict[str, Any]


@dataclass
class Options:
    """How an application uses fragments. Times are lengths of time."""

    namespace: Optional[str]
    timeout: Time = 0.25  # until the node has begun to answer
    wait: Time = "5s"  # for what somebody else fills
    lease: Time = "30s"  # that a fill may take
    parallel: int = 8  # fills side by side, with asyncio
    off: Optional[bool] = None  # do without the node; GERASTIC_FRAGMENTS=off says so, too
    check: float = 0.0  # share of found fragments that are filled, too, and compared
    lifetime: Optional[Time] = None  # of fragments that say none
    tags: Sequence[str] = ()  # of all fragments
    warned: dict[str, float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.timeout, self.wait, self.lease = seconds(self.timeout, "timeout"), seconds(self.wait, "wait"), seconds(self.lease, "lease")
        if self.off is None:
            self.off = os.environ.get("GERASTIC_FRAGMENTS", "").lower() == "off"
        if not 0 <= self.check <= 1:
            raise ValueError("check is a share from 0 to 1")

    def warn(self, text: str, error: object = "") -> None:
        """Logs a line, each at most once in ten seconds."""
        line, now = f"{text}: {error}" if str(error) else text, time.monotonic()
        if now - self.warned.get(line, -_WARN_EVERY) >= _WARN_EVERY:
            if len(self.warned) >= 100:
                self.warned.clear()
            self.warned[line] = now
            _log.warning("%s", line.splitlines()[0])


class Wanted:
    """One fragment on its way through a load."""

    direct = False  # stored on its own account
    since: Optional[int] = None  # ledger sequence from which on a purge refuses it
    done = False
    scope: Optional[Scope] = None  # of its fill
    took = 0.0
    until = math.inf
    error: Optional[BaseException] = None

    def __init__(self, item: Item, key: str, lifetime: float, stale: float, tags: Sequence[str], told: dict[str, Any], nothing: float = 0.0, lease: str = "", value: Any = None):
        self.item = item  # as the application gave it
        self.key = key  # "": it cannot have one, and is filled without being stored
        self.lifetime, self.stale, self.tags = lifetime, stale, tags
        self.told = told  # in the report
        self.nothing = nothing  # how long it is known that there is nothing
        self.lease, self.value, self.began = lease, value, time.monotonic()

    def made(self, inner: Scope, value: Any, began: float) -> None:
        """Notes what a fill brought."""
        if value is not None and not isinstance(value, (str, bytes, bytearray, memoryview)):
            raise TypeError(f"the fill of the fragment {self.item.get('name')} returned neither text nor bytes")
        self.value, self.scope, self.took = value, inner, time.monotonic() - began
        life = (self.nothing or self.lifetime) if value is None else self.lifetime
        self.until = min(math.inf if life >= FOREVER else time.time() + life, inner.until)

    def result(self) -> tuple[Any, ...]:
        """What a fill brought, for another who wants the same."""
        return self.value, self.scope, self.until, self.took, self.error

    def take(self, result: tuple[Any, ...]) -> None:
        self.value, self.scope, self.until, self.took, self.error = result

    def offer(self) -> dict[str, Any]:
        """What is stored; or the lease given back, if the fill failed, brought nothing, or what is in it ended."""
        life = FOREVER if self.until == math.inf else self.until - time.time()
        if self.error is not None or self.scope is None or (life <= 0 and self.stale <= 0) or (self.value is None and self.nothing <= 0):
            return {"key": self.key, "lease": self.lease, "failed": True}
        body, coding = as_bytes(self.value), ""
        if len(body) >= _PACK_FROM and len(short := gzip.compress(body, 6)) < 0.9 * len(body):
            body, coding = short, "gzip"
        kind = NOTHING if self.value is None else _TEXT if isinstance(self.value, str) else _BYTES
        offer = {"key": self.key, "lease": self.lease, "type": kind, "coding": coding, "life": max(0.0, life), "stale": self.stale, "cost": self.took * 1000,
                 "tags": list(dict.fromkeys([*self.tags, *self.scope.tags])), "parts": list(self.scope.parts), "body": body, "work": self.scope.work}
        if self.direct:
            offer["direct"] = True
            if self.since is not None:
                offer["since"] = self.since
        return offer


def as_bytes(value: Any) -> bytes:
    """The bytes of what a fill returned."""
    return b"" if value is None else value.encode() if isinstance(value, str) else bytes(value)


def of_type(body: bytes, kind: str) -> Any:
    """A body as it was filled: text or bytes, or None for nothing."""
    if kind == NOTHING:
        return None
    return body.decode() if kind.startswith("text/") or "json" in kind or "utf-8" in kind else bytes(body)


def item_of(thing: Any) -> Item:
    """The words of a thing that says its own name, parts, version and lifetime (fragment_key) and tags (fragment_tags)."""
    said = getattr(thing, "fragment_key", None)
    if said is None:
        raise TypeError("of takes a thing with fragment_key(), which returns name, parts, version and lifetime")
    said = said() if callable(said) else said
    if isinstance(said, str):
        said = (said,)
    item = dict(said) if isinstance(said, Mapping) else dict(zip(("name", "parts", "version", "lifetime"), said))
    tags = getattr(thing, "fragment_tags", None)
    if tags is not None:
        item["tags"] = list(tags() if callable(tags) else tags)
    return {word: value for word, value in item.items() if value is not None}


def wanted(item: Item, scope: Scope, options: Options, needs_life: bool = True) -> Wanted:
    """Reads what an application says of a fragment; a TypeError or ValueError says what is wrong with it."""
    if not _KNOWN.issuperset(item):
        raise TypeError(f"a fragment has {', '.join(WORDS)}; it has no {', '.join(sorted(word for word in item if word not in _KNOWN))}")
    name = item.get("name", "")
    key = key_of(name, item.get("parts") or (), item.get("version"))
    lifetime, stale, nothing = _life(item, "lifetime", options.lifetime), _life(item, "stale"), _life(item, "nothing")
    if needs_life and lifetime <= 0:
        raise ValueError(f"the fragment {name} has no lifetime; give one, such as 1h, or forever if only purges and versions end it")
    tags = item.get("tags")
    return Wanted(item, key, lifetime, stale, _tags(name, tags, options.tags) if tags else options.tags, scope.begin(), nothing)


def _tags(name: str, tags: Any, of_all: Sequence[str]) -> list[str]:
    if not isinstance(tags, (list, tuple, set, frozenset)):
        raise TypeError(f"the tags of the fragment {name} are a list")
    for tag in tags:
        if not isinstance(tag, str) or not tag:
            raise TypeError(f"a tag of the fragment {name} is not a text of 1 to 1024 bytes")
    return list(dict.fromkeys([*of_all, *tags]))


def _life(item: Item, word: str, otherwise: Optional[Time] = None) -> float:
    life = item.get(word)
    if life is None:
        life = otherwise
    if life is None:
        return 0.0
    try:
        return seconds(life)
    except ValueError:
        return seconds(life, f"{word} of the fragment {item.get('name')}")


def lenient(items: Sequence[Item], scope: Scope, options: Options, needs_life: bool = True) -> list[Wanted]:
    """Reads many. One that is not in order has no key: it is filled all the same, and a line says what is wrong."""
    all = []
    for item in items:
        try:
            all.append(wanted(item, scope, options, needs_life))
        except (TypeError, ValueError) as error:
            options.warn(str(error))
            all.append(Wanted(item, "", 0.0, 0.0, (), {}))
    return all


def order_of(named: dict[str, Iterable[Any]], all: bool, mode: str, reason: str) -> dict[str, Any]:
    """The order of a purge in JSON, without what is left out."""
    for name, value in named.items():
        if isinstance(value, str):
            raise TypeError(f"{name} is a list; write {name}=[{value!r}]")
    order: dict[str, Any] = {name: list(value) for name, value in named.items() if value}
    if not order and not all:
        raise ValueError("the purge names nothing; give tags, urls, below, routes or hosts, or all=True")
    return {**order, **({"all": True} if all else {}), "mode": mode, "reason": reason}


def change_of(kind: str, before: Any, after: Any) -> dict[str, Any]:
    """A change in JSON; before None is a create, after None a delete."""
    change = {"kind": kind, "op": "create" if before is None else "delete" if after is None else "update", "before": before, "after": after}
    return {name: value for name, value in change.items() if value is not None}


def takes_one(fill: Callable[..., Any]) -> bool:
    """Reports whether a fill takes an argument."""
    import inspect

    try:
        positional = (inspect.Parameter.POSITIONAL_ONLY, inspect.Parameter.POSITIONAL_OR_KEYWORD)
        return any(p.kind == p.VAR_POSITIONAL or p.kind in positional and p.default is p.empty for p in inspect.signature(fill).parameters.values())
    except (TypeError, ValueError):
        return False
