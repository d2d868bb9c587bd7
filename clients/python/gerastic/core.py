"""How fragments are found or filled, for threads and for asyncio.

Everything here is a coroutine. gerastic.client runs it with steps that block and never suspend, gerastic.aio
with those of asyncio.
"""

from __future__ import annotations

import gzip
import logging
import math
import os
import time
import zlib
from dataclasses import dataclass, field
from typing import Any, Callable, Coroutine, Iterable, Optional, Sequence
from urllib.parse import quote

from . import wire
from .keys import FOREVER, Time, key_of, seconds
from .scope import Scope, current

_log = logging.getLogger("gerastic")
_WARN_EVERY = 10.0
_MOST_KEYS = 1000
_PACK_FROM = 16 << 10
_TEXT, _BYTES = "text/html; charset=utf-8", "application/octet-stream"
_WORDS = {"name", "parts", "version", "lifetime", "stale", "tags"}

Item = dict[str, Any]


@dataclass
class Wanted:
    """One fragment on its way through a load."""

    item: Item  # as the application gave it
    key: str
    lifetime: float
    stale: float
    tags: Sequence[str]
    told: dict[str, Any]  # in the report
    lease: str = ""
    began: float = field(default_factory=time.monotonic)
    done: bool = False
    value: Any = None
    scope: Optional[Scope] = None  # of its fill
    took: float = 0.0
    until: float = math.inf
    error: Optional[BaseException] = None

    def made(self, inner: Scope, value: Any, began: float) -> None:
        """Notes what a fill brought."""
        if not isinstance(value, (str, bytes, bytearray, memoryview)):
            raise TypeError(f"the fill of the fragment {self.item['name']} returned a {type(value).__name__}; return text or bytes")
        self.value, self.scope, self.took = value, inner, time.monotonic() - began
        self.until = min(math.inf if self.lifetime >= FOREVER else time.time() + self.lifetime, inner.until)

    def offer(self) -> dict[str, Any]:
        """What is stored; or the lease given back, if the fill failed or what is in it ended meanwhile."""
        life = FOREVER if self.until == math.inf else self.until - time.time()
        if self.error is not None or self.scope is None or (life <= 0 and self.stale <= 0):
            return {"key": self.key, "lease": self.lease, "failed": True}
        body, coding = as_bytes(self.value), ""
        if len(body) >= _PACK_FROM and len(short := gzip.compress(body, 6)) < 0.9 * len(body):
            body, coding = short, "gzip"
        tags = list(dict.fromkeys([*self.tags, *self.scope.tags]))
        return {"key": self.key, "lease": self.lease, "type": _TEXT if isinstance(self.value, str) else _BYTES, "coding": coding, "life": max(0.0, life),
                "stale": self.stale, "cost": self.took * 1000, "tags": tags, "parts": list(self.scope.parts), "body": body}


def as_bytes(value: Any) -> bytes:
    """The bytes of what a fill returned."""
    return value.encode() if isinstance(value, str) else bytes(value)


def wanted(item: Item, scope: Scope, needs_life: bool = True) -> Wanted:
    """Reads what an application says of a fragment; a TypeError or ValueError says what is wrong with it."""
    if unknown := item.keys() - _WORDS:
        raise TypeError(f"a fragment has name, parts, version, lifetime, stale and tags; it has no {', '.join(sorted(unknown))}")
    key = key_of(item.get("name", ""), item.get("parts") or (), item.get("version"))
    life: Time = item.get("lifetime") or 0
    if needs_life and seconds(life) <= 0:
        raise ValueError(f'the fragment {item["name"]} has no lifetime; give one, such as lifetime="1h", or "forever" if only purges and versions end it')
    if isinstance(tags := item.get("tags") or (), str):
        raise TypeError(f"the tags of the fragment {item['name']} are a list; write [{tags!r}]")
    told = {"key": "", "found": "", "took": 0.0, "age": 0.0, "depth": scope.depth + 1}
    scope.report.append(told)
    return Wanted(item, key, seconds(life), seconds(item.get("stale") or 0, "stale"), list(tags), told)


@dataclass
class Options:
    """How an application uses fragments. Times are seconds."""

    namespace: Optional[str]
    timeout: Time = 0.25  # until the node has begun to answer
    wait: Time = "5s"  # for what somebody else fills
    lease: Time = "30s"  # that a fill may take
    parallel: int = 8  # fills side by side, with asyncio
    off: Optional[bool] = None  # do without the node; GERASTIC_FRAGMENTS=off says so, too
    warned: float = -_WARN_EVERY

    def __post_init__(self) -> None:
        self.timeout, self.wait, self.lease = seconds(self.timeout, "timeout"), seconds(self.wait, "wait"), seconds(self.lease, "lease")
        if self.off is None:
            self.off = os.environ.get("GERASTIC_FRAGMENTS", "").lower() == "off"

    def warn(self, text: str, error: BaseException) -> None:
        """Logs, at most once in ten seconds."""
        if time.monotonic() - self.warned >= _WARN_EVERY:
            self.warned = time.monotonic()
            _log.warning("%s: %s", text, error)


class Core:
    """The loads of one application, but for how steps are taken."""

    def __init__(self, carrier: wire.Wire, options: Options):
        self._wire, self._options, self._namespace = carrier, options, options.namespace or ""
        self.counts = dict.fromkeys(("reused", "stale", "waited", "filled", "alone", "unreached", "refused"), 0)

    async def _items(self, what: str, values: list[Any], timeout: float, more: float) -> list[Any]:
        raise NotImplementedError

    async def _fill(self, all: list[Wanted], fill: Any) -> None:
        raise NotImplementedError

    async def _turn(self, one: Wanted, fill: Any) -> None:
        raise NotImplementedError

    def _begin(self, work: Coroutine[Any, Any, None]) -> None:
        raise NotImplementedError

    def page(self) -> Scope:
        """A page that collects what is put into it: ``with f.page() as page: …``, then ``page.headers()``."""
        return Scope()

    def tag(self, *tags: str) -> None:
        """Notes that what is being made here shows these things."""
        if (scope := current.get()) is not None:
            scope.tag(*tags)

    async def _load_or_fill_all(self, items: Sequence[Item], fill: Callable[[Item], Any]) -> list[Any]:
        scope = current.get() or Scope()
        all = [wanted(item, scope) for item in items]
        if self._options.off:
            await self._fill(all, fill)
        else:
            for start in range(0, len(all), _MOST_KEYS):
                await self._batch(scope, all[start : start + _MOST_KEYS], fill)
        for one in all:
            if one.error is not None:
                raise one.error
        return [one.value for one in all]

    async def _load_all(self, items: Sequence[Item]) -> list[Optional[bytes]]:
        scope = current.get() or Scope()
        all = [wanted(item, scope, needs_life=False) for item in items]
        for start in range(0, 0 if self._options.off else len(all), _MOST_KEYS):
            open = all[start : start + _MOST_KEYS]
            stamp, answers = await self._look(open, {"fresh": True}, 0.0) or (0, [])
            for one, answer in zip(open, answers):
                if answer.get("state") == "fresh":
                    self._use(scope, one, answer, stamp)
        return [as_bytes(one.value) if one.done else None for one in all]

    async def _store(self, value: Any, item: Item) -> bool:
        one = wanted(item, Scope())
        one.made(Scope(), value, time.monotonic())
        # A lease of its own, so that a purge that comes now is not overtaken.
        found = None if self._options.off else await self._look([one], {"renew": True}, float(self._options.lease))
        one.lease = found[1][0].get("lease", "") if found else ""
        return bool(one.lease) and await self._keep([one]) == 1

    async def _batch(self, scope: Scope, open: list[Wanted], fill: Any) -> None:
        # Its own fills come before it waits for those of others, who may be waiting for them.
        for _ in range(4):
            found = await self._look(open, {"fresh": True} if scope.fragment else {}, float(self._options.lease)) if open else None
            if found is None:
                break
            mine, others, off = [], [], []
            for one, answer in zip(open, found[1]):
                state, one.lease = answer.get("state"), answer.get("lease", "")
                if state in ("fresh", "stale") and self._use(scope, one, answer, found[0]):
                    if one.lease:
                        self._begin(self._fill_behind(Wanted(one.item, one.key, one.lifetime, one.stale, one.tags, {}, one.lease), fill))
                else:  # what is switched off, or cannot be read, is filled without being stored
                    {"yours": mine, "filling": others}.get(state or "", off).append(one)
            if mine:
                await self._fill(mine, fill)
                await self._keep(mine)
            for one in mine:
                self._take(scope, one, found[0], "filled")
            await self._alone(scope, off, fill)
            open = others
            if not mine:
                break  # it waited already
        await self._alone(scope, open, fill)

    async def _call(self, what: str, values: list[Any], more: float) -> Optional[list[Any]]:
        try:
            return await self._items(what, values, float(self._options.timeout), more)
        except wire.Unreached as error:
            self.counts["unreached"] += 1
            self._options.warn("fragments are made without Gerastic", error)
            return None

    async def _look(self, open: list[Wanted], how: dict[str, Any], lease: float) -> Optional[tuple[int, list[dict[str, Any]]]]:
        wait = float(self._options.wait) if lease else 0.0
        items = await self._call("lookup", [{"keys": [one.key for one in open], "wait": wait * 1000, "lease": lease * 1000, "details": True, **how}], wait)
        if items is None:
            return None
        try:
            answers: list[Any] = [None] * len(open)
            for answer in items[1:]:
                answers[answer["at"]] = answer
            self._namespace, stamp = items[0]["namespace"], items[0]["stamp"]
            if None in answers:
                raise ValueError
        except (IndexError, KeyError, TypeError, ValueError):
            self.counts["unreached"] += 1
            self._options.warn("fragments are made without Gerastic", wire.Unreached("its answer is not whole"))
            return None
        return stamp, answers

    async def _keep(self, all: list[Wanted]) -> int:
        results = await self._call("store", [one.offer() for one in all], 3 * float(self._options.timeout)) or []
        stored = sum(isinstance(result, dict) and result.get("stored") is True for result in results)
        self.counts["refused"] += max(0, min(len(results), sum(one.error is None for one in all)) - stored)
        return stored

    def _use(self, scope: Scope, one: Wanted, answer: dict[str, Any], stamp: int) -> bool:
        try:
            body = gzip.decompress(answer["body"]) if answer.get("coding") == "gzip" else answer["body"]
            kind = answer.get("type") or _TEXT
            one.value = body.decode() if kind.startswith("text/") or "json" in kind or "utf-8" in kind else bytes(body)
            left, age = float(answer["left"]), float(answer.get("age", 0))
        except (OSError, EOFError, zlib.error, KeyError, TypeError, ValueError, AttributeError):
            return False  # whoever stored it did not do what they said
        until = math.inf if left > FOREVER / 2 else time.time() + left
        scope.hold(f"{self._namespace}/{one.key}", answer.get("tags") or (), until, stamp)
        self._ended(one, "stale" if answer["state"] == "stale" else "waited" if answer.get("waited") else "reused", age)
        return True

    def _take(self, scope: Scope, one: Wanted, stamp: float, found: str) -> None:
        if one.error is None:
            inner = one.scope or Scope()
            scope.hold(f"{self._namespace}/{one.key}", [*one.tags, *inner.tags], one.until, min(stamp, inner.stamp))
            self._ended(one, found)

    def _ended(self, one: Wanted, found: str, age: float = 0.0) -> None:
        self.counts[found] += 1
        one.done = True
        one.told.update(key=f"{self._namespace}/{one.key}", found=found, took=(time.monotonic() - one.began) * 1000, age=age)

    async def _alone(self, scope: Scope, all: Iterable[Wanted], fill: Any) -> None:
        for one in all:
            await self._turn(one, fill)
            # It was made after it was asked for: no purge that a page of it knows is missing.
            self._take(scope, one, math.inf, "alone")

    async def _fill_behind(self, one: Wanted, fill: Any) -> None:
        current.set(None)
        await self._fill([one], fill)
        if one.error is None:
            self.counts["filled"] += 1
        else:
            self._options.warn("a fragment could not be made anew behind a caller", one.error)
        await self._keep([one])

    def _path(self, item: Item) -> str:
        key = key_of(item.get("name", ""), item.get("parts") or (), item.get("version"))
        return "/v1/fragments/" + quote(key, safe="") + (f"?namespace={quote(self._options.namespace, safe='')}" if self._options.namespace else "")

    def _inner(self, one: Wanted) -> Scope:
        outer = current.get()
        return Scope(fragment=True, depth=one.told.get("depth", 1), report=outer.report if outer else None)


def purge_order(named: dict[str, Iterable[Any]], all: bool, mode: str, reason: str) -> dict[str, Any]:
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
    return {"changes": [{name: value for name, value in change.items() if value is not None}]}
