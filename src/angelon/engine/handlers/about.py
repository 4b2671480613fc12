"""An event as it travels to a handler's process."""

from __future__ import annotations

from typing import Any

from angelon.core.planning.inputs import Event
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.values import pack

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
