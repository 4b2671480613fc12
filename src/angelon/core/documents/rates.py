"""Rates of value-added tax by country, kind and day: what is known here, in place of which a shop's own stand. Pure.

The table (`rates.csv`) was written down by hand from the public tables of the union and of tax offices, as far as they
were known at `AS_OF`. Nobody vouches for it: a shop checks the rates that it uses.
"""

from __future__ import annotations

import csv
import datetime as dt
import functools
import io
from collections.abc import Iterable
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from importlib import resources
from typing import Any, Literal, get_args

from angelon.core.problems import Invalid, Problem

AS_OF = dt.date(2026, 1, 1)
RateKind = Literal["standard", "reduced", "second_reduced", "super_reduced", "zero"]
KINDS: dict[str, str] = {
    "standard": "standard rate",
    "reduced": "reduced rate",
    "second_reduced": "second reduced rate",
    "super_reduced": "further reduced rate",
    "zero": "zero rate",
}
UNION = frozenset(
    "AT BE BG CY CZ DE DK EE ES FI FR GR HR HU IE IT LT LU LV MT NL PL PT RO SE SI SK".split()  # noqa: SIM905
)
"""The member states of the European Union as ISO 3166-1 has them (Greece is GR; its tax numbers begin with EL)."""
COLUMNS = ("country", "kind", "percent", "since", "until", "source")


@dataclass(frozen=True, slots=True)
class Rate:
    """A rate with its validity; `until` is its last day. `own` is whether the shop has stated it."""

    country: str
    kind: str
    percent: Decimal
    since: dt.date
    until: dt.date | None = None
    source: str = ""
    own: bool = False

    def holds_on(self, day: dt.date) -> bool:
        return self.since <= day and (self.until is None or day <= self.until)


@functools.cache
def known_rates() -> tuple[Rate, ...]:
    text = resources.files(__package__).joinpath("rates.csv").read_text("utf-8")
    return tuple(_rate(row) for row in csv.DictReader(io.StringIO(text)))


def rate_on(own: Iterable[Any], country: str, kind: str, day: dt.date) -> Rate | None:
    """The rate of a country on a day: the shop's own one, else the known one; None where there is neither. `own` have
    the fields of a rate.
    """
    for one in own:
        if (one.country, one.kind) == (country, kind) and Rate.holds_on(one, day):
            return Rate(country, kind, one.percent, one.since, one.until, one.source, True)
    found = [one for one in known_rates() if (one.country, one.kind) == (country, kind) and one.holds_on(day)]
    return max(found, key=lambda one: one.since, default=None)


def read_rates(text: str) -> list[dict[str, Any]]:
    """The rows of a file with the columns country, kind, percent, since, until and source, as the fields of a rate.
    Raises Invalid with what is wrong in which row.
    """
    rows = csv.DictReader(io.StringIO(text.lstrip("\ufeff"), newline=""), strict=True)
    problems, made = [], []
    try:
        headings = {name.strip().casefold() for name in rows.fieldnames or () if name}
        if not {"country", "percent"} <= headings:
            what = f"The file has no column {'country' if 'country' not in headings else 'percent'}."
            raise Invalid([Problem("file", what, f"Its first row names the columns: {', '.join(COLUMNS)}.")])
        for number, row in enumerate(rows, 2):
            plain = {str(name).strip().casefold(): (value or "") for name, value in row.items() if name is not None}
            try:
                rate = _rate(plain)
            except ValueError as error:
                problems.append(Problem("file", f"Row {number}: {error}", "Correct it, and upload the file again."))
                continue
            made.append({name: getattr(rate, name) for name in COLUMNS})
    except csv.Error as error:
        raise Invalid([Problem("file", f"The file can’t be read as CSV: {error}.", "Save it as CSV.")]) from None
    if problems:
        raise Invalid(problems[:10])
    if not made:
        raise Invalid([Problem("file", "The file has no rows.", "Add some under the heading.")])
    return made


def _rate(row: dict[str, str]) -> Rate:
    """One row as a rate. Raises ValueError."""
    country, kind = row["country"].strip().upper(), row.get("kind", "").strip().lower() or "standard"
    if len(country) != 2 or not country.isalpha():
        raise ValueError(f"“{country[:20]}” is no country of two letters.")
    if kind not in get_args(RateKind):
        raise ValueError(f"“{kind[:30]}” is no kind of rate: one of {', '.join(KINDS)}.")
    try:
        percent = Decimal(row["percent"].strip().rstrip("%").strip().replace(",", "."))
    except InvalidOperation:
        percent = Decimal(-1)
    if not 0 <= percent <= 100:
        raise ValueError(f"“{row['percent'][:20]}” is no percentage.")
    days = []
    for name in ("since", "until"):
        text = row.get(name, "").strip()
        try:
            days.append(dt.date.fromisoformat(text) if text else None)
        except ValueError:
            raise ValueError(f"“{text[:20]}” is no day; write it like 2026-01-31.") from None
    return Rate(country, kind, percent, days[0] or dt.date(1970, 1, 1), days[1], row.get("source", "").strip()[:200])
