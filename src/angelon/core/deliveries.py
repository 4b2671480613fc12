"""A delivery taken apart: what it is called, what happened, and the event or events in it."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any
from urllib.parse import unquote

from angelon.core.payload.body import NotReadable, media_type, parse_body, surely_readable
from angelon.core.payload.paths import MISSING, BadPath, compile_path
from angelon.core.problems import Problem
from angelon.core.specs.source import Locator, Source

UNNAMED = "unnamed"
"""The name of an event whose delivery does not say what happened."""

STATED = "order"
"""The name of an event that says how an order is, where nothing else names it."""
QUIET = "order, told to nobody"
"""The name of an event that only takes an order in: no route hears of what follows from it."""
BY_STATE = (STATED, QUIET)
"""The names of events that need no meaning: what happened follows from how the order was."""

CLOUD_ATTRIBUTES = ("id", "source", "type", "subject", "time", "specversion", "dataschema", "datacontenttype")


@dataclass(frozen=True, slots=True)
class Received:
    """One event of a delivery. `type` is ours; empty where the source does not say what its name means."""

    payload: Any
    name: str
    type: str
    delivery_id: str
    """What the store calls it; empty where it does not."""


def read_delivery(source: Source, headers: Mapping[str, str], raw: bytes, with_payload: bool = True) -> list[Received]:
    """The events in a delivery. `headers` has lower-case names. Raises NotReadable with the problem and the status.

    Without `with_payload` the payload may be None: where name and id stand in headers, and the body is JSON for sure.
    """
    if not with_payload and _by_headers(source) and surely_readable(raw, headers.get("content-type")):
        batch: list[Any] = [None]
    else:
        batch = split(source, cloud_event(headers, parse_body(raw, headers.get("content-type"))))
    found = []
    for number, item in enumerate(batch):
        name = locate(source.event_name, headers, item) or (STATED if source.tells == "orders" else UNNAMED)
        delivery = locate(source.delivery_id, headers, item) or ""
        if delivery and len(batch) > 1 and not source.delivery_id.path:
            delivery = f"{delivery}#{number}"
        found.append(Received(item, name[:200], source.event_names.get(name, ""), delivery[:200]))
    return found


def _by_headers(source: Source) -> bool:
    """Whether no event's name or id stands in the payload."""
    return not (source.orders_at or source.event_name.path or source.delivery_id.path)


def digest(raw: bytes) -> str:
    """What a body is known by: the first 40 hexadecimal digits of its SHA-256."""
    return hashlib.sha256(raw).hexdigest()[:40]


def split(source: Source, payload: Any) -> list[Any]:
    """The payload itself, or each of the orders at `orders_at`. CloudEvents batches are lists by their form."""
    if not source.orders_at:
        return [payload]
    try:
        items = compile_path(source.orders_at).find(payload)
    except BadPath as error:
        raise NotReadable(error.problem, 400) from None
    if items is MISSING or not isinstance(items, list):
        raise NotReadable(
            Problem(
                "body",
                f"There is no list at {source.orders_at}, where this source's orders stand.",
                "Check the path on the source's page.",
            ),
            400,
        )
    if not items:
        raise NotReadable(Problem("body", f"The list at {source.orders_at} is empty.", "There is nothing to do."), 400)
    if len(items) > 1000:
        raise NotReadable(
            Problem(
                "body",
                f"The delivery holds {len(items):,} orders; at most 1,000 are taken at once.",
                "Send fewer at a time.",
            ),
            400,
        )
    return items


def cloud_event(headers: Mapping[str, str], body: Any) -> Any:
    """A CloudEvents 1.0 event in its structured form; anything else as it came.

    In binary mode (HTTP binding, section 3.1) the attributes are headers, percent-encoded (3.1.3.2), and the body is
    the data; here both modes look the same to a path.
    """
    if media_type(headers.get("content-type")) == "application/cloudevents+json" or "ce-specversion" not in headers:
        return body
    attributes = {name.removeprefix("ce-"): unquote(value) for name, value in headers.items() if name.startswith("ce-")}
    return {**attributes, "datacontenttype": headers.get("content-type", ""), "data": body}


def locate(locator: Locator, headers: Mapping[str, str], payload: Any) -> str:
    """The text that a locator points at; empty where nothing is."""
    if locator.fixed:
        return locator.fixed
    if locator.header:
        return storable_text(headers.get(locator.header.lower(), "").strip())
    if not locator.path:
        return ""
    try:
        found = compile_path(locator.path).find(payload)
    except BadPath:
        return ""
    if found is MISSING or found is None or isinstance(found, dict | list):
        return ""
    return storable_text(str(found).strip())


def storable_text(text: str) -> str:
    """Text as any database takes it: without NUL and half surrogates, which stand as the replacement character."""
    if text.isascii() and "\x00" not in text:
        return text
    return text.replace("\x00", "\ufffd").encode("utf-8", "replace").decode()


SECRET_HEADERS = (
    "authorization",
    "cookie",
    "proxy-authorization",
    "x-api-key",
    "token",
    "secret",
    "signature",
    "password",
)


def without_secrets(headers: Mapping[str, str]) -> dict[str, str]:
    """Headers fit to be kept and shown: the value of any that could hold a credential is blotted out."""
    return {
        name[:100]: "•••" if _holds_secret(name) else storable_text(value[:500])
        for name, value in list(headers.items())[:60]
    }


@lru_cache(maxsize=1024)
def _holds_secret(name: str) -> bool:
    return any(word in name.lower() for word in SECRET_HEADERS)
