"""How fragments are found or filled, for threads and for asyncio.

Everything here is a coroutine. gerastic.client runs it with steps that block and never suspend, gerastic.aio
with those of asyncio.
"""

from __future__ import annotations

import gzip
import math
import random
import threading
import time
import zlib
from collections import OrderedDict
from typing import Any, Callable, Coroutine, Iterable, Optional, Sequence
from urllib.parse import quote

from . import check, wire
from .items import Item, Options, Wanted, as_bytes, item_of, lenient, of_type, takes_one, wanted
from .keys import FOREVER, key_of
from .scope import Found, Scope, current, purges

_MOST_KEYS = 1000
_MOST_AT_HAND = 16 << 20  # bytes of bodies that a process keeps
_MOST_SEEN = 10_000
_MOST_CHECKS = 16


class _AtHand:
    """Bodies that the node need not send again, and when each key was last looked up. Safe for threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._kept: OrderedDict[str, tuple[str, Any, int]] = OrderedDict()  # validator, value, bytes
        self._seen: OrderedDict[str, int] = OrderedDict()
        self._bytes = 0

    def get(self, keys: Sequence[str]) -> list[Optional[tuple[str, Any, int]]]:
        with self._lock:
            for key in keys:
                if key in self._kept:
                    self._kept.move_to_end(key)
            return [self._kept.get(key) for key in keys]

    def put(self, key: str, etag: str, value: Any, size: int) -> None:
        with self._lock:
            self._bytes += size - self._kept.pop(key, ("", b"", 0))[2]
            self._kept[key] = (etag, value, size)
            while self._bytes > _MOST_AT_HAND or len(self._kept) > _MOST_SEEN:
                self._bytes -= self._kept.popitem(last=False)[1][2]

    def saw(self, keys: Iterable[str], stamp: int) -> None:
        with self._lock:
            for key in keys:
                self._seen[key] = stamp
                self._seen.move_to_end(key)
            while len(self._seen) > _MOST_SEEN:
                self._seen.popitem(last=False)

    def seen(self, key: str) -> Optional[int]:
        with self._lock:
            return self._seen.get(key)


class Core:
    """The loads of one application, but for how steps are taken."""

    def __init__(self, carrier: wire.Wire, options: Options):
        self._wire, self._options, self._namespace = carrier, options, options.namespace or ""
        self._counts = dict.fromkeys(("found", "filled", "waited", "failed"), 0)
        self._at_hand, self._places, self._told = _AtHand(), check.Places(), check.Told()
        self._checking = 0  # loads whose keys are checked behind their callers

    # How steps are taken.
    async def _items(self, what: str, values: list[Any], timeout: float, more: float) -> list[Any]:
        raise NotImplementedError

    async def _json(self, method: str, path: str, value: Any) -> Any:
        raise NotImplementedError

    async def _fill(self, all: list[Wanted], fill: Any) -> None:
        raise NotImplementedError

    async def _turn(self, one: Wanted, fill: Any) -> None:
        raise NotImplementedError

    async def _pause(self, seconds: float) -> None:
        raise NotImplementedError

    def _begin(self, work: Coroutine[Any, Any, None]) -> None:
        raise NotImplementedError

    def page(self, request_headers: Any = None) -> Scope:
        """A page that collects what is put into it: ``with f.page() as page: …``, then ``page.headers()``."""
        return Scope(request_headers=request_headers)

    def tag(self, *tags: str) -> None:
        """Notes that what is being made here shows these things."""
        if (scope := current.get()) is not None:
            scope.tag(*tags)

    def did(self, **amounts: float) -> None:
        """Counts what it took to make what is being made here: f.did(queries=1, rows=20)."""
        if (scope := current.get()) is not None:
            scope.did(**amounts)

    def counts(self) -> dict[str, int]:
        """What became of fragments: found, filled here, waited for; failed: the node was not reached."""
        return dict(self._counts)

    def templates(self, env: Any) -> Any:
        """Gives an environment of Jinja2 the functions fragment and fragments; see gerastic.templates."""
        from .templates import functions

        env.globals.update(functions(self, env))
        return env

    async def _load_or_fill_all(self, items: Sequence[Item], fill: Callable[[Item], Any], code: Any) -> list[Any]:
        scope = current.get() or Scope()
        all = lenient(items, scope, self._options)
        if self._options.check:
            for name in dict.fromkeys(one.item["name"] for one in all if one.key):
                if clash := self._places.clash(name, code):
                    self._options.warn(clash)
        if self._options.off:
            await self._fill(all, fill)
        else:
            await self._alone(scope, [one for one in all if not one.key], fill)
            first: dict[str, Wanted] = {}
            for one in all:
                first.setdefault(one.key, one)
            open = [one for key, one in first.items() if key and not self._again(scope, one)]
            for start in range(0, len(open), _MOST_KEYS):
                await self._batch(scope, open[start : start + _MOST_KEYS], fill)
            for one in all:  # each fragment costs one trip
                if one.key and (same := first[one.key]) is not one:
                    one.take(same.result())
                    one.done = same.done
                    self._ended(one, "reused")
            self._check(all, fill, code)
        for one in all:
            if one.error is not None:
                raise one.error
        return [one.value for one in all]

    def _again(self, scope: Scope, one: Wanted) -> bool:
        """Uses what this page has of a fragment already; nothing stale goes into a fragment."""
        found = scope.found.get(one.key)
        if found is None or found.until <= time.time() or found.purges != purges[0] or (found.stale and scope.fragment):
            return False
        one.value = found.value
        scope.hold(f"{self._namespace}/{one.key}", found.tags, found.until, found.stamp)
        self._ended(one, "reused")
        return True

    async def _load_all(self, items: Sequence[Item]) -> list[Optional[bytes]]:
        scope = current.get() or Scope()
        all = lenient(items, scope, self._options, needs_life=False)
        asked = [] if self._options.off else [one for one in all if one.key and not self._again(scope, one)]
        for start in range(0, len(asked), _MOST_KEYS):
            open = asked[start : start + _MOST_KEYS]
            stamp, answers = await self._look(open, {"fresh": True}, 0.0) or (0, [])
            for one, answer in zip(open, answers):
                if answer.get("state") == "fresh":
                    self._use(scope, one, answer, stamp)
        return [as_bytes(one.value) if one.done and one.value is not None else None for one in all]

    async def _store(self, value: Any, item: Item) -> bool:
        one = wanted(item, Scope(), self._options)
        one.direct, one.since = True, self._at_hand.seen(one.key)
        one.made(Scope(), value, time.monotonic())
        if (page := current.get()) is not None:
            page.found.pop(one.key, None)
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
                        self._begin(self._fill_behind(Wanted(one.item, one.key, one.lifetime, one.stale, one.tags, {}, one.nothing, one.lease), fill))
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
            return self._unreached(error)

    def _unreached(self, error: object) -> None:
        self._counts["failed"] += 1
        self._options.warn("fragments are made without Gerastic", error)

    async def _look(self, open: list[Wanted], how: dict[str, Any], lease: float) -> Optional[tuple[int, list[dict[str, Any]]]]:
        wait = float(self._options.wait) if lease else 0.0
        keys = [one.key for one in open]
        had = self._at_hand.get(keys)
        ask = {"keys": keys, "have": [kept[0] if kept else "" for kept in had], "wait": wait * 1000, "lease": lease * 1000, **how}
        items = await self._call("lookup", [ask], wait)
        if items is None:
            return None
        answers: list[Any] = [None] * len(open)
        try:
            for answer in items[1:]:
                if "same" in answer:
                    self._same(answer, had, answers)
                else:
                    answers[answer["at"]] = answer
            self._namespace, stamp = items[0]["namespace"], items[0]["stamp"]
        except (AttributeError, IndexError, KeyError, TypeError):
            return self._unreached("its answer cannot be read")
        if None in answers:
            return self._unreached("its answer cannot be read")
        if not how.get("renew"):
            self._at_hand.saw(keys, stamp)
        return stamp, answers

    @staticmethod
    def _same(answer: dict[str, Any], had: Sequence[Any], answers: list[Any]) -> None:
        """Notes an answer of several, whose values are at hand."""
        places = answer["same"]
        for at, age, left, tags in zip(places, answer["ages"], answer["lives"], answer.get("tagsets") or [()] * len(places)):
            answers[at] = {"state": "fresh", "age": age, "left": left, "tags": tags, "value": had[at][1]}

    async def _keep(self, all: list[Wanted]) -> int:
        results = await self._call("store", [one.offer() for one in all], 3 * float(self._options.timeout)) or []
        stored = 0
        for one, result in zip(all, results):
            told = result if isinstance(result, dict) else {}
            stored += told.get("stored") is True
            if one.error is None and told.get("refused") not in (None, "overtaken"):
                self._options.warn(f"the fragment {one.item.get('name')} cannot be stored", told.get("why", ""))
        return stored

    def _use(self, scope: Scope, one: Wanted, answer: dict[str, Any], stamp: int) -> bool:
        try:
            left, age = float(answer["left"]), float(answer.get("age", 0))
            one.value = answer["value"] if "value" in answer else self._read(one, answer)
        except (OSError, EOFError, zlib.error, KeyError, TypeError, ValueError, AttributeError):
            return False  # whoever stored it did not do what they said
        until = math.inf if left > FOREVER / 2 else time.time() + left
        self._has(scope, one, answer.get("tags") or (), until, stamp, answer["state"] == "stale")
        self._ended(one, "stale" if answer["state"] == "stale" else "waited" if answer.get("waited") else "reused", age)
        return True

    def _read(self, one: Wanted, answer: dict[str, Any]) -> Any:
        """The value of a body that came, which is at hand from now on."""
        body = gzip.decompress(answer["body"]) if answer.get("coding") == "gzip" else answer["body"]
        value = of_type(body, answer.get("type") or "text/html")
        if etag := answer.get("etag"):
            self._at_hand.put(one.key, etag, value, len(body))
        return value

    def _has(self, scope: Scope, one: Wanted, tags: Sequence[str], until: float, stamp: float, stale: bool) -> None:
        """Puts a fragment into a page, and keeps it at hand there."""
        scope.hold(f"{self._namespace}/{one.key}", tags, until, stamp)
        scope.keep(one.key, Found(one.value, tags, until, stamp, stale))

    def _take(self, scope: Scope, one: Wanted, stamp: float, found: str) -> None:
        if one.error is None and one.key:
            inner = one.scope or Scope()
            self._has(scope, one, [*one.tags, *inner.tags], one.until, min(stamp, inner.stamp), False)
        if one.error is None:
            self._ended(one, found)

    def _ended(self, one: Wanted, found: str, age: float = 0.0) -> None:
        self._counts[{"waited": "waited", "filled": "filled", "alone": "filled"}.get(found, "found")] += 1
        one.done = True
        if one.key:
            one.told.update(key=f"{self._namespace}/{one.key}", found=found, took=(time.monotonic() - one.began) * 1000, age=age)

    async def _alone(self, scope: Scope, all: Iterable[Wanted], fill: Any) -> None:
        for one in all:
            await self._turn(one, fill) if one.key else await self._fill([one], fill)
            # It was made after it was asked for: no purge that a page of it knows is missing.
            self._take(scope, one, math.inf, "alone")

    async def _fill_behind(self, one: Wanted, fill: Any) -> None:
        current.set(None)
        await self._fill([one], fill)
        if one.error is None:
            self._counts["filled"] += 1
        else:
            self._options.warn("a fragment could not be made anew behind a caller", one.error)
        await self._keep([one])

    def _check(self, all: list[Wanted], fill: Any, code: Any) -> None:
        """Fills a share of what was found, one after the other behind the caller; while many do, no more begin."""
        some = [Wanted(one.item, one.key, one.lifetime, one.stale, one.tags, {}, value=one.value) for one in all
                if self._options.check and one.told.get("found") == "reused" and one.error is None and random.random() < self._options.check]
        if some and self._checking < _MOST_CHECKS:
            self._checking += 1
            self._begin(self._compare_all(some, fill, code))

    async def _compare_all(self, some: list[Wanted], fill: Any, code: Any) -> None:
        try:
            for one in some:
                await self._compare(one, fill, code)
        finally:
            self._checking -= 1

    async def _compare(self, one: Wanted, fill: Any, code: Any) -> None:
        """Fills what was found. Twice, since what is made differently each time says nothing of the key; and after a
        moment it is there still, if no purge explains the difference."""
        if not self._told.due(one.item["name"]):
            return
        current.set(None)
        found, made = one.value, []
        for _ in range(2):
            await self._fill([one], fill)
            if one.error is not None or as_bytes(one.value) == as_bytes(found):
                return
            made.append(as_bytes(one.value))
        if made[0] != made[1]:
            return
        await self._pause(check.GRACE)
        looked = await self._look([one], {"fresh": True}, 0.0)
        if not looked or looked[1][0].get("state") != "fresh":
            return
        again = Wanted(one.item, one.key, 0.0, 0.0, (), {})
        if not self._use(Scope(), again, looked[1][0], looked[0]) or as_bytes(again.value) != as_bytes(found) or not self._told.first(one.item["name"]):
            return
        clash = check.clash_of(code, one, found, one.value)
        self._options.warn(check.words_of(clash))
        try:
            await self._json("POST", "/v1/fragments/clashes" + wire.query(self._options.namespace), clash)
        except (wire.Refused, wire.Unreached) as error:
            self._options.warn("the clash could not be noted", error)

    def _path(self, item: Item) -> str:
        key = key_of(item.get("name", ""), item.get("parts") or (), item.get("version"))
        if (page := current.get()) is not None:
            page.found.pop(key, None)
        return "/v1/fragments/" + quote(key, safe="") + wire.query(self._options.namespace)

    def _inner(self, one: Wanted) -> Scope:
        return Scope(current.get(), fragment=True, depth=one.told.get("depth", 1))

    @staticmethod
    def _of(thing: Any, fill: Callable[..., Any]) -> tuple[Item, Callable[[], Any]]:
        """A thing's own words, and the fill as it is called."""
        return item_of(thing), (lambda: fill(thing)) if takes_one(fill) else fill
