"""An event as it travels to a handler's process."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Connection

from angelon.core.planning.inputs import Event
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.values import pack
from angelon.db.log import orders
from angelon.db.people import contact_tags
from angelon.db.rows import EventRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.event_reader import identity_of

PERSON = ("name", "email", "phone", "language")


def as_plain(
    event: Event, reading: Reading, variables: Variables, orders_so_far: int, tags: tuple[str, ...] = ()
) -> dict[str, Any]:
    """An event with its order, its person and those of its variables that have a value, as JSON."""
    worked = {name: variables[name] for name in variables.names()}
    parts = {name: value for name, value in reading.order().items() if value is not None}
    return {
        "id": event.id,
        "type": event.type,
        "name": event.name,
        "source": event.source,
        "received_at": event.received_at.isoformat(),
        "was": event.was,
        "now": event.now,
        "payload": event.payload,
        "parts": pack(parts),
        "person": {
            **{part: reading.text(part) for part in PERSON},
            "country": reading.context.country,
            "orders": orders_so_far,
            "tags": list(tags),
        },
        "values": {name: pack(one.value) for name, one in worked.items() if one.present},
    }


def people_of(
    connection: Connection, live: LiveSetup, read: Sequence[tuple[EventRecord, Reading]]
) -> list[tuple[int, tuple[str, ...]]]:
    """How many orders the person of each event has placed so far, its own counted, and their tags."""
    about = [
        orders.Placed(identity_of(event, reading), event.source_id, reading.reference[:200]) for event, reading in read
    ]
    so_far = orders.orders_of_people(connection, live.store_id, about)
    tags = contact_tags.of_identities(connection, live.store_id, {one.identity for one in about})
    return [(so_far[one], tags.get(one.identity, ())) for one in about]
