"""Does what the conformance suite says, in lines of JSON; see clients/conformance. With --aio through asyncio."""

import asyncio
import inspect
import json
import os
import sys
import time
from datetime import datetime

sys.path.insert(0, os.path.join(os.path.dirname(__file__), ".."))
import gerastic.aio  # noqa: E402
from gerastic import cbor, key_of  # noqa: E402
from gerastic.keys import seconds  # noqa: E402
from gerastic.scope import Scope, quoted  # noqa: E402

filled = 0


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


aio = "--aio" in sys.argv
asyncio.run(main(sys.argv[1], sys.argv[2], gerastic.aio if aio else gerastic, aio))
