"""What is written into the tables, as typed values: one class a table, one constructor for each way that a row comes
about.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from typing import Any


@dataclass(frozen=True, slots=True)
class NewEvent:
    """An event as it is stored. Times are aware; `item` counts the orders of one delivery from 0."""

    id: str
    source_id: int
    delivery_id: str
    delivery_key: str
    """What it is known by within its source, so that the same one is never stored twice."""
    name: str
    type: str
    received_at: dt.datetime
    item: int = 0
    parent_id: str | None = None
    was: str = ""
    now: str = ""
    problem: str = ""
    order_id: int | None = None
    waits_until: dt.datetime | None = None
    planned_at: dt.datetime | None = None
    decisions: list[Any] | None = None

    @classmethod
    def derived(
        cls,
        parent: Any,
        id_: str,
        key: str,
        name: str,
        type_: str,
        at: dt.datetime,
        order_id: int | None,
        was: str = "",
        now: str = "",
    ) -> NewEvent:
        """An event that follows from another (a row of the event table) and reads the same delivery."""
        return cls(
            id_,
            parent.source_id,
            parent.delivery_id,
            key,
            name[:200],
            type_,
            at,
            parent.item,
            parent.parent_id or parent.id,
            was,
            now,
            order_id=order_id,
        )

    @classmethod
    def sample(cls, id_: str, source_id: int, name: str, type_: str, at: dt.datetime) -> NewEvent:
        """A payload that was not delivered: there to be read, never planned."""
        return cls(id_, source_id, id_, f"sample:{id_}", name[:200], type_, at, planned_at=at, decisions=[])

    def row(self) -> dict[str, Any]:
        return {field.name: getattr(self, field.name) for field in fields(self)}


@dataclass(frozen=True, slots=True)
class NewDelivery:
    """One request as it came in: its body and kept headers, stored once, and the events in it."""

    id: str
    source_id: int
    received_at: dt.datetime
    content_type: str
    headers: Mapping[str, str]
    body: bytes
    body_hash: str
    """SHA-256 of the body, the first 40 hexadecimal digits."""
    events: tuple[NewEvent, ...] = ()
    window: dt.timedelta | None = None
    """For how long the same body is taken for the same delivery; None where its events have ids of their own."""

    def row(self) -> dict[str, Any]:
        return {
            "id": self.id,
            "source_id": self.source_id,
            "received_at": self.received_at,
            "content_type": self.content_type,
            "headers": dict(self.headers),
            "body": self.body,
            "body_hash": self.body_hash,
        }

    def with_events(self, events: tuple[NewEvent, ...]) -> NewDelivery:
        return replace(self, events=events)
