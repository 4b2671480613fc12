"""A payload read as an order."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Context as DecimalContext
from decimal import Decimal, localcontext
from typing import Any
from zoneinfo import ZoneInfo

from angelon.core.event_types import CHANGES, STOPS
from angelon.core.parcels.numbers import normal
from angelon.core.problems import Problem
from angelon.core.recipes.context import Context
from angelon.core.recipes.evaluate import Evaluation, evaluate
from angelon.core.shape import Drift, Shape, drift
from angelon.core.specs.source import LINE_PARTS, PARCEL_PARTS, READING, Source
from angelon.core.specs.store import Store
from angelon.core.specs.variable import Recipe, Type
from angelon.core.values import Day, Money, Value, number_of, show

ITEM_TYPES = {
    "quantity": Type.NUMBER,
    "price": Type.MONEY,
    "expected_on": Type.DATE,
    "at": Type.DATE,
    "items": Type.LIST,
}


@dataclass(frozen=True, slots=True)
class Reading:
    """What a payload says about its order. `parts` holds an evaluation for every part that the source reads."""

    parts: dict[str, Evaluation]
    context: Context
    stage: int | None = None
    """Which stop of the line (`event_types.LINE`, from 0) the order's status stands for; None where it stands for none.
    """
    reference: str = field(init=False)
    """What the order is known by: its reference, else the customer-facing number."""
    number: str = field(init=False)
    """What people call the order."""
    _order: dict[str, Value] = field(default_factory=dict, compare=False, repr=False)
    """What `order` gave, made once."""
    parcel: dict[str, Value] = field(default_factory=dict, compare=False, repr=False)
    """The parcel that the event is about, else the order's last one; empty where none is known."""

    def value(self, part: str) -> Value:
        found = self.parts.get(part)
        return found.value if found else None

    def text(self, part: str) -> str:
        value = self.value(part)
        return "" if value is None else str(value)

    def __post_init__(self) -> None:
        reference, number = self.text("reference"), self.text("number")
        object.__setattr__(self, "reference", reference or number)
        object.__setattr__(self, "number", number or reference)

    def moment(self, part: str) -> dt.datetime | None:
        """The moment at a dated part, aware; a day without a time is its midnight in the store's zone."""
        day = self.value(part)
        if not isinstance(day, Day):
            return None
        if isinstance(day.value, dt.datetime):
            return day.value
        return dt.datetime.combine(day.value, dt.time(), self.context.zone)

    def problems(self) -> list[Problem]:
        return [e.problem for e in self.parts.values() if e.problem]

    def order(self) -> dict[str, Value]:
        """What messages know as `order`; every part is there, absent ones as None (lists as empty)."""
        if self._order:
            return self._order
        made = self._order
        made.update({part: self.value(part) for part in READING})
        made["number"] = self.number or None
        made["lines"] = self.value("lines") or []
        made["parcels"] = self.value("parcels") or []
        made["stage"] = self.stage
        made["document"] = None  # its invoice, or what of it an event is about
        made["calls"] = {}  # what other systems have answered about it, by the message's key
        made["discount"] = _positive(made["discount"])
        made["tax_on_top"] = _on_top(made)
        return made

    def anew(self) -> Reading:
        """The same, for somebody who is told other things besides (`say_status`, `know`)."""
        return Reading(dict(self.parts), self.context, self.stage)

    def say_status(self, status: str) -> None:
        """Takes in the order's status from elsewhere, in place of what the payload says of it."""
        self.parts["status"] = Evaluation(status)
        self.order()["status"] = status

    def say_document(self, kind: str, number: str, email: str) -> None:
        """Takes in the document that an event is about, or that the order has; `email` is where it goes instead."""
        self.order()["document"] = {"kind": kind, "number": number}
        if email:
            self.parts["email"] = Evaluation(email)
            self.order()["email"] = email

    def know(self, parcels: Sequence[dict[str, Value]], about: dict[str, Value]) -> None:
        """Takes in what is known of the order's parcels from elsewhere, in place of what the payload says of them;
        `about` is the one that the event is about.
        """
        numbers = {normal(show(one["number"])) for one in parcels}
        others = [one for one in self.value("parcels") or [] if isinstance(one, dict)]
        left = [one for one in others if normal(show(one.get("number"))) not in numbers]
        order = self.order()
        order["parcels"] = [*parcels, *left]
        stages = [STOPS.get(f"parcel.{one.get('stage')}", -1) for one in parcels]
        if not left and stages and min(stages) > (self.stage if self.stage is not None else -1):
            order["stage"] = min(stages)  # all of them are farther than the order's own status says
        self.parcel.update(about)


def _positive(amount: Value) -> Value:
    """An amount without its sign: stores write a discount either way."""
    return Money(abs(amount.amount), amount.currency) if isinstance(amount, Money) else amount


def _on_top(order: Mapping[str, Value]) -> bool:
    """Whether the tax comes on top of the lines, postage and discount, rather than being within them: where the sum
    with it is nearer to the total than without it.
    """
    total, tax = order["total"], order["tax"]
    if not isinstance(total, Money) or not isinstance(tax, Money):
        return False
    priced = [
        (line["price"].amount, number_of(line.get("quantity")) or 1)
        for line in order["lines"]
        if isinstance(line, dict) and isinstance(line.get("price"), Money)
    ]
    if not priced or len(priced) < len(order["lines"]):
        return False
    with localcontext(_WIDE):
        lines = sum((price * count for price, count in priced), Decimal(0))
        postage, discount = (
            order[part].amount if isinstance(order[part], Money) else Decimal(0) for part in ("postage", "discount")
        )
        left = total.amount - (lines + postage - discount)
        return bool(tax.amount) and abs(left - tax.amount) < abs(left)


_WIDE = DecimalContext(prec=120)


def read(source: Source, store: Store, payload: Any, tables: Mapping[str, Mapping[str, str]] | None = None) -> Reading:
    """Reads a payload by a source's reading. Never raises; a part without a value has its Problem. `tables` are the
    shop's own, by table and column (`prices.net`).
    """
    context = Context(
        payload=payload,
        root=payload,
        decimal=source.decimal_sign,
        zone=ZoneInfo(store.timezone),
        currency=store.currency,
        country=source.country or store.country,
        locale=store.locale,
        lookups={**tables, **source.lookups} if tables else source.lookups,
        shared=source.shared_steps,
    )
    parts: dict[str, Evaluation] = {}
    for part in ("currency", "country", "language"):
        recipe = source.reading.get(part)
        if recipe:
            parts[part] = evaluate(recipe, Type.TEXT, context, f"reading.{part}")
    currency, country = _code(parts.get("currency"), 3), _code(parts.get("country"), 2)
    context = context.but(currency=currency or context.currency, country=country or context.country)
    for part, (wanted, _) in READING.items():
        recipe = source.reading.get(part)
        if recipe is None or part in parts:
            continue
        parts[part] = evaluate(recipe, wanted, context, f"reading.{part}")
    for part, recipes, names in (
        ("lines", source.line, LINE_PARTS),
        ("parcels", source.parcel, (*PARCEL_PARTS, "link")),
    ):
        found = parts.get(part)
        if found and found.problem is None and found.value is not None:
            parts[part] = replace(found, value=[_item(item, recipes, names, context) for item in found.value])
    return Reading(parts, context, _stage(source, parts))


def _stage(source: Source, parts: dict[str, Evaluation]) -> int | None:
    """The farthest stop of the line that one of the order's statuses stands for."""
    found = []
    for part in CHANGES:
        status = parts.get(part)
        meaning = source.meanings(part).get(show(status.value)) if status and status.value is not None else None
        if meaning in STOPS:
            found.append(STOPS[meaning])
    return max(found, default=None)


def _code(evaluation: Evaluation | None, length: int) -> str:
    value = evaluation.value if evaluation else None
    text = str(value).strip().upper() if isinstance(value, str) else ""
    return text if len(text) == length and text.isascii() and text.isalpha() else ""


def _item(item: Any, recipes: dict[str, Recipe], names: tuple[str, ...], context: Context) -> Value:
    """One line or parcel by its parts; without any, as it came."""
    if not recipes:
        whole = item if isinstance(item, dict) else {"name": item}
        return {**dict.fromkeys(names), **whole}
    inner = context.but(payload=item)
    made: dict[str, Value] = dict.fromkeys((*names, *recipes))
    for part, recipe in recipes.items():
        made[part] = evaluate(recipe, ITEM_TYPES.get(part, Type.TEXT), inner, part).value
    if "quantity" in names and "quantity" not in recipes:
        made["quantity"] = 1
    return made


def drifting(source: Source, shapes: Mapping[str, Shape]) -> dict[str, Drift]:
    """Which recipes' paths have drifted, by part and name. One with a second path that is there has not."""
    found: dict[str, Drift] = {}
    for kind in ("reading", "recipes"):
        for name, recipe in getattr(source, kind).items():
            if not recipe.path or recipe.or_paths:
                continue
            for event_name, shape in shapes.items():
                told = drift(shape, event_name, [recipe.path])
                if told:
                    found.setdefault(f"{kind}.{name}", told[0])
    return found
