"""What a shop says of its invoices: where it is registered, what it sells, by which rates, and how they look."""

from __future__ import annotations

import datetime as dt
import re
from decimal import Decimal
from typing import Annotated, Literal

from pydantic import Field, StringConstraints, ValidationInfo, field_validator, model_validator

from angelon.core.documents.rates import RateKind
from angelon.core.documents.tax_numbers import BadTaxNumber, checked_number
from angelon.core.specs.base import Key, Locale, Name, OneLine, Spec
from angelon.core.specs.carrier import Country

Percent = Annotated[Decimal, Field(ge=0, le=100, max_digits=6, decimal_places=3)]
LongText = Annotated[str, StringConstraints(max_length=2000)]
SERIES = re.compile(r"\{(year|number)(?::0?(\d))?\}")


class Registration(Spec):
    """Where the shop pays tax, by which number, since when. `number` is checked by its form."""

    country: Country
    number: OneLine
    since: dt.date = dt.date(1970, 1, 1)
    until: dt.date | None = None

    @field_validator("number")
    @classmethod
    def _of_the_country(cls, number: str, others: ValidationInfo) -> str:
        try:
            return checked_number(others.data.get("country", ""), number)
        except BadTaxNumber as error:
            raise ValueError(f"“{number[:40]}” {error}") from None

    def holds_on(self, day: dt.date) -> bool:
        return self.since <= day and (self.until is None or day <= self.until)


class OwnRate(Spec):
    """A rate of the shop's own, in place of the one that is known here."""

    country: Country
    kind: RateKind = "standard"
    percent: Percent
    since: dt.date = dt.date(1970, 1, 1)
    until: dt.date | None = None
    source: OneLine = ""
    """Where it was looked up."""


class GoodsGroup(Spec):
    """Goods that are taxed alike, by their sku: `PAT-*`. `kind` is their rate, in some countries another one."""

    key: Key
    name: Name
    skus: list[OneLine] = Field(min_length=1, max_length=500)
    kind: RateKind = "reduced"
    by_country: dict[Country, RateKind] = Field(default_factory=dict, max_length=60)


class ExchangeRate(Spec):
    """What one unit of a currency was on a day in another, in which a tax office wants the tax to be named too."""

    currency: Annotated[str, StringConstraints(pattern=r"^[A-Z]{3}$")]
    to: Annotated[str, StringConstraints(pattern=r"^[A-Z]{3}$")]
    rate: Annotated[Decimal, Field(gt=0, max_digits=16, decimal_places=8)]
    day: dt.date


class Seller(Spec):
    """Who the shop is on its documents."""

    name: OneLine = ""
    lines: list[OneLine] = Field(default_factory=list, max_length=6)
    """Street and what else stands between name and town."""
    postcode: OneLine = ""
    city: OneLine = ""
    tax_id: OneLine = ""
    """A number of the tax office besides those of the registrations."""
    bank: OneLine = ""
    """Where it is paid to, where an order was not paid yet."""


class DocumentTexts(Spec):
    """What is said above and under the figures, by language."""

    above: dict[Locale, LongText] = Field(default_factory=dict, max_length=60)
    under: dict[Locale, LongText] = Field(default_factory=dict, max_length=60)


class Documents(Spec):
    """How invoices are worked out and numbered. Nothing of it is advice on tax: it says what the shop has decided."""

    on: bool = False
    seller: Seller = Field(default_factory=Seller)
    home: Country | Literal[""] = ""
    """Where goods are sent from; the shop's own country where it is empty."""
    registrations: list[Registration] = Field(default_factory=list, max_length=60)
    rates: list[OwnRate] = Field(default_factory=list, max_length=500)
    groups: list[GoodsGroup] = Field(default_factory=list, max_length=100)
    prices: Literal["auto", "gross", "net"] = "auto"
    """Whether an order's prices have the tax in them; `auto` sees it by the order's own total and tax."""
    rounding: Literal["line", "document"] = "line"
    postage: Literal["goods", "standard"] = "goods"
    """Whether postage is taxed as the goods that it is for, or by the standard rate."""
    small_seller: bool = False
    """Whether the shop is exempt as a small one, and so names no tax at home."""
    one_stop: bool = False
    """Whether private buyers elsewhere in the union are taxed by their own country's rates through one return (OSS)."""
    below_threshold: bool = False
    """Whether sales to private buyers elsewhere in the union are so few that they are taxed at home."""
    reverse_charge: bool = True
    """Whether businesses elsewhere in the union are billed without tax, by their number."""
    check_business: bool = True
    """Whether the number of such a business has to be confirmed by whoever is asked for that, beyond its form."""
    check_url: OneLine = ""
    """Whom that is asked: an address with `{country}` and `{number}`, which answers JSON with `valid`."""
    export: bool = False
    """Whether buyers outside the union are billed without tax."""
    exchange: list[ExchangeRate] = Field(default_factory=list, max_length=500)
    invoice_series: OneLine = "{year}-{number:4}"
    credit_series: OneLine = "C{year}-{number:4}"
    page: bool = False
    """Whether customers get their invoice by themselves on a page."""
    page_days: int = Field(90, ge=1, le=3660)
    """For how many days after the order."""
    page_changes: int = Field(3, ge=0, le=20)
    """How often an address or tax number may be changed there."""
    questions: OneLine = ""
    """Where customers ask about their invoice."""
    texts: DocumentTexts = Field(default_factory=DocumentTexts)

    @field_validator("invoice_series", "credit_series")
    @classmethod
    def _series(cls, series: str) -> str:
        found = [one[1] for one in SERIES.finditer(series)]
        if found.count("number") != 1 or "{" in SERIES.sub("", series) or "}" in SERIES.sub("", series):
            raise ValueError("has to hold {number} once, and may hold {year}: write it like {year}-{number:4}")
        return series

    @field_validator("check_url")
    @classmethod
    def _asks_for_a_number(cls, url: str) -> str:
        if url and (not re.match(r"https?://[^\s/{]+/", url) or "{number}" not in url):
            raise ValueError(
                "is no web address with {number} in it: write it like https://check.example/{country}/{number}"
            )
        return url

    @field_validator("registrations")
    @classmethod
    def _one_each(cls, registrations: list[Registration]) -> list[Registration]:
        for number, one in enumerate(registrations):
            for other in registrations[:number]:
                apart = (one.until and one.until < other.since) or (other.until and other.until < one.since)
                if one.country == other.country and not apart:
                    raise ValueError(f"has two registrations in {one.country} at the same time; end the older one")
        return registrations

    @field_validator("groups")
    @classmethod
    def _told_apart(cls, groups: list[GoodsGroup]) -> list[GoodsGroup]:
        keys = [group.key for group in groups]
        if len(set(keys)) < len(keys):
            raise ValueError("has two kinds of goods with the same key; give each its own")
        return groups

    @model_validator(mode="after")
    def _one_way(self) -> Documents:
        if self.one_stop and self.below_threshold:
            raise ValueError(
                "taxes private buyers elsewhere in the union both at home and in their country; choose one of them"
            )
        return self

    def group_of(self, sku: str, named: str = "") -> GoodsGroup | None:
        """The kind of goods that a line names by its part `tax_group`, else the first that its sku belongs to: `*`
        stands for anything, case does not count.
        """
        wanted = named.strip().casefold()
        by_name = [one for one in self.groups if wanted and wanted in (one.key, one.name.casefold())]
        if by_name:
            return by_name[0]
        return next((group for group in self.groups if any(_meets(sku, one) for one in group.skus)), None)


def _meets(sku: str, pattern: str) -> bool:
    parts = [re.escape(part) for part in pattern.strip().casefold().split("*")]
    return re.fullmatch(".*".join(parts), sku.strip().casefold()) is not None


def numbered(series: str, year: int, number: int) -> str:
    """A document's number in its series: `{year}-{number:4}`, 2026, 12 → `2026-0012`."""

    def put(found: re.Match[str]) -> str:
        value = year if found[1] == "year" else number
        return f"{value:0{found[2]}}" if found[2] else str(value)

    return SERIES.sub(put, series)
