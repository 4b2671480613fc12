"""The figures of an invoice: what was sold, with its tax, to the last unit of what was paid. Pure.

All amounts are whole numbers of a currency's smallest unit (cents, yen), so that nothing is lost: only dividing by a
rate rounds, half away from zero, and what is left over goes to the largest remainder.
"""

from __future__ import annotations

import datetime as dt
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from fractions import Fraction
from typing import Any, Literal

from babel.numbers import get_currency_precision

from angelon.core.documents.rules import HeldBack, Treatment, rate_of

Prices = Literal["gross", "net"]


@dataclass(frozen=True, slots=True)
class Sold:
    """One line of an order: `price` is of one piece."""

    name: str
    sku: str
    quantity: Decimal
    price: Decimal
    group: str = ""
    """The kind of goods that the line names itself."""


@dataclass(frozen=True, slots=True)
class Sale:
    """An order as it is billed. `total` is what was to be paid, before or after a gift card paid for a part of it."""

    lines: tuple[Sold, ...]
    currency: str
    total: Decimal
    discount: Decimal = Decimal(0)
    postage: Decimal = Decimal(0)
    gift_card: Decimal = Decimal(0)
    tax: Decimal | None = None
    """As the order itself says, with which the figures are compared."""


@dataclass(frozen=True, slots=True)
class Part:
    """An amount at one rate, in the smallest unit."""

    percent: Decimal
    category: str
    net: int
    tax: int

    @property
    def gross(self) -> int:
        return self.net + self.tax

    @property
    def group(self) -> tuple[str, Decimal]:
        return self.category, self.percent


@dataclass(frozen=True, slots=True)
class Row:
    """What is printed in a row: a line has one part, postage and discount one for each rate."""

    kind: Literal["line", "discount", "postage"]
    name: str
    parts: tuple[Part, ...]
    sku: str = ""
    quantity: Decimal = Decimal(1)
    why: str = ""

    @property
    def net(self) -> int:
        return sum(part.net for part in self.parts)

    @property
    def tax(self) -> int:
        return sum(part.tax for part in self.parts)

    @property
    def gross(self) -> int:
        return sum(part.gross for part in self.parts)


@dataclass(frozen=True, slots=True)
class Figures:
    rows: tuple[Row, ...]
    currency: str
    digits: int
    """Decimals of the currency (ISO 4217)."""
    prices: Prices
    gift_card: int = 0
    notes: tuple[str, ...] = field(default_factory=tuple)
    """What is noticed and changes nothing."""

    @property
    def sums(self) -> tuple[Part, ...]:
        """What there is at each rate, the highest first."""
        found: dict[tuple[str, Decimal], list[Part]] = defaultdict(list)
        for row in self.rows:
            for part in row.parts:
                found[part.group].append(part)
        made = [Part(rate, cat, sum(p.net for p in of), sum(p.tax for p in of)) for (cat, rate), of in found.items()]
        return tuple(sorted(made, key=lambda part: (-part.percent, part.category)))

    @property
    def net(self) -> int:
        return sum(row.net for row in self.rows)

    @property
    def tax(self) -> int:
        return sum(row.tax for row in self.rows)

    @property
    def gross(self) -> int:
        return self.net + self.tax


MOST_LINES = 250
"""Lines of one document: more take longer to be drawn than others should wait."""
MOST_UNITS = 10**15
"""What an amount may be, in the smallest unit."""


def digits_of(currency: str) -> int:
    return int(get_currency_precision(currency))


def units(amount: Decimal, digits: int) -> int:
    """An amount in the smallest unit, rounded half away from zero."""
    return rounded(Fraction(amount) * 10**digits)


def rounded(exact: Fraction) -> int:
    whole = int(abs(exact) + Fraction(1, 2))
    return whole if exact >= 0 else -whole


def shared(amount: int, weights: Sequence[int | Fraction]) -> list[int]:
    """A whole amount shared out by weights that are not negative: each gets what is due to it, rounded down, and what
    is left goes to the largest remainders, the first of equal ones. Without any weight, all of it goes to the first.
    """
    if amount < 0:
        return [-one for one in shared(-amount, weights)]
    total = sum(weights)
    if not weights or not total:
        return [amount, *[0] * (len(weights) - 1)][: len(weights)]
    exact = [Fraction(amount) * weight / total for weight in weights]
    made = [int(one) for one in exact]
    by_rest = sorted(range(len(exact)), key=lambda n: (made[n] - exact[n], n))
    for n in by_rest[: amount - sum(made)]:
        made[n] += 1
    return made


def work_out(documents: Any, treatment: Treatment, sale: Sale, day: dt.date) -> Figures:
    """The figures of a sale on a day. `documents` is a `Documents` spec. Raises HeldBack, with the difference where the
    sum of what would be printed is not what was paid.
    """
    if not sale.lines:
        raise HeldBack("The order has no lines.", "Map the order’s lines with name, quantity and price.")
    if len(sale.lines) > MOST_LINES:
        what = f"The order has {len(sale.lines):,} lines, and a document at most {MOST_LINES}."
        raise HeldBack(what, "Make it elsewhere, or send the order in parts.")
    largest = max(sale.total, sale.postage, *(abs(line.price * line.quantity) for line in sale.lines))
    if largest * 10 ** digits_of(sale.currency) > MOST_UNITS:
        raise HeldBack("The order’s amounts are too large for a document.", "Look at the mapping of its amounts.")
    tried: list[Figures] = []
    for prices in ("gross", "net") if documents.prices == "auto" else (documents.prices,):
        figures = _figures(documents, treatment, sale, day, prices)
        if _expected(sale, figures) == figures.gross:
            return replace(figures, notes=_notes(sale, figures, treatment))
        tried.append(figures)
    nearest = min(tried, key=lambda one: abs(_expected(sale, one) - one.gross))
    wrong = nearest.gross - _expected(sale, nearest)
    sign = "more" if wrong > 0 else "less"
    inside = "in" if nearest.prices == "gross" else "on top of"
    raise HeldBack(
        f"The lines, postage and discount come to {_said(nearest.gross, nearest)}, which is "
        f"{_said(abs(wrong), nearest)} {sign} than the order’s total (prices with the tax {inside} them).",
        "Look at the mapping of lines, postage, discount, gift card and total, or at the rates.",
    )


def _expected(sale: Sale, figures: Figures) -> int:
    """What the sum has to be: the total, or what was to be paid before a gift card, where that is nearer."""
    total = units(sale.total, figures.digits)
    return min((total, total + figures.gift_card), key=lambda one: (abs(one - figures.gross), one != total))


def _said(amount: int, figures: Figures) -> str:
    return f"{Decimal(amount).scaleb(-figures.digits):f} {figures.currency}"


def _notes(sale: Sale, figures: Figures, treatment: Treatment) -> tuple[str, ...]:
    if sale.tax is None or units(sale.tax, figures.digits) == figures.tax:
        return ()
    said = f"The order itself says {_said(units(sale.tax, figures.digits), figures)} of tax"
    if not treatment.taxed or treatment.scheme in ("one_stop", "registered"):
        return (f"{said}, by the rates of the shop’s own system.",)
    return (f"{said}, and by line and rate it is {_said(figures.tax, figures)}.",)


def _figures(documents: Any, treatment: Treatment, sale: Sale, day: dt.date, prices: Prices) -> Figures:
    digits = digits_of(sale.currency)
    made: list[Row] = []
    for sold in sale.lines:
        percent, category, why = rate_of(documents, treatment, sold.sku, day, sold.group)
        amount = rounded(Fraction(sold.price) * Fraction(sold.quantity) * 10**digits)
        part = _part(percent, category, amount, prices)
        made.append(Row("line", sold.name, (part,), sold.sku, sold.quantity, why))
    goods = _by_group(made, prices)
    standard, standard_category, why_standard = (
        rate_of(documents, treatment, "", day) if documents.postage == "standard" else (Decimal(0), "", "")
    )
    postage = units(sale.postage, digits)
    if postage:
        if documents.postage == "standard":
            parts: tuple[Part, ...] = (_part(standard, standard_category, postage, prices),)
            why = f"Taxed by the standard rate. {why_standard}".strip()
        else:
            parts = _spread(postage, goods, prices)
            why = _how_spread(parts, digits)
        made.append(Row("postage", "", parts, why=why))
    discount = units(abs(sale.discount), digits)
    if discount:
        parts, why = _less(discount, goods, made, prices, digits)
        made.append(Row("discount", "", parts, why=why))
    if documents.rounding == "document":
        made = _by_document(made, prices)
    gift = units(abs(sale.gift_card), digits)
    return Figures(tuple(made), sale.currency, digits, prices, gift)


def _part(percent: Decimal, category: str, amount: int, prices: Prices) -> Part:
    """An amount with its tax, rounded by itself."""
    rate = Fraction(percent) / 100
    if prices == "gross":
        net = rounded(amount / (1 + rate))
        return Part(percent, category, net, amount - net)
    return Part(percent, category, amount, rounded(amount * rate))


def _given(part: Part, prices: Prices) -> int:
    """The amount that a part was made of."""
    return part.gross if prices == "gross" else part.net


def _by_group(rows: Sequence[Row], prices: Prices) -> dict[tuple[str, Decimal], int]:
    found: dict[tuple[str, Decimal], int] = defaultdict(int)
    for row in rows:
        for part in row.parts:
            found[part.group] += _given(part, prices)
    return found


def _spread(amount: int, over: dict[tuple[str, Decimal], int], prices: Prices) -> tuple[Part, ...]:
    """An amount shared out over rates by what there is at each."""
    groups = sorted(over, key=lambda group: (-group[1], group[0]))
    amounts = shared(amount, [max(over[group], 0) for group in groups])
    return tuple(_part(group[1], group[0], one, prices) for group, one in zip(groups, amounts, strict=True) if one)


def _less(
    discount: int, goods: dict[tuple[str, Decimal], int], rows: Sequence[Row], prices: Prices, digits: int
) -> tuple[tuple[Part, ...], str]:
    """A discount off the goods, and off the postage where it is more than they are. Raises HeldBack."""
    all_goods = sum(max(one, 0) for one in goods.values())
    parts = _spread(-min(discount, all_goods), goods, prices)
    why = _how_spread(parts, digits)
    rest = discount - min(discount, all_goods)
    if rest:
        postage = _by_group([row for row in rows if row.kind == "postage"], prices)
        if rest > sum(postage.values()):
            raise HeldBack(
                "The discount is more than all that was sold.", "Look at the mapping of the order’s discount."
            )
        parts += _spread(-rest, postage, prices)
        why = "More than the goods: the rest is off the postage."
    merged: dict[tuple[str, Decimal], list[Part]] = defaultdict(list)
    for part in parts:
        merged[part.group].append(part)
    return tuple(Part(of[0].percent, of[0].category, sum(p.net for p in of), sum(p.tax for p in of))
                 for of in merged.values()), why  # fmt: skip


def _how_spread(parts: Sequence[Part], digits: int) -> str:
    if len(parts) < 2:
        return "As the goods are taxed."
    said = [f"{Decimal(abs(part.gross)).scaleb(-digits):f} at {part.percent.normalize():f} %" for part in parts]
    return f"Follows the goods: {', '.join(said)}."


def _by_document(rows: Sequence[Row], prices: Prices) -> list[Row]:
    """The same with the tax of each rate rounded once, and shared out over what there is at it."""
    places: dict[tuple[str, Decimal], list[tuple[int, int]]] = defaultdict(list)
    for at, row in enumerate(rows):
        for number, part in enumerate(row.parts):
            places[part.group].append((at, number))
    made = [list(row.parts) for row in rows]
    for (category, percent), where in places.items():
        rate = Fraction(percent) / 100
        given = [_given(rows[at].parts[number], prices) for at, number in where]
        inside = rate / (1 + rate) if prices == "gross" else rate
        whole = rounded(sum(given) * inside)
        exact = [amount * inside for amount in given]
        base = [int(tax // 1) for tax in exact]  # rounded down, also below zero
        rests = [tax - low for tax, low in zip(exact, base, strict=True)]
        order = sorted(range(len(exact)), key=lambda n: (-rests[n], n))
        for n in order[: whole - sum(base)]:
            base[n] += 1
        for (at, number), tax, amount in zip(where, base, given, strict=True):
            net = amount - tax if prices == "gross" else amount
            made[at][number] = Part(percent, category, net, tax)
    return [replace(row, parts=tuple(parts)) for row, parts in zip(rows, made, strict=True)]
