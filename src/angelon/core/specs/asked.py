"""What a handler, a function of the shop's own, has asked for about one event."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, field_validator

from angelon.core.event_types import OURS, well_formed
from angelon.core.specs.base import ChannelKey, OneLine, Spec, Tag
from angelon.core.specs.recipients import Recipient


class Delay(Spec):
    """How long after the event, as a timing counts it."""

    amount: int = Field(ge=0, le=100_000)
    unit: Literal["minutes", "hours", "days", "business_days"]


class AskedSend(Spec):
    """A message to be sent. `to` is `customer`, `role:NAME` or an address; `line` is that of the author's file."""

    message: str = Field(max_length=60)
    to: OneLine = "customer"
    by: ChannelKey = "email"
    gateway: str = Field("", max_length=60)
    after: Delay | None = None
    values: dict[str, Any] = Field(default_factory=dict, max_length=100)
    """Values as they are stored (`values.pack`), by variable."""
    line: int = 0

    def recipient(self) -> Recipient:
        if self.to == "customer":
            return Recipient()
        kind, _, who = self.to.partition(":")
        return Recipient(kind="role", who=who) if kind == "role" and who else Recipient(kind="address", who=self.to)


class AskedParcel(Spec):
    """What a handler tells of a parcel of the event's order, or of the order that it names. `at` is ISO 8601."""

    number: OneLine
    carrier: OneLine = ""
    status: OneLine = ""
    at: OneLine = ""
    place: OneLine = ""
    expected_on: OneLine = ""
    order: OneLine = ""


class Asked(Spec):
    """All that one call has asked for; or, in `problem`, why it came to nothing."""

    sends: list[AskedSend] = Field(default_factory=list, max_length=20)
    skip: OneLine = ""
    skip_line: int = 0
    derive: list[str] = Field(default_factory=list, max_length=5)
    tags: dict[Tag, bool] = Field(default_factory=dict, max_length=50)
    """The customer's tags that are set (True) or taken off."""
    parcels: list[AskedParcel] = Field(default_factory=list, max_length=50)
    file: OneLine = ""
    """The author's file."""
    problem: str = Field("", max_length=8000)

    @field_validator("derive")
    @classmethod
    def _types(cls, types: list[str]) -> list[str]:
        for name in types:
            if not well_formed(name):
                raise ValueError(f"“{name}” is no event type: write it dotted, like order.looked_at")
            if name in OURS:
                raise ValueError(f"“{name}” is made by Angelon alone")
        return list(dict.fromkeys(types))
