"""Gerastic for threads: WSGI applications, workers, scripts."""

from __future__ import annotations

import contextvars
import threading
import time
from typing import Any, Callable, Coroutine, Iterable, Optional, Sequence

from . import wire
from .core import Core
from .items import Item, Options, Wanted, change_of, order_of
from .scope import purges


class Gerastic:
    """A node of Gerastic: ``g = Gerastic("http://127.0.0.1:8490", token)``."""

    def __init__(self, control: str, token: str, namespace: Optional[str] = None):
        self._wire, self.namespace = wire.Wire(control, token), namespace

    def fragments(self, **options: Any) -> Fragments:
        """The parts of pages that the application makes. Make one for the life of the application.

        Options are timeout, wait and lease (lengths of time), off, check (a share), and lifetime and tags of every fragment.
        """
        return Fragments(self._wire, Options(self.namespace, **options))

    def purge(self, *, tags: Iterable[str] = (), urls: Iterable[Any] = (), below: Iterable[str] = (), routes: Iterable[str] = (),
              hosts: Iterable[str] = (), all: bool = False, mode: str = "drop", reason: str = "") -> Any:
        """Purges on every node; returns when it is in force. Raises Refused or Unreached: then nothing is known to be purged."""
        named = {"tags": tags, "urls": urls, "below": below, "routes": routes, "hosts": hosts}
        return self._order("/v1/purges", order_of(named, all, mode, reason))

    def _order(self, path: str, order: Any) -> Any:
        try:
            return self._wire.json("POST", path, order)
        finally:
            purges[0] += 1

    def changed(self, kind: str, before: Any = None, after: Any = None) -> Any:
        """Tells of something that changed, after the commit; returns when what it makes stale is purged."""
        return self.send([change_of(kind, before, after)])

    def send(self, changes: list[Any]) -> Any:
        """Tells of changes as they stand: mappings of kind, op, before, after and perhaps id, by which one that is sent twice counts once."""
        return self._order("/v1/changes", {"changes": changes})


class Fragments(Core):
    """Found, or filled once for all who ask. When the node cannot be reached, everything is filled as if it were not there.

    The words for a fragment are name, parts, version, lifetime, stale, tags and nothing.
    """

    def __init__(self, carrier: wire.Wire, options: Options):
        super().__init__(carrier, options)
        self._lock = threading.Lock()
        self._turns: dict[str, _Turn] = {}
        self._behind: set[threading.Thread] = set()

    def load_or_fill(self, fill: Callable[[], Any], **item: Any) -> Any:
        """Returns a fragment as it is stored, or as fill makes it, which is then stored for everyone."""
        return _done(self._load_or_fill_all([item], lambda _: fill(), fill))[0]

    def of(self, thing: Any, fill: Callable[..., Any]) -> Any:
        """Does the same for a thing with fragment_key and perhaps fragment_tags; fill may take it."""
        item, made = self._of(thing, fill)
        return _done(self._load_or_fill_all([item], lambda _: made(), fill))[0]

    def load_or_fill_all(self, items: Sequence[Item], fill: Callable[[Item], Any]) -> list[Any]:
        """Does the same for many: one trip finds them, those that are missing are filled, one trip stores them."""
        return _done(self._load_or_fill_all(items, fill, fill))

    def load(self, **item: Any) -> Optional[bytes]:
        """A fragment, or None if it is not there, or stale."""
        return self.load_all([item])[0]

    def load_all(self, items: Sequence[Item]) -> list[Optional[bytes]]:
        """Many fragments, None for those that are not there."""
        return _done(self._load_all(items))

    def store(self, value: Any, **item: Any) -> bool:
        """Stores a fragment; False if a purge came between, or the node was not reached."""
        return _done(self._store(value, item))

    def drop(self, **item: Any) -> None:
        """Drops a fragment on every node. Raises Refused or Unreached."""
        self._wire.json("DELETE", self._path(item))

    def settle(self) -> None:
        """Waits for the fills that go on behind callers."""
        for thread in list(self._behind):
            thread.join()

    async def _items(self, what: str, values: list[Any], timeout: float, more: float) -> list[Any]:
        return self._wire.items(what, self._options.namespace, values, timeout, more)

    async def _json(self, method: str, path: str, value: Any) -> Any:
        return self._wire.json(method, path, value)

    async def _pause(self, seconds: float) -> None:
        time.sleep(seconds)

    async def _fill(self, all: list[Wanted], fill: Any) -> None:
        for one in all:
            inner, began = self._inner(one), time.monotonic()
            try:
                with inner:
                    value = fill(one.item)
                one.made(inner, value, began)
            except Exception as error:
                one.error = error

    def _begin(self, work: Coroutine[Any, Any, None]) -> None:
        def run() -> None:
            try:
                _done(work)
            finally:
                self._behind.discard(thread)

        thread = threading.Thread(target=contextvars.copy_context().run, args=(run,), name="gerastic-fill", daemon=True)
        self._behind.add(thread)
        thread.start()

    async def _turn(self, one: Wanted, fill: Any) -> None:
        # One at a time makes what many want. Whoever comes meanwhile gets what the next one makes, which is
        # not older than their asking.
        with self._lock:
            now = self._turns.get(one.key)
            mine = now.next if now else None
            lead = mine is None
            if mine is None:
                mine = _Turn()
                if now:
                    now.next = mine
                else:
                    self._turns[one.key] = mine
        if not lead:
            mine.done.wait()
            one.take(mine.result)
            return
        if now:
            now.done.wait()
        try:
            await self._fill([one], fill)
        finally:
            mine.result = one.result()
            with self._lock:
                if mine.next:
                    self._turns[one.key] = mine.next
                else:
                    del self._turns[one.key]
            mine.done.set()


class _Turn:
    def __init__(self) -> None:
        self.done = threading.Event()
        self.next: Optional[_Turn] = None
        self.result: Any = None


def _done(work: Coroutine[Any, Any, Any]) -> Any:
    """Runs a coroutine whose steps never suspend."""
    try:
        work.send(None)
    except StopIteration as end:
        return end.value
    raise RuntimeError("a step of Gerastic was to be awaited; use gerastic.aio for fills that are async")
