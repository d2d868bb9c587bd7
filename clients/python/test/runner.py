"""Does what the conformance suite says, in lines of JSON; see clients/conformance. With --aio through asyncio."""

import asyncio
import http.client
import inspect
import json
import logging
import os
import sys
import time
from datetime import datetime, timezone

sys.path.insert(0, os.path.join(os.path.dirname(__file__), ".."))
import jinja2  # noqa: E402

import gerastic.aio  # noqa: E402
import gerastic.web  # noqa: E402
from gerastic import cbor, key_of  # noqa: E402
from gerastic.keys import seconds  # noqa: E402
from gerastic.scope import Scope, quoted  # noqa: E402

filled = 0
warned = []


class Warned(logging.Handler):
    def emit(self, record):
        warned.append(record.getMessage())


class Thing:
    def __init__(self, key, tags):
        self.key, self.tags = key, tags

    def fragment_key(self):
        return self.key

    def fragment_tags(self):
        return self.tags


def application(f):
    """An application of the page that the suite asks for."""

    def page_of(page):
        if page.unchanged(modified=datetime(2026, 5, 17, 6, tzinfo=timezone.utc), parts=[1]):
            return ""
        page.did(queries=3)
        return None

    def wsgi(environ, start):
        start("200 OK", [("Content-Type", "text/html")])
        if (early := page_of(environ["gerastic.page"])) is not None:
            return [early.encode()]
        return [f.load_or_fill(lambda: "body", name="web", lifetime="1h", tags=["web"]).encode()]

    async def asgi(scope, receive, send):
        early = page_of(scope["gerastic.page"])
        await send({"type": "http.response.start", "status": 200, "headers": [(b"content-type", b"text/html")]})
        body = early if early is not None else await f.load_or_fill(lambda: "body", name="web", lifetime="1h", tags=["web"])
        await send({"type": "http.response.body", "body": body.encode()})

    return wsgi, asgi


async def request(f, is_async, headers):
    """Sends a request through the middleware."""
    wsgi, asgi = application(f)
    if is_async:
        said = []

        async def send(message):
            said.append(message)

        await gerastic.web.Asgi(asgi, f)({"type": "http", "headers": [(name.lower().encode(), value.encode()) for name, value in headers.items()]}, None, send)
        return {"status": said[0]["status"], "headers": {name.decode(): value.decode() for name, value in said[0]["headers"]}, "body": said[1]["body"].decode()}
    began = []
    environ = {"REQUEST_METHOD": "GET", **{"HTTP_" + name.upper().replace("-", "_"): value for name, value in headers.items()}}
    body = b"".join(gerastic.web.Wsgi(wsgi, f)(environ, lambda *what: began.extend(what)))
    return {"status": int(began[0][:3]), "headers": dict(began[1]), "body": body.decode()}


async def bench(g, f, ask):
    """Times calls, in microseconds each: a bare exchange of the same bytes, one fragment found, a hundred in one trip, and one by one."""
    items = [{"name": "bench", "parts": [i], "lifetime": "1h"} for i in range(100)]
    await maybe(f.load_or_fill_all(items, lambda item: "x" * 400))
    connection = http.client.HTTPConnection(*ask["control"].removeprefix("http://").split(":"))
    body = cbor.encode({"keys": ["bench(0)"], "have": [""], "wait": 2000.0, "lease": 30000.0, "details": True})

    def bare():
        connection.request("POST", "/v1/fragments/lookup", body=body, headers={"Authorization": "Bearer " + ask["token"], "Content-Type": "application/cbor-seq"})
        connection.getresponse().read()

    async def each():
        for item in items:
            await maybe(f.load_or_fill(lambda: "", **item))

    calls = {"bare": bare, "one": lambda: f.load_or_fill(lambda: "", **items[0]), "hundred": lambda: f.load_or_fill_all(items, lambda item: ""), "each": each}
    took = {name: [] for name in calls}
    for _ in range(ask["rounds"]):
        for name, call in calls.items():
            n = 1 if name == "each" else 50
            began = time.perf_counter()
            for _ in range(n):
                await maybe(call())
            took[name].append((time.perf_counter() - began) / n * 1e6)
    return {name: sorted(all)[len(all) // 2] for name, all in took.items()}


async def rendered(f, ask):
    """Renders a page of rows, with their template as it is asked for."""
    rows = [{"id": i} for i in range(ask["rows"])]
    texts = {"page": '{{ fragments("row", rows, each="row", parts=["id"], lifetime="1h", tags=["row:{id}"]) }}', "row": "<li>{{ row.id }}" + ask["edition"] + "</li>"}
    is_async = inspect.iscoroutinefunction(f.load_or_fill)
    env = f.templates(jinja2.Environment(loader=jinja2.DictLoader(texts), autoescape=True, enable_async=is_async))
    before = f.counts()["filled"]
    html = await env.get_template("page").render_async(rows=rows) if is_async else env.get_template("page").render(rows=rows)
    return {"html": html, "filled": f.counts()["filled"] - before}


def read(v):
    if isinstance(v, list):
        return [read(one) for one in v]
    if not isinstance(v, dict):
        return v
    if "time" in v:
        return datetime.fromisoformat(v["time"].replace("Z", "+00:00").replace(".12", ".120000"))
    if "hex" in v:
        return bytes.fromhex(v["hex"])
    if "long" in v:
        return "x" * v["long"]
    if "map" in v:
        return {name: read(value) for name, value in v["map"]}
    return [] if "list" in v else v


def shown(v):
    if isinstance(v, bytes):
        return {"hex": v.hex()}
    if isinstance(v, list):
        return [shown(one) for one in v]
    return {"map": [[name, shown(value)] for name, value in v.items()]} if isinstance(v, dict) else v


def item(given):
    return {name: read(value) if name in ("parts", "version") else value for name, value in given.items()}


def text(value):
    return value.decode() if isinstance(value, bytes) else value


async def maybe(value):
    return await value if inspect.isawaitable(value) else value


async def do(g, f, is_async, ask):
    global filled
    what = ask["do"]
    if what == "key":
        return {"key": key_of(ask["name"], read(ask.get("parts", [])), read(ask.get("version")))}
    if what == "seconds":
        return {"seconds": seconds(ask["time"])}
    if what == "encode":
        return {"hex": cbor.encode(read(ask["value"])).hex()}
    if what == "decode":
        return {"value": shown(cbor.decode_all(bytes.fromhex(ask["hex"]))[0])}
    if what == "quoted":
        return {"field": quoted(ask["text"])}
    if what == "unchanged":
        page = Scope()
        modified = read({"time": ask["modified"]}) if ask.get("modified") else None
        return {"unchanged": page.unchanged(ask.get("headers", {}), modified=modified, parts=read(ask.get("parts", []))), "headers": page.headers()}
    if what == "fill":
        before = filled

        def made():
            global filled
            filled += 1
            time.sleep(ask.get("sleep_ms", 0) / 1000)
            if ask.get("fail"):
                raise RuntimeError(ask["fail"])
            return ask["body"]

        def fill():
            if not ask.get("inner"):
                return made()
            inner = f.load_or_fill(lambda: "inner", **item(ask["inner"]))
            return made() + text(inner)

        async def fill_async():
            inner = text(await f.load_or_fill(lambda: "inner", **item(ask["inner"]))) if ask.get("inner") else ""
            return await asyncio.to_thread(made) + inner

        with f.page() as page:
            value = await maybe(f.load_or_fill(fill_async if is_async else fill, **item(ask["item"])))
        return {"value": text(value), "filled": filled - before, "headers": page.headers()}
    if what == "many":
        before = filled

        def one(given):
            global filled
            filled += 1
            return f"{given['name']}{given['parts'][0]}"

        values = await maybe(f.load_or_fill_all([item(given) for given in ask["items"]], one))
        return {"values": [text(value) for value in values], "filled": filled - before}
    if what == "thing":
        return {"value": text(await maybe(f.of(Thing(item(ask["item"]), ask["tags"]), lambda thing: f"of {thing.tags[0]}")))}
    if what == "twice":
        before = filled
        with f.page() as once:
            for again in range(2):
                if again and ask.get("purge"):
                    await maybe(g.purge(tags=["other"]))
                value = await maybe(f.load_or_fill(lambda: "once", **item(ask["item"])))
        return {"value": text(value), "report": once.headers()["Server-Timing"]}
    if what == "nothing":
        return {"value": await maybe(f.load_or_fill(lambda: None, **item(ask["item"])))}
    if what == "clash":
        checked = g.fragments(check=1)
        for language in ask["bodies"]:
            await maybe(checked.load_or_fill(lambda: f"in {language}", **item(ask["item"])))
        await maybe(checked.settle())
        return {}
    if what == "copied":
        checked = g.fragments(check=1)
        await maybe(checked.load_or_fill(lambda: "one" + "text", name="copied", lifetime="1h"))
        await maybe(checked.load_or_fill(lambda: "another" + "text", name="copied", parts=[2], lifetime="1h"))
        await maybe(checked.load_or_fill(lambda: "same" + str(1), name="same", parts=[1], lifetime="1h"))
        await maybe(checked.load_or_fill(lambda: "same" + str(2), name="same", parts=[2], lifetime="1h"))
        return {}
    if what == "work":
        def worked():
            f.did(queries=2, rows=10)
            return "worked"

        return {"value": text(await maybe(f.load_or_fill(worked, **item(ask["item"]))))}
    if what == "request":
        return await request(f, is_async, ask.get("headers", {}))
    if what == "bench":
        return await bench(g, f, ask)
    if what == "page":
        return await rendered(f, ask)
    if what == "warned":
        lines, warned[:] = list(warned), []
        return {"lines": lines}
    if what == "load":
        return {"value": text(await maybe(f.load(**item(ask["item"]))))}
    if what == "store":
        return {"stored": await maybe(f.store(ask["body"], **item(ask["item"])))}
    if what == "drop":
        await maybe(f.drop(**item(ask["item"])))
        return {}
    if what == "purge":
        await maybe(g.purge(**ask["order"]))
        return {}
    if what == "settle":
        await maybe(f.settle())
        return {}
    return {"counts": f.counts()}


async def main(control, token, kind, is_async):
    g = kind.Gerastic(control, token)
    f = g.fragments(wait="2s")
    loop = asyncio.get_running_loop()
    while line := await loop.run_in_executor(None, sys.stdin.readline) if is_async else sys.stdin.readline():
        try:
            answer = await do(g, f, is_async, json.loads(line))
        except Exception as error:
            answer = {"error": str(error)}
        print(json.dumps(answer), flush=True)


logging.getLogger("gerastic").addHandler(Warned())
logging.getLogger("gerastic").propagate = False
aio = "--aio" in sys.argv
asyncio.run(main(sys.argv[1], sys.argv[2], gerastic.aio if aio else gerastic, aio))
