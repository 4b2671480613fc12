"""A document as it is frozen: all that its page and its XML say, as plain data that stays as it is. Pure."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, field
from decimal import Decimal
from fractions import Fraction
from typing import Any, Literal

from angelon.core.documents.figures import Figures, Part, Row, digits_of, rounded
from angelon.core.documents.rules import Treatment

Kind = Literal["invoice", "credit", "proforma", "delivery"]
KINDS: dict[str, str] = {
    "invoice": "invoice",
    "credit": "credit note",
    "proforma": "proforma invoice",
    "delivery": "delivery note",
}
FORM = 1
"""Which form of frozen data this is, so that older ones stay readable."""


@dataclass(frozen=True, slots=True)
class Party:
    name: str
    lines: tuple[str, ...] = ()
    postcode: str = ""
    city: str = ""
    country: str = ""
    tax_number: str = ""


@dataclass(frozen=True, slots=True)
class Second:
    """The tax in another currency, which a tax office wants to see too."""

    currency: str
    digits: int
    rate: Decimal
    day: dt.date
    tax: int


@dataclass(frozen=True, slots=True)
class Document:
    kind: Kind
    number: str
    day: dt.date
    supplied: dt.date
    """When the goods were supplied; the order's day."""
    order: str
    language: str
    seller: Party
    buyer: Party
    ship_to: str
    """Country to which goods go."""
    figures: Figures
    treatment: Treatment
    paid: bool = True
    corrects: tuple[str, dt.date] | None = None
    second: Second | None = None
    above: str = ""
    under: str = ""
    bank: str = ""
    questions: str = ""
    proof: str = ""
    """What was answered when the buyer's number was asked about."""
    reasons: tuple[tuple[str, str, str], ...] = field(default_factory=tuple)
    """(what, figure, why) of each figure, for the shop."""

    @property
    def due(self) -> int:
        """What is still to be paid, in the smallest unit."""
        return 0 if self.paid else self.figures.gross - self.figures.gift_card

    def plain(self) -> dict[str, Any]:
        """As JSON has it."""
        made: dict[str, Any] = {name: _plain(getattr(self, name)) for name in self.__slots__}
        return {"form": FORM, **made}

    @classmethod
    def of(cls, plain: dict[str, Any]) -> Document:
        """What `plain` gave."""
        day = dt.date.fromisoformat
        figures, second, treatment = plain["figures"], plain["second"], plain["treatment"]
        rows = tuple(
            Row(
                row["kind"], row["name"], tuple(Part(Decimal(p["percent"]), p["category"], p["net"], p["tax"])
                                                for p in row["parts"]),
                row["sku"], Decimal(row["quantity"]), row["why"],
            )
            for row in figures["rows"]
        )  # fmt: skip
        return cls(
            **{
                **{name: plain[name] for name in cls.__slots__ if name in plain},
                "day": day(plain["day"]),
                "supplied": day(plain["supplied"]),
                "seller": _party(plain["seller"]),
                "buyer": _party(plain["buyer"]),
                "figures": Figures(rows, figures["currency"], figures["digits"], figures["prices"],
                                   figures["gift_card"], tuple(figures["notes"])),
                "treatment": Treatment(**treatment),
                "corrects": (plain["corrects"][0], day(plain["corrects"][1])) if plain["corrects"] else None,
                "second": Second(second["currency"], second["digits"], Decimal(second["rate"]), day(second["day"]),
                                 second["tax"]) if second else None,
                "reasons": tuple((a, b, c) for a, b, c in plain["reasons"]),
            }
        )  # fmt: skip


def _party(plain: dict[str, Any]) -> Party:
    return Party(**plain | {"lines": tuple(plain["lines"])})


def _plain(value: Any) -> Any:
    if hasattr(value, "__slots__") and not isinstance(value, Decimal | dt.date):
        return {name: _plain(getattr(value, name)) for name in value.__slots__}
    if isinstance(value, tuple | list):
        return [_plain(one) for one in value]
    return str(value) if isinstance(value, Decimal) else value.isoformat() if isinstance(value, dt.date) else value


def second_of(documents: Any, figures: Figures, currency: str, day: dt.date) -> Second | None:
    """The tax in the currency of a country's tax office, at the newest rate that the shop has stated by then; None
    where it is the same, or no rate is stated.
    """
    if not currency or currency == figures.currency:
        return None
    known = [
        one for one in documents.exchange if (one.currency, one.to) == (figures.currency, currency) and one.day <= day
    ]
    newest = max(known, key=lambda one: one.day, default=None)
    if newest is None:
        return None
    digits = digits_of(currency)
    tax = rounded(Fraction(figures.tax) / 10**figures.digits * Fraction(newest.rate) * 10**digits)
    return Second(currency, digits, newest.rate, newest.day, tax)
