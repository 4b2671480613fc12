"""One shop: what everything else belongs to."""

from __future__ import annotations

from typing import Annotated
from zoneinfo import available_timezones

from pydantic import Field, StringConstraints, field_validator

from angelon.core.specs.base import Key, Locale, Name, OneLine, Spec


class Letterhead(Spec):
    """What all of a store's emails share."""

    accent: Annotated[str, StringConstraints(pattern=r"^#[0-9a-fA-F]{6}$")] = "#0E5A55"
    header: OneLine = ""
    footer: str = Field("", max_length=2000)
    subject_prefix: OneLine = ""


class Store(Spec):
    key: Key
    name: Name
    currency: Annotated[str, StringConstraints(pattern=r"^[A-Z]{3}$")] = "EUR"
    locale: Locale = "en"
    timezone: str = "UTC"
    country: str = Field("", pattern=r"^([A-Z]{2})?$")
    support_email: OneLine = ""
    letterhead: Letterhead = Field(default_factory=Letterhead)

    @field_validator("timezone")
    @classmethod
    def _zone(cls, zone: str) -> str:
        if zone not in available_timezones():
            raise ValueError(f"“{zone}” is no time zone of the IANA database (write Europe/Dublin)")
        return zone
