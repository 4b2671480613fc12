"""How events and asks travel to a handler's process and back: JSON, with kinds of values kept. Stands alone."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from types import MappingProxyType
from typing import Any

from angelon.handlers import Event, Money, Order, Person


def pack(value: Any) -> Any:
    """A value as plain JSON. Raises TypeError for what has no place in a message: say which."""
    if value is None or isinstance(value, str | bool):
        return value
    if isinstance(value, int | float):
        return value
    if isinstance(value, Money):
        return {"$money": [str(value.amount), value.currency]}
    if isinstance(value, Decimal):
        return {"$number": str(value)}
    if isinstance(value, dt.datetime):
        if value.tzinfo is None:
            raise TypeError(f"{value.isoformat()} has no time zone: give an aware datetime")
        return {"$moment": [value.isoformat(), "long", None]}
    if isinstance(value, dt.date):
        return {"$day": [value.isoformat(), "long", None]}
    if isinstance(value, list | tuple):
        return [pack(item) for item in value]
    if isinstance(value, dict | MappingProxyType):
        return {str(name): pack(inner) for name, inner in value.items()}
    raise TypeError(f"a {type(value).__name__} can't stand in a message: give a text, number, Money, date or list")


def unpack(value: Any) -> Any:
    """What `pack`, or Angelon itself, made this JSON from."""
    if isinstance(value, list):
        return [unpack(item) for item in value]
    if not isinstance(value, dict):
        return value
    if len(value) == 1:
        ((kind, body),) = value.items()
        if kind == "$money":
            return Money(Decimal(body[0]), body[1])
        if kind == "$number":
            return Decimal(body)
        if kind == "$moment":
            return dt.datetime.fromisoformat(body[0])
        if kind == "$day":
            return dt.date.fromisoformat(body[0])
        if kind == "$object":
            return {name: unpack(inner) for name, inner in body.items()}
    return {name: unpack(inner) for name, inner in value.items()}


def event_from(data: dict[str, Any]) -> Event:
    """An event as it travels."""
    parts = unpack(data["parts"])
    total = parts.get("total")
    order = Order(
        reference=str(parts.get("reference") or ""),
        number=str(parts.get("number") or ""),
        status=str(parts.get("status") or ""),
        total=total if isinstance(total, Money) else None,
        placed_at=parts.get("placed_at"),
        lines=_frozen(parts.get("lines") or ()),
        parcels=_frozen(parts.get("parcels") or ()),
        parts=MappingProxyType(parts),
    )
    return Event(
        id=data["id"],
        type=data["type"],
        name=data["name"],
        source=data["source"],
        received_at=dt.datetime.fromisoformat(data["received_at"]),
        was=data["was"],
        now=data["now"],
        payload=data["payload"],
        order=order,
        person=Person(**{**data["person"], "tags": tuple(data["person"].get("tags") or ())}),
        values=MappingProxyType(unpack(data["values"])),
    )


def _frozen(items: Any) -> Any:
    return tuple(MappingProxyType(item) for item in items if isinstance(item, dict))
