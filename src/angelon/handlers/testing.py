"""Handlers in the author's own tests: an event from a captured delivery, a call with nothing behind it.

    from angelon.handlers.testing import event, run
    from collection import ready_at_the_workshop

    def test_regulars_get_longer():
        asked = run(ready_at_the_workshop, event("payloads/wb-126.http", source="workbench", orders=4))
        assert [(send.message, send.by) for send in asked.sends] == [("ready-to-collect", "email")]

The delivery is read as the source of a bundle maps it (`angelon export --to FOLDER`): the bundle is `setup=`, else what
ANGELON_BUNDLE names, else `angelon.yaml` in this folder or one above. No server and no database are needed.
"""

from __future__ import annotations

import datetime as dt
import os
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from types import SimpleNamespace
from typing import Any

from angelon.handlers import Event, Handler, Outbox
from angelon.handlers.wire import event_from, pack, unpack

BUNDLES = ("angelon.yaml", "bundle.yaml")


@dataclass(frozen=True)
class Asked:
    """What a handler has asked for: each of `sends` with message, to, by, gateway, after, values and line."""

    sends: list[SimpleNamespace]
    skip: str
    derive: list[str]
    tags: dict[str, bool]
    """Tags of the customer that are set (True) or taken off."""


def run(handler: Handler, event: Event) -> Asked:
    """Calls a handler; gives what it asks for. What it raises is raised."""
    outbox = Outbox()
    handler(event, outbox)
    asked = outbox._taken()
    sends = []
    for send in asked["sends"]:
        values = unpack(pack(send["values"]))  # raises what Angelon would refuse
        sends.append(SimpleNamespace(**{**send, "values": values}))
    return Asked(sends, asked["skip"], list(asked["derive"]), dict(asked["tags"]))


def event(
    delivery: str | Path | Mapping[str, Any],
    *,
    source: str,
    type: str = "",
    was: str = "",
    now: str = "",
    orders: int = 1,
    tags: tuple[str, ...] = (),
    values: Mapping[str, Any] | None = None,
    at: dt.datetime | None = None,
    setup: str | Path | None = None,
) -> Event:
    """An event from a captured delivery: a file of JSON, an .http file with its headers, or the JSON itself.

    `type` is the event's type, else what the source names it; `was` and `now` are for a change of status. `orders` is
    how many the person has placed, `tags` what they are marked with. `values` stand in place of mapped
    variables. `at` is when it came (aware). Raises ValueError where it can't be read, saying why.
    """
    from angelon.core.deliveries import read_delivery
    from angelon.core.payload.body import NotReadable
    from angelon.core.planning.inputs import Setup
    from angelon.core.planning.plan import work_out
    from angelon.core.specs.bundle import read_bundle

    bundle = read_bundle(_bundle(setup).read_text())
    spec = next((one for one in bundle.sources if one.key == source), None)
    if spec is None:
        raise ValueError(f"The bundle has no source {source!r}; it has {', '.join(s.key for s in bundle.sources)}.")
    headers, body = _request(delivery)
    try:
        received = read_delivery(spec, headers, body)[0]
    except NotReadable as error:
        raise ValueError(str(error.problem)) from None
    variables = {one.name: one for one in bundle.variables}
    reading, worked = work_out(spec, Setup(bundle.store, {spec.key: spec}, variables, {}, {}), received.payload)
    from angelon.core.values import pack as packed

    found = {name: packed(worked[name].value) for name in worked.names() if worked[name].present}
    made = {
        "id": "ev-test",
        "type": type or received.type,
        "name": received.name,
        "source": source,
        "received_at": (at or dt.datetime.now(dt.UTC)).isoformat(),
        "was": was,
        "now": now or (reading.text("status") if was or "status_changed" in type else ""),
        "payload": received.payload,
        "parts": packed({name: value for name, value in reading.order().items() if value is not None}),
        "person": {
            **{part: reading.text(part) for part in ("name", "email", "phone", "language")},
            "country": reading.context.country,
            "orders": orders,
            "tags": list(tags),
        },
        "values": found | {name: pack(value) for name, value in (values or {}).items()},
    }
    return event_from(made)


def _bundle(setup: str | Path | None) -> Path:
    given = setup or os.environ.get("ANGELON_BUNDLE")
    if given:
        path = Path(given)
        path = next((path / name for name in BUNDLES if (path / name).is_file()), path) if path.is_dir() else path
        if path.is_file():
            return path
        raise ValueError(f"There is no bundle at {path}.")
    for folder in (Path.cwd(), *Path.cwd().parents):
        for name in BUNDLES:
            if (folder / name).is_file():
                return folder / name
    raise ValueError("No bundle is found. Write one by `angelon export > angelon.yaml`, or name it with setup=.")


def _request(delivery: str | Path | Mapping[str, Any]) -> tuple[dict[str, str], bytes]:
    import json

    if isinstance(delivery, Mapping):
        return {"content-type": "application/json"}, json.dumps(delivery).encode()
    raw = Path(delivery).read_bytes()
    if Path(delivery).suffix != ".http":
        return {"content-type": "application/json"}, raw
    head, _, body = raw.replace(b"\r\n", b"\n").partition(b"\n\n")
    headers = {}
    for line in head.decode().splitlines():
        name, colon, value = line.partition(":")
        if colon and " " not in name:
            headers[name.strip().lower()] = value.strip()
    return headers, body
