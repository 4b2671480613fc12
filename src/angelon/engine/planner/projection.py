"""An event taken into its order: what the order's statuses are after it, and which of them it changes."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import Any

from angelon.core.deliveries import QUIET, STATED
from angelon.core.event_types import CHANGES
from angelon.core.orders import OrderState, StatusChange, note_status
from angelon.core.planning import purchases
from angelon.core.reading import Reading
from angelon.core.specs.source import Source
from angelon.core.values import pack, show
from angelon.db.log.orders import OrderBatch, Seen
from angelon.db.rows import EventRecord
from angelon.engine.arrivals.event_reader import identity_of


def reference(reading: Reading) -> str:
    """What an order's row is found by, besides its source."""
    return reading.reference[:200]


def said_of_customer(reading: Reading) -> dict[str, str]:
    return {
        "name": reading.text("name")[:200],
        "email": reading.text("email"),
        "phone": reading.text("phone"),
        "country": reading.context.country,
        "language": reading.text("language")[:20],
    }


def seen_of(row: EventRecord, reading: Reading) -> Seen:
    """An event as a ledger is opened for it."""
    identity, said = identity_of(row, reading), said_of_customer(reading)
    return Seen((row.source_id, reference(reading)), identity, said, row.received_at, reading.number)


NEW_FOR = dt.timedelta(days=7)
"""How old an order may be that is taken to be new since it is met for the first time."""


def begins(source: Source, row: EventRecord, reading: Reading) -> bool:
    """Whether an order that is met for the first time is a new one, where an event tells only how the order is."""
    placed = reading.moment("placed_at")
    stated = (row.name == STATED or source.tells == "orders") and not row.parent_id and row.name != QUIET
    return stated and (placed is None or placed >= row.received_at - NEW_FOR)


def project(
    ledger: OrderBatch, locale: str, row: EventRecord, reading: Reading, new: bool = False
) -> tuple[int, dict[str, tuple[str, str]]]:
    """Takes an event into its order; gives the order's id and the changes that it makes now: by the part that a
    status is (`status`, `payment_status`, …), what it was and what it is. `new` is for an order that begins with this.
    """
    key = (row.source_id, reference(reading))
    known = ledger.known(key)
    placed = reading.moment("placed_at")
    at = (
        reading.moment("changed_at") or (placed if row.type == "order.created" else None) or row.received_at
    ).astimezone(dt.UTC)
    states = {part: _state_of(known, part) for part in CHANGES}
    late = any(state.latest is not None and at < state.latest for state in states.values())
    noted = {part: note_status(state, reading.text(part)[:100], at) for part, state in states.items()}
    values: dict[str, Any] = {
        "seen": _as_stored(noted["status"].state),
        "seen_others": {
            part: _as_stored(one.state) for part, one in noted.items() if part != "status" and one.state.seen
        }
        or None,
        "status": noted["status"].state.status,
    }
    if known is None or row.received_at > known["last_event_at"]:
        values["last_event_at"] = row.received_at
    if not late:
        said: dict[str, Any] = {
            "number": reading.number[:200],
            "total": show(reading.value("total"), locale)[:60],
            "language": reading.text("language")[:20],
            "read": {part: pack(e.value) for part, e in reading.parts.items() if e.value is not None},
        }
        if known is not None and ledger.is_another_s(key):  # it adds to what the first source says
            said = {name: text for name, text in said.items() if text and name != "number"}
            said["read"] = {**(known["read"] or {}), **said.get("read", {})}
        values |= said
        values["bought"] = purchases.noted(known["bought"] if known else None, reading, row.received_at)
        identity = identity_of(row, reading)
        if identity:
            values["contact_id"] = ledger.contact(identity, said_of_customer(reading), row.received_at)
    if known is None:
        values["placed_at"] = placed or row.received_at
    elif placed and not late:
        values["placed_at"] = placed
    order_id = ledger.order(key, values)
    if row.name == QUIET or (
        known is None and not new and row.type != "order.created" and row.type not in CHANGES.values()
    ):
        return order_id, {}  # an order met in the middle of its life: its status is no news
    return order_id, {part: (one.was, one.now) for part, one in noted.items() if one.changed}


def _state_of(known: Mapping[str, Any] | None, part: str) -> OrderState:
    """One of an order's statuses as its row keeps it."""
    if known is None:
        return OrderState()
    seen = known["seen"] if part == "status" else (known["seen_others"] or {}).get(part)
    return OrderState(tuple(StatusChange(status, dt.datetime.fromisoformat(at)) for status, at in seen or []))


def _as_stored(state: OrderState) -> list[list[str]]:
    return [[change.status, change.at.isoformat()] for change in state.seen]
