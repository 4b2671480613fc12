"""A carrier: who brings parcels, what its numbers look like, and what its words mean."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from pydantic import Field, StringConstraints, field_validator

from angelon.core.parcels.stages import Stage
from angelon.core.specs.base import Key, Locale, Name, OneLine, Spec

Country = Annotated[str, StringConstraints(pattern=r"^[A-Z]{2}$")]
"""A country's two letters (ISO 3166-1)."""
_PARTS = re.compile(r"\{([^{}]*)\}")
LINK_PARTS = ("number", "postcode", "country", "language")
Check = Literal["", "s10", "mod7", "mod10", "mod11"]


class NumberForm(Spec):
    """What a carrier's numbers look like: `#` is a digit, `@` a letter, `*` either; all else stands for itself. `check`
    is how the check digit follows from the others (`core/parcels/numbers.py`).
    """

    shape: Annotated[str, StringConstraints(strip_whitespace=True, to_upper=True, min_length=4, max_length=40)]
    check: Check = ""

    @field_validator("shape")
    @classmethod
    def _shape(cls, shape: str) -> str:
        shape = re.sub(r"[\s.-]", "", shape)
        if not re.fullmatch(r"[A-Z0-9#@*]{4,40}", shape):
            raise ValueError("is written with # for a digit, @ for a letter, * for either, such as SW########")
        return shape


class Carrier(Spec):
    """`days` and the spans after it are working days of the country where the parcel goes, by `working_days` (0 is
    Monday) and its public holidays.
    """

    key: Key
    name: Name
    names: dict[Locale, OneLine] = Field(default_factory=dict)
    """What customers read, by language, where that is another than its name."""
    countries: list[Country] = Field(default_factory=list, max_length=250)
    """Where it brings parcels; anywhere where none is named."""
    default_for: list[Country] = Field(default_factory=list, max_length=250)
    """The countries for which it is the first choice."""
    link: str = Field("", max_length=500)
    """Its own page about a parcel, with {number}, and where it needs them {postcode}, {country}, {language}."""
    forms: list[NumberForm] = Field(default_factory=list, max_length=20)
    words: dict[OneLine, Stage] = Field(default_factory=dict, max_length=300)
    """What its own words for a parcel's state mean, where that is not understood by itself."""
    working_days: list[Annotated[int, Field(ge=0, le=6)]] = Field(default_factory=lambda: [0, 1, 2, 3, 4], max_length=7)
    days: int = Field(0, ge=0, le=90)
    """How long a parcel usually takes from when it was picked up, where nobody tells the day; 0 where that differs."""
    counts_after: int = Field(0, ge=0, le=90)
    """After how many days past the expected one a parcel counts as delivered, if nothing else is told; 0 for never."""
    lost_after: int = Field(10, ge=0, le=365)
    """After how many days without news a parcel counts as lost; 0 for never."""
    on: bool = True

    @field_validator("link")
    @classmethod
    def _link(cls, link: str) -> str:
        link = link.strip()
        if not link:
            return link
        if not re.match(r"https?://[^\s/{}?#@]+(/|\?|$)", link):
            raise ValueError("has to be a whole address, such as https://carrier.example/follow/{number}")
        wrong = [part for part in _PARTS.findall(link) if part not in LINK_PARTS]
        if wrong or "{" in _PARTS.sub("", link) or "}" in _PARTS.sub("", link):
            known = ", ".join(f"{{{part}}}" for part in LINK_PARTS)
            raise ValueError(f"may have {known}, and nothing else in braces")
        return link

    def called(self, locale: str = "") -> str:
        """Its name to readers of a language."""
        return self.names.get(locale) or self.names.get(locale.partition("-")[0]) or self.name

    def goes_to(self, country: str) -> bool:
        return not self.countries or not country or country in self.countries
