"""When which event comes from which source, which message goes to whom, through which gateway."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, field_validator

from angelon.core.event_types import well_formed
from angelon.core.specs.base import Key, Name, Spec


class Route(Spec):
    key: Key
    name: Name
    when: list[str] = Field(default_factory=list, max_length=30)
    """Event types; any of them."""
    sources: list[Key] = Field(default_factory=list, max_length=50)
    """Keys of sources; any of them."""
    send: str = ""
    """The message's key."""
    channel: Literal["email"] = "email"
    to: Literal["customer"] = "customer"
    gateway: str = ""
    once: Literal["order", "event"] = "order"
    """At most one send an order, or one an event."""

    @field_validator("when")
    @classmethod
    def _types(cls, types: list[str]) -> list[str]:
        for name in types:
            if not well_formed(name):
                raise ValueError(f"“{name}” is no event type: write it dotted, like order.created")
        return list(dict.fromkeys(types))

    @field_validator("sources")
    @classmethod
    def _once_each(cls, keys: list[str]) -> list[str]:
        return list(dict.fromkeys(keys))
