"""What a customer has bought, over all their orders: of which segments and conditions ask. Pure."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from typing import Any

from angelon.core.reading import Reading
from angelon.core.values import Money, Value

UNDONE = frozenset({"order.cancelled", "payment.refunded"})
"""Events after which an order counts for nothing of what its customer has bought."""
MOST_ITEMS = 100
"""Lines of an order that are looked at."""
MOST_TEXT = 200
MOST_NOTED = 50
"""Changes of what an order comes to that are kept, the newest."""


@dataclass(frozen=True, slots=True)
class Purchase:
    """One order as far as it was bought: its total and its items (sku, name)."""

    total: Money | None = None
    items: tuple[tuple[str, str], ...] = ()


def noted(history: list[Any] | None, reading: Reading, at: dt.datetime) -> list[Any]:
    """The history of an order's purchase (oldest first; `[time, amount, currency, items]` each) with what an event of
    the moment `at` (aware) says; the same where it says nothing new.
    """
    total = reading.value("total")
    money = [str(total.amount), total.currency] if isinstance(total, Money) else ["", ""]
    lines = reading.value("lines")
    items = [
        [_text(line.get("sku")), _text(line.get("name"))]
        for line in (lines if isinstance(lines, list) else [])[:MOST_ITEMS]
        if isinstance(line, dict)
    ]
    before = list(history or [])
    if before and before[-1][1:] == [*money, items]:
        return before
    return [*before, [at.isoformat(), *money, items]][-MOST_NOTED:]


def purchase(history: list[Any] | None, at: dt.datetime | None = None) -> Purchase | None:
    """What was bought as the history has it now, or at a moment (aware); None where nothing was yet."""
    found = [one for one in history or [] if at is None or dt.datetime.fromisoformat(one[0]) <= at]
    if not found:
        return None
    _, amount, currency, items = found[-1]
    return Purchase(_money(amount, currency), tuple((sku, name) for sku, name in items))


def spent(purchases: Mapping[int, Purchase], currency: str) -> Money | None:
    """The sum of the orders' totals in a currency (ISO 4217); in the only one there is where none is given. None
    where the orders say no total, or are of several currencies and none is given.
    """
    totals = [one.total for one in purchases.values() if one.total is not None]
    currency = currency or (totals[0].currency if len({total.currency for total in totals}) == 1 else "")
    amounts = [total.amount for total in totals if total.currency == currency]
    return Money(sum(amounts, Decimal(0)), currency) if amounts else None


def products(purchases: Mapping[int, Purchase]) -> list[Value]:
    """Every item bought, each once."""
    return [{"sku": sku, "name": name} for sku, name in _each_once(purchases.values())]


def _each_once(purchases: Iterable[Purchase]) -> list[tuple[str, str]]:
    """By the sku; an item that has none, by its name, where none with a sku is called so."""
    found: dict[str, tuple[str, str]] = {}
    for one in purchases:
        for sku, name in one.items:
            found.setdefault(sku or name, (sku, name))
    named = {name for sku, name in found.values() if sku}
    return [(sku, name) for key, (sku, name) in found.items() if key and (sku or name not in named)]


def _money(amount: str, currency: str) -> Money | None:
    try:
        return Money(Decimal(amount), currency) if amount else None
    except InvalidOperation:
        return None


def _text(value: Value) -> str:
    return "" if value is None else str(value)[:MOST_TEXT]
