"""The whole set-up as a bundle: read, tried, applied."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from typing import Any

from flask import request
from pydantic import ConfigDict

from angelon.client import models
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.specs import Bundle
from angelon.core.specs.bundle import bundle_of
from angelon.db.setup import bundles
from angelon.engine.operations import bundles as operations
from angelon.web.api.operation import Answer, Refused, operation
from angelon.web.services import actor, read_anew, services, session, store_id


class AnyBundle(models.Model):
    """A bundle: see docs/bundle.schema.json."""

    model_config = ConfigDict(extra="allow")


def _current() -> tuple[dict[str, Any], str]:
    """The set-up and its entity tag (RFC 9110, section 8.8.3)."""
    bundle = bundles.export(session(), store_id())
    return bundle.plain(), f'"{operations.tag_of(bundle)}"'


@operation("GET", "/setup", "setup.read", "Read the set-up", AnyBundle)
def read_setup() -> Answer:
    """What is live, as a bundle, without secrets; `ETag` names this state of it."""
    bundle, etag = _current()
    return Answer(AnyBundle.model_validate(bundle), {"ETag": etag})


@operation(
    "PUT",
    "/setup",
    "setup.write",
    "Apply a set-up",
    models.SetupChanged,
    query=models.SetupQuery,
    body=AnyBundle,
    refusals=(412,),
    headers=("If-Match",),
)
def apply_setup(query: models.SetupQuery, body: AnyBundle) -> Answer:
    """Creates or updates everything in a bundle and publishes it, all or nothing; what the bundle does not name stays,
    so that it may be a part of one: a route alone, without its gateway, message and store.
    With `dry_run` it says what would change, and changes nothing. With `If-Match` it is applied only where the set-up
    is still the one that had this `ETag`.
    """
    return _apply(lambda _: body.model_dump(exclude_unset=True), query.dry_run, _wanted())


def _wanted() -> list[str]:
    """The ETags of If-Match (RFC 9110, section 13.1.1), of which one has to be the present one: none for `*`, and where
    it is not sent. A weak one, and what is none, is never the present one.
    """
    given = request.headers.get("If-Match")
    return [] if given is None or given.strip() == "*" else [one.strip() for one in given.split(",")]


STALE = "The set-up is no more the one that had this ETag. Read it anew."
TRIES = 5
"""How often a part is applied anew where the rest was changed meanwhile."""


def _apply(data_of: Callable[[Bundle], dict[str, Any]], dry_run: bool, wanted: list[str]) -> Answer:
    """Applies what is made of the set-up as it is read; made anew where that was changed before it was applied."""
    for left in reversed(range(TRIES)):
        current = bundles.export(session(), store_id())
        bundle = bundle_of(data_of(current), current)
        if bundle.store.key != current.store.key:
            own = current.store.key
            what = f"The bundle is of the store “{bundle.store.key}”, and this token belongs to “{own}”."
            raise Invalid([Problem("store.key", what, f"Write {own}, or take a token of the other store.")])
        only_if = operations.tag_of(current)
        if wanted and f'"{only_if}"' not in wanted:
            raise Refused(412, "Changed meanwhile", STALE)
        try:
            made = operations.apply(services().installation, bundle, actor(), dry_run=dry_run, only_if=only_if)
        except operations.Stale:
            if not wanted and left:
                read_anew()
                continue
            raise Refused(412, "Changed meanwhile", STALE) from None
        break
    read_anew()
    changed = models.SetupChanged(
        dry_run=dry_run,
        changes=made.changes,
        differences=made.differences,
        lacking=made.lacking,
        left_off=made.left_off,
        etag=_current()[1],
    )
    return Answer(changed, {"ETag": changed.etag})


PARTS = {"sources": "key", "variables": "name", "gateways": "key", "messages": "key", "routes": "key"}
"""The parts of a set-up that are read and written one by one, and what each is named by."""


class AnyPart(models.Model):
    """A source, variable, gateway, message or route: see docs/bundle.schema.json. A route has `on` besides."""

    model_config = ConfigDict(extra="allow")


class Part(models.Model):
    key: str
    name: str


class Parts(models.Model):
    items: list[Part]


def _tag(part: dict[str, Any]) -> str:
    return f'"{hashlib.sha256(json.dumps(part, sort_keys=True, default=str).encode()).hexdigest()[:32]}"'


def _parts(bundle: Bundle, kind: str) -> dict[str, dict[str, Any]]:
    """The parts of a kind as plain data, by what names each. Raises NotFound."""
    if kind not in PARTS:
        raise NotFound(f"A set-up has {', '.join(PARTS)}, and no “{kind[:40]}”.")
    found = {getattr(one, PARTS[kind]): one.plain() for one in getattr(bundle, kind)}
    return {key: one | {"on": key in bundle.live} if kind == "routes" else one for key, one in found.items()}


@operation("GET", "/setup/{part}", "setup.read", "List sources, variables, …", Parts, refusals=(404,))
def list_parts(part: str) -> Parts:
    """What there is of `sources`, `variables`, `gateways`, `messages` or `routes`, as it is live."""
    found = _parts(bundles.export(session(), store_id()), part)
    return Parts(items=[Part(key=key, name=str(one.get("name") or key)) for key, one in found.items()])


@operation("GET", "/setup/{part}/{key}", "setup.read", "Read a source, variable, …", AnyPart, refusals=(404,))
def read_part(part: str, key: str) -> Answer:
    """One of them as it is live, without secrets; `ETag` names this state of it."""
    found = _parts(bundles.export(session(), store_id()), part).get(key)
    if found is None:
        raise NotFound(f"There is no “{key[:60]}” among the {part}.")
    return Answer(AnyPart.model_validate(found), {"ETag": _tag(found)})


@operation(
    "PUT",
    "/setup/{part}/{key}",
    "setup.write",
    "Write a source, variable, …",
    models.SetupChanged,
    query=models.SetupQuery,
    body=AnyPart,
    refusals=(404, 412),
    headers=("If-Match",),
)
def write_part(part: str, key: str, query: models.SetupQuery, body: AnyPart) -> Answer:
    """Creates or replaces one of them and publishes it. `on` switches a route on or off; without it a route stays as it
    is, and a new one is off. With `If-Match` only where it is still the one that had this `ETag`.
    """
    given, wanted = body.model_dump(exclude_unset=True), _wanted()

    def made(current: Bundle) -> dict[str, Any]:
        there = _parts(current, part).get(key)
        must_be = request.headers.get("If-Match") is not None
        if must_be and (there is None or (wanted and _tag(there) not in wanted)):
            raise Refused(412, "Changed meanwhile", "It is no more the one that had this ETag. Read it anew.")
        spec = {name: value for name, value in given.items() if part != "routes" or name != "on"}
        data: dict[str, Any] = {part: [spec | {PARTS[part]: key}]}
        on = given.get("on", bool(there and there.get("on")))
        return data | {"live": [key] if on else []} if part == "routes" else data

    return _apply(made, query.dry_run, [])
