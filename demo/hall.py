"""The displays in the waiting halls: a page of the ferry company in Python, beside the application in Go.

The board that it shows is the one that the application in Go makes, found or made there; the strip above it is its
own, in the same namespace. Both carry their tags into the page.
"""

import html
import json
import os
import sys
import threading
import urllib.error
import urllib.parse
import urllib.request
from socketserver import ThreadingMixIn
from wsgiref.simple_server import WSGIRequestHandler, WSGIServer, make_server

from gerastic import Gerastic
from gerastic.web import Wsgi

SITE = os.environ["OSTREL_SITE"]
fragments = Gerastic(os.environ["OSTREL_CONTROL"], os.environ["OSTREL_TOKEN"]).fragments(timeout="5s")


def ask(path):
    """Asks the application in Go, which counts as work."""
    fragments.did(calls=1)
    with urllib.request.urlopen(SITE + path, timeout=10) as answer:
        return answer.read().decode()


def strip(port):
    """The next ship, large."""
    sailings = json.loads(ask(f"/api/ports/{urllib.parse.quote(port)}/board"))["departures"]
    if not sailings:
        return "<p>Nothing sails in this time.</p>"
    first = sailings[0]
    return f"<p><strong>{html.escape(first['to'])}</strong> {html.escape(first['departs_at'][11:16])}, {html.escape(first['status'])}</p>"


def page(port):
    """The page of a hall."""
    board = fragments.load(name="board", parts=[port])
    shown = board.decode() if board is not None else ask(f"/pieces/board/{urllib.parse.quote(port)}")
    if board is None:
        fragments.tag(f"departures:{port}")
    head = fragments.load_or_fill(lambda: strip(port), name="strip", parts=[port], lifetime="30s", stale="30s", tags=[f"departures:{port}"])
    return f"<!doctype html><html lang=en><meta charset=utf-8><title>{html.escape(port)}</title><main><h1>{html.escape(port)}</h1>{head}{shown}</main></html>"


def application(environ, start):
    port = environ["PATH_INFO"].removeprefix("/hall/")
    try:
        body = page(port)
    except urllib.error.HTTPError as error:
        start(f"{error.code} {error.reason}", [("Content-Type", "text/plain; charset=utf-8"), ("Cache-Control", "max-age=30")])
        return [b"We have no such port."]
    start("200 OK", [("Content-Type", "text/html; charset=utf-8")])
    return [body.encode()]


class Server(ThreadingMixIn, WSGIServer):
    daemon_threads = True


class Quiet(WSGIRequestHandler):
    def log_message(self, *_):
        """Nobody reads it."""


def end_with_parent():
    """The company's other application started this one, and holds its input open for as long as it runs."""
    sys.stdin.read()
    os._exit(0)


threading.Thread(target=end_with_parent, daemon=True).start()
with make_server("127.0.0.1", 0, Wsgi(application, fragments), server_class=Server, handler_class=Quiet) as server:
    print(server.server_port, flush=True)
    server.serve_forever()
