"""What goes into a page, or into a fragment while it is filled."""

from __future__ import annotations

import hashlib
import math
import time
from contextvars import ContextVar
from datetime import datetime, timezone
from email.utils import format_datetime, parsedate_to_datetime
from typing import Any, Iterable, Mapping, Optional, Sequence

from .keys import FOREVER, key_of

#: The page or fragment that is being made, in this thread or task.
current: ContextVar[Optional["Scope"]] = ContextVar("gerastic_scope", default=None)

_MOST_TOLD = 200
_MOST_REPORT = 500
_MOST_KEPT = 1000


#: How many purges this process has ordered: what a page had at hand before one may be old.
purges = [0]


class Found:
    """What a page has of a fragment already."""

    def __init__(self, value: Any, tags: Sequence[str], until: float, stamp: float, stale: bool):
        self.value, self.tags, self.until, self.stamp, self.stale, self.purges = value, tags, until, stamp, stale, purges[0]


class Scope:
    """Collects tags, the shortest life, the fragments and the work of a page, or of a part of one.

    As a context manager it is what fragments are noted in: ``with f.page() as page: …``.
    """

    def __init__(self, outer: Optional["Scope"] = None, fragment: bool = False, depth: int = 0, request_headers: Optional[Mapping[str, str]] = None):
        self.tags: dict[str, None] = {}
        self.parts: dict[str, None] = {}
        self.until = math.inf  # end of the shortest life in it, in seconds since 1970
        self.stamp = math.inf  # lowest ledger sequence that what is in it was found at
        self.holds = False  # there are fragments in it, so that until and stamp say something
        self.fragment, self.depth = fragment, depth
        self.report: list[dict[str, Any]] = outer.report if outer else []
        self.found: dict[str, Found] = outer.found if outer else {}  # in this page
        self.work: dict[str, float] = {}
        self.not_modified = False  # the visitor has the page already
        self._request_headers = request_headers
        self._validators: dict[str, str] = {}
        self._tokens: list[Any] = []

    def begin(self) -> dict[str, Any]:
        """A place in the report for a fragment of this."""
        told: dict[str, Any] = {"key": "", "depth": self.depth + 1}  # as long as it has not ended
        if len(self.report) < _MOST_REPORT:
            self.report.append(told)
        return told

    def keep(self, key: str, found: Found) -> None:
        """Has what was found or made at hand for the rest of the page."""
        if len(self.found) < _MOST_KEPT:
            self.found[key] = found

    def did(self, **amounts: float) -> None:
        """Counts what it took to make this: page.did(queries=1, rows=20)."""
        for name, amount in amounts.items():
            self.work[name] = self.work.get(name, 0) + amount

    def __enter__(self) -> "Scope":
        self._tokens.append(current.set(self))
        return self

    def __exit__(self, *_: Any) -> None:
        current.reset(self._tokens.pop())

    def tag(self, *tags: str) -> None:
        """Notes that what is made here shows these things."""
        for tag in tags:
            if not isinstance(tag, str) or not tag:
                raise ValueError(f"a tag is a text of 1 to 1024 bytes; {tag!r} is none")
            self.tags[tag] = None

    def hold(self, name: str, tags: Iterable[str], until: float, stamp: float) -> None:
        """Takes the contents of a fragment over."""
        for tag in tags:
            self.tags[tag] = None
        self.parts[name] = None
        self.until, self.stamp, self.holds = min(self.until, until), min(self.stamp, stamp), True

    def unchanged(self, request_headers: Optional[Mapping[str, str]] = None, modified: Optional[datetime] = None, parts: Sequence[Any] = ()) -> bool:
        """Reports whether the visitor has the page already, by when what it shows changed and what else it depends on.

        Then the answer is 304 with headers(). The page carries the validators in any case. Behind the middleware of
        gerastic.web the request's headers are known, and the answer becomes a 304 of itself.
        """
        given = request_headers if request_headers is not None else self._request_headers
        if given is None:
            raise ValueError("unchanged needs the headers of the request")
        self.not_modified = self._same(given, modified, parts)
        return self.not_modified

    def _same(self, request_headers: Mapping[str, str], modified: Optional[datetime], parts: Sequence[Any]) -> bool:
        if modified is None and not parts:
            raise ValueError("unchanged needs to know what the page depends on: modified, parts, or both")
        if modified is not None and modified.tzinfo is None:
            raise ValueError("modified is a time without a time zone; use datetime.now(timezone.utc)")
        etag = '"' + hashlib.sha256(key_of("page", parts, modified).encode()).hexdigest()[:32] + '"'
        self._validators = {"ETag": etag}
        if modified is not None:
            self._validators["Last-Modified"] = format_datetime(modified.astimezone(timezone.utc).replace(microsecond=0), usegmt=True)
        given = {name.lower(): value for name, value in request_headers.items()}
        if "if-none-match" in given:
            names = [name.strip() for name in given["if-none-match"].split(",")]
            return "*" in names or any(name[2:] == etag if name.startswith("W/") else name == etag for name in names)
        if modified is None or parts or "if-modified-since" not in given:
            return False  # a date does not tell the parts
        try:
            since = parsedate_to_datetime(given["if-modified-since"])
        except (TypeError, ValueError):
            return False
        return since.tzinfo is not None and math.floor(modified.timestamp()) <= since.timestamp()

    def headers(self) -> dict[str, str]:
        """The headers with which the page tells the edge, and Server-Timing, what is in it."""
        out = dict(self._validators)
        if self.work:
            out["Gerastic-Work"] = ", ".join(f"{name}={amount:.3f}".rstrip("0").rstrip(".") for name, amount in self.work.items())
        if self.tags:
            out["Cache-Groups"] = ", ".join(map(quoted, self.tags))
        if self.holds:
            left = FOREVER if self.until == math.inf else max(0.0, self.until - time.time())
            out["Gerastic-Life"] = f"{math.floor(left * 1000) / 1000:.3f}" + ("" if self.stamp == math.inf else f";as-of={int(self.stamp)}")
        items = [item for item in self.report if item["key"]]
        if items:
            out["Gerastic-Parts"] = ", ".join(map(_told, items[:_MOST_TOLD]))
            words = ("reused", "stale", "waited", "filled", "alone")
            sums = ", ".join(f"{n} {word}" for word in words if (n := sum(item["found"] == word for item in items)))
            longest = max((item["took"] for item in items if item["depth"] == 1), default=0.0)
            out["Server-Timing"] = f'fragments;desc="{sums}";dur={longest:.1f}'
        return out


def _told(item: dict[str, Any]) -> str:
    age = f";age={int(item['age'])}" if item["found"] in ("reused", "stale") else ""
    return f"{quoted(item['key'])};found={item['found']};depth={item['depth']};took={item['took']:.3f}{age}"


def quoted(text: str) -> str:
    """Writes a string of a structured field, or a display string if it is not ASCII (RFC 9651)."""
    if all(" " <= c <= "~" for c in text):
        return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'
    return '%"' + "".join(f"%{b:02x}" if b < 0x20 or b > 0x7E or b in (0x22, 0x25) else chr(b) for b in text.encode()) + '"'
