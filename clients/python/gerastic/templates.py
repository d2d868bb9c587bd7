"""Fragments in templates of Jinja2.

    {{ fragment("row.html", parts=[sailing.id], version=sailing.updated, lifetime="1h", sailing=sailing) }}
    {{ fragments("row.html", sailings, each="sailing", parts=["id"], lifetime="1h") }}

A fragment's name is that of its template. The digest of the template's text, and of those within it, is part of the
key, so that an edited block shows at once.
"""

from __future__ import annotations

import hashlib
import inspect
import re
from functools import partial
from typing import Any, Iterable, Optional, Sequence

from jinja2 import Environment, TemplateNotFound, meta, nodes
from markupsafe import Markup

from .items import Item, item_of
from .keys import Time


def functions(fragments: Any, env: Environment) -> dict[str, Any]:
    """The functions fragment and fragments of an environment."""
    digests = _Digests(env)
    is_async = inspect.iscoroutinefunction(fragments.load_or_fill)

    def item(template: str, parts: Sequence[Any], **words: Any) -> Item:
        name = re.sub(r"[^A-Za-z0-9_.-]", ".", template)[:64]
        return {"name": name, "parts": [*parts, digests.of(template)], **{word: value for word, value in words.items() if value is not None}}

    def made(template: str, /, **values: Any) -> Any:
        found = env.get_template(template)
        return found.render_async(**values) if is_async else found.render(**values)

    def fragment(template: str, parts: Sequence[Any] = (), version: Any = None, lifetime: Optional[Time] = None, stale: Optional[Time] = None,
                 tags: Optional[Iterable[str]] = None, **values: Any) -> Any:
        wanted = item(template, parts, version=version, lifetime=lifetime, stale=stale, tags=None if tags is None else list(tags))
        found = fragments.load_or_fill(partial(made, template, **values), **wanted)
        return _marked(found) if is_async else Markup(found)

    def many(template: str, items: Iterable[Any], each: str, parts: Sequence[str] = (), version: Optional[str] = None, lifetime: Optional[Time] = None,
             stale: Optional[Time] = None, tags: Sequence[str] = (), **values: Any) -> Any:
        all = list(items)
        wanted = []
        for one in all:
            said = item_of(one) if hasattr(one, "fragment_key") else {}
            wanted.append(item(template, [*said.get("parts", ()), *(member(one, name) for name in parts)], lifetime=lifetime if lifetime is not None else said.get("lifetime"),
                               version=member(one, version) if version else said.get("version"), stale=stale, tags=[*said.get("tags", ()), *(_filled(tag, one) for tag in tags)]))
        place = {id(words): one for words, one in zip(wanted, all)}
        found = fragments.load_or_fill_all(wanted, lambda words: made(template, **{**values, each: place[id(words)]}))
        return _marked(found) if is_async else Markup("".join(found))

    return {"fragment": fragment, "fragments": many}


async def _marked(coming: Any) -> Markup:
    made = await coming
    return Markup(made if isinstance(made, str) else "".join(made))


def member(thing: Any, path: str) -> Any:
    """A member of a mapping or an object; dots go deeper."""
    for name in path.split("."):
        thing = thing[name] if isinstance(thing, dict) else getattr(thing, name)
    return thing


def _filled(tag: str, thing: Any) -> str:
    return re.sub(r"\{([^}]*)\}", lambda place: str(member(thing, place[1])), tag)


class _Digests:
    """Digests of templates' texts, with those within them."""

    def __init__(self, env: Environment):
        self._env = env
        self._known: dict[str, tuple[list[Any], str]] = {}

    def of(self, template: str) -> str:
        known = self._known.get(template)
        if known is None or (self._env.auto_reload and not all(fresh is None or fresh() for fresh in known[0])):
            checks: list[Any] = []
            texts: dict[str, str] = {}
            self._gather(template, texts, checks)
            digest = hashlib.sha256("".join(f"{name}\0{text}\0" for name, text in sorted(texts.items())).encode()).hexdigest()[:12]
            known = self._known[template] = (checks, digest)
        return known[1]

    def _gather(self, template: str, texts: dict[str, str], checks: list[Any]) -> None:
        if template in texts:
            return
        if self._env.loader is None:
            raise TemplateNotFound(template)
        text, _, fresh = self._env.loader.get_source(self._env, template)
        texts[template] = text
        checks.append(fresh)
        tree = self._env.parse(text)
        within = [name for name in meta.find_referenced_templates(tree) if name]
        for call in tree.find_all(nodes.Call):
            if isinstance(call.node, nodes.Name) and call.node.name in ("fragment", "fragments") and call.args and isinstance(call.args[0], nodes.Const):
                within.append(call.args[0].value)
        for name in within:
            self._gather(name, texts, checks)
