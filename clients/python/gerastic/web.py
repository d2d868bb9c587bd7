"""Middleware that tells the edge what is in a page, and answers early with 304.

    application = gerastic.web.Wsgi(application, fragments)   # or Asgi

The page is environ["gerastic.page"], or scope["gerastic.page"]: after ``page.unchanged(modified=…)`` reported True the
application returns anything, and the answer is a 304. Pages of text and JSON are held until they are whole, since only
then it is known what is in them; anything else passes as it comes.
"""

from __future__ import annotations

from typing import Any, Iterable, Optional

from .scope import Scope

_HELD = ("text/html", "text/plain", "text/xml", "application/json", "application/xml", "application/xhtml+xml", "application/rss+xml", "application/atom+xml")


def _completed(page: Scope, status: int, headers: list[tuple[str, str]]) -> tuple[int, list[tuple[str, str]]]:
    """The status and the headers of a page that is whole."""
    if status == 200 and page.not_modified:
        headers = [(name, value) for name, value in headers if name.lower() not in ("content-length", "content-type", "content-encoding")]
        status = 304
    told = page.headers()
    if status not in (200, 304):
        told = {name: value for name, value in told.items() if name not in ("ETag", "Last-Modified")}
    headers = [(name, value) for name, value in headers if name not in told or name in ("Server-Timing", "Cache-Groups")]
    return status, headers + list(told.items())


class Wsgi:
    """An application of WSGI (PEP 3333) whose pages tell what is in them."""

    def __init__(self, application: Any, fragments: Any):
        self._application, self._fragments = application, fragments

    def __call__(self, environ: dict[str, Any], start_response: Any) -> Iterable[bytes]:
        page = self._fragments.page({name[5:].replace("_", "-"): value for name, value in environ.items() if name.startswith("HTTP_")})
        environ["gerastic.page"] = page
        began: list[Any] = []
        written: list[bytes] = []

        def start(status: str, headers: list[tuple[str, str]], exc_info: Any = None) -> Any:
            began[:] = [status, headers, exc_info]
            return written.append

        with page:
            body = self._application(environ, start)
            chunks = iter(body)
            first = next(chunks, b"")  # an application may begin its answer only now
            kind = next((value for name, value in began[1] if name.lower() == "content-type"), "") if began else ""
            if not kind.split(";")[0].strip().lower() in _HELD and not page.not_modified:
                start_response(*began)
                return _Passing(body, [*written, first], chunks)
            try:
                whole = b"".join([*written, first, *chunks])
            finally:
                if hasattr(body, "close"):
                    body.close()
        code, headers = _completed(page, int(began[0].split(" ", 1)[0]), began[1])
        if code == 304:
            start_response("304 Not Modified", headers, began[2])
            return []
        start_response(began[0], headers, began[2])
        return [whole]


class _Passing:
    """An answer that passes as it comes."""

    def __init__(self, body: Any, first: list[bytes], rest: Any):
        self._body, self._first, self._rest = body, first, rest

    def __iter__(self) -> Any:
        yield from (chunk for chunk in self._first if chunk)
        yield from self._rest

    def close(self) -> None:
        if hasattr(self._body, "close"):
            self._body.close()


class Asgi:
    """An application of ASGI 3 whose pages tell what is in them."""

    def __init__(self, application: Any, fragments: Any):
        self._application, self._fragments = application, fragments

    async def __call__(self, scope: dict[str, Any], receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            await self._application(scope, receive, send)
            return
        page = self._fragments.page({name.decode("latin-1"): value.decode("latin-1") for name, value in scope["headers"]})
        held = _Held(page, send)
        with page:
            await self._application({**scope, "gerastic.page": page}, receive, held)


class _Held:
    """Takes an answer's messages, and hands them on when it is whole."""

    def __init__(self, page: Scope, send: Any):
        self._page, self._send = page, send
        self._start: Optional[dict[str, Any]] = None
        self._chunks: list[bytes] = []
        self._passes = False

    async def __call__(self, message: dict[str, Any]) -> None:
        if message["type"] == "http.response.start":
            headers = {name.decode("latin-1").lower(): value.decode("latin-1") for name, value in message.get("headers", [])}
            self._passes = headers.get("content-type", "").split(";")[0].strip().lower() not in _HELD and not self._page.not_modified
            self._start = message
        if self._passes or self._start is None or message["type"] not in ("http.response.start", "http.response.body"):
            await self._send(message)
            return
        if message["type"] == "http.response.start":
            return
        self._chunks.append(message.get("body", b""))
        if message.get("more_body"):
            return
        status, headers = _completed(self._page, self._start["status"], [(name.decode("latin-1"), value.decode("latin-1")) for name, value in self._start.get("headers", [])])
        await self._send({**self._start, "status": status, "headers": [(name.encode("latin-1"), value.encode("latin-1")) for name, value in headers]})
        await self._send({"type": "http.response.body", "body": b"" if status == 304 else b"".join(self._chunks)})
