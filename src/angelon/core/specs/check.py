"""A saved event with what must come out of it."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any, Literal

from pydantic import Field, field_validator

from angelon.core.specs.base import ChannelKey, Key, Name, OneLine, Spec


class Expected(Spec):
    """One send that must come out. `after_seconds` counts from the check's `at` to when it is due. `text` is all that
    it says
    (subject and text); `contains` what has to stand in it; which of them counts is the check's `texts`."""

    recipient: OneLine = ""
    channel: ChannelKey = "email"
    message: str = ""
    locale: str = ""
    state: Literal["scheduled", "held", "skipped"] = "scheduled"
    after_seconds: int = 0
    reason: str = ""
    values: dict[str, str] = Field(default_factory=dict)
    """Chosen values, as a reader of the send's language sees them."""
    text: str = Field("", max_length=100_000)
    contains: list[str] = Field(default_factory=list, max_length=100)


class Customer(Spec):
    """What was known of the event's customer besides: as conditions ask for it."""

    tags: list[OneLine] = Field(default_factory=list, max_length=100)
    returned: bool = False
    complained: bool = False
    language: str = Field("", max_length=20)
    country: str = Field("", max_length=20)
    spent: dict[str, Decimal] = Field(default_factory=dict, max_length=20)
    """By currency (ISO 4217)."""
    products: list[tuple[str, str]] = Field(default_factory=list, max_length=500)
    """Sku and name."""
    kept: dict[str, Any] = Field(default_factory=dict, max_length=200)
    """By variable, packed."""


class Check(Spec):
    """An event, when it is (aware), what is known besides, and what must come of it by one route."""

    key: Key
    name: Name
    route: Key
    source: Key
    type: str = ""
    event: str = ""
    """The store's own name of the event."""
    was: str = ""
    now: str = ""
    at: dt.datetime
    payload: Any = None
    statuses: list[str] = Field(default_factory=list, max_length=200)
    orders: int = Field(1, ge=1)
    customer: Customer = Field(default_factory=Customer)
    outcome: Literal["send", "held", "skipped", "no"] = "send"
    reason: str = ""
    """Why nothing comes out; only looked at where it is written."""
    sends: list[Expected] = Field(default_factory=list, max_length=100)
    texts: Literal["whole", "parts", "none"] = "whole"

    @field_validator("at")
    @classmethod
    def _aware(cls, at: dt.datetime) -> dt.datetime:
        return at if at.tzinfo else at.replace(tzinfo=dt.UTC)
