"""Gerastic for asyncio: the same names as in gerastic, awaited; fills may be async."""

from __future__ import annotations

import asyncio
import inspect
import time
from typing import Any, Callable, Coroutine, Iterable, Optional, Sequence

from . import wire
from .core import Core
from .items import Item, Options, Wanted, change_of, order_of
from .scope import purges


class Gerastic:
    """A node of Gerastic, see gerastic.Gerastic."""

    def __init__(self, control: str, token: str, namespace: Optional[str] = None):
        self._wire, self.namespace = wire.Wire(control, token), namespace

    def fragments(self, **options: Any) -> Fragments:
        """The parts of pages that the application makes; parallel is how many fills run side by side (8)."""
        return Fragments(self._wire, Options(self.namespace, **options))

    async def purge(self, *, tags: Iterable[str] = (), urls: Iterable[Any] = (), below: Iterable[str] = (), routes: Iterable[str] = (),
                    hosts: Iterable[str] = (), all: bool = False, mode: str = "drop", reason: str = "") -> Any:
        """Purges on every node, see gerastic.Gerastic.purge."""
        named = {"tags": tags, "urls": urls, "below": below, "routes": routes, "hosts": hosts}
        return await self._order("/v1/purges", order_of(named, all, mode, reason))

    async def _order(self, path: str, order: Any) -> Any:
        try:
            return await asyncio.to_thread(self._wire.json, "POST", path, order)
        finally:
            purges[0] += 1

    async def changed(self, kind: str, before: Any = None, after: Any = None) -> Any:
        """Tells of something that changed, see gerastic.Gerastic.changed."""
        return await self._order("/v1/changes", {"changes": [change_of(kind, before, after)]})


class Fragments(Core):
    """Found, or filled once for all who ask, see gerastic.Fragments."""

    def __init__(self, carrier: wire.Wire, options: Options):
        super().__init__(carrier, options)
        self._turns: dict[str, list[asyncio.Future[Any]]] = {}
        self._behind: set[asyncio.Task[None]] = set()

    async def load_or_fill(self, fill: Callable[[], Any], **item: Any) -> Any:
        """Returns a fragment as it is stored, or as fill makes it."""
        return (await self._load_or_fill_all([item], lambda _: fill(), fill))[0]

    async def of(self, thing: Any, fill: Callable[..., Any]) -> Any:
        """Does the same for a thing with fragment_key and perhaps fragment_tags; fill may take it."""
        item, made = self._of(thing, fill)
        return (await self._load_or_fill_all([item], lambda _: made(), fill))[0]

    async def load_or_fill_all(self, items: Sequence[Item], fill: Callable[[Item], Any]) -> list[Any]:
        """Does the same for many; fills run side by side."""
        return await self._load_or_fill_all(items, fill, fill)

    async def load(self, **item: Any) -> Optional[bytes]:
        """A fragment, or None if it is not there, or stale."""
        return (await self._load_all([item]))[0]

    async def load_all(self, items: Sequence[Item]) -> list[Optional[bytes]]:
        """Many fragments, None for those that are not there."""
        return await self._load_all(items)

    async def store(self, value: Any, **item: Any) -> bool:
        """Stores a fragment; False if a purge came between, or the node was not reached."""
        return await self._store(value, item)

    async def drop(self, **item: Any) -> None:
        """Drops a fragment on every node. Raises Refused or Unreached."""
        await asyncio.to_thread(self._wire.json, "DELETE", self._path(item))

    async def settle(self) -> None:
        """Waits for the fills that go on behind callers."""
        while self._behind:
            await asyncio.gather(*self._behind, return_exceptions=True)

    async def _items(self, what: str, values: list[Any], timeout: float, more: float) -> list[Any]:
        return await asyncio.to_thread(self._wire.items, what, self._options.namespace, values, timeout, more)

    async def _json(self, method: str, path: str, value: Any) -> Any:
        return await asyncio.to_thread(self._wire.json, method, path, value)

    async def _pause(self, seconds: float) -> None:
        await asyncio.sleep(seconds)

    async def _fill(self, all: list[Wanted], fill: Any) -> None:
        places = asyncio.Semaphore(self._options.parallel)  # of these; what a fill loads has its own
        await asyncio.gather(*(asyncio.create_task(self._make(one, fill, places)) for one in all))

    async def _make(self, one: Wanted, fill: Any, places: asyncio.Semaphore) -> None:  # in a task, which has a context of its own
        inner, began = self._inner(one), time.monotonic()
        try:
            async with places:
                with inner:
                    value = fill(one.item)
                    if inspect.isawaitable(value):
                        value = await value
            one.made(inner, value, began)
        except Exception as error:
            one.error = error

    def _begin(self, work: Coroutine[Any, Any, None]) -> None:
        task = asyncio.create_task(work)
        self._behind.add(task)
        task.add_done_callback(self._behind.discard)

    async def _turn(self, one: Wanted, fill: Any) -> None:
        # As in gerastic.client: one at a time, and whoever comes meanwhile gets what the next one makes.
        waiting = self._turns.setdefault(one.key, [])
        if len(waiting) > 1:
            one.take(await asyncio.shield(waiting[1]))
            return
        mine: asyncio.Future[Any] = asyncio.get_running_loop().create_future()
        waiting.append(mine)
        try:
            if waiting[0] is not mine:
                await asyncio.shield(waiting[0])
            await self._fill([one], fill)
        finally:
            waiting.remove(mine)
            if not waiting:
                self._turns.pop(one.key, None)
            if not mine.done():
                mine.set_result(one.result())
