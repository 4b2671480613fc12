"""All that the author of a handler uses.

A handler is a function that is called for events of some types, before Angelon plans them. It looks at the event and
asks, by its outbox, for messages to be sent; nothing happens while it runs. What it asks for passes the same guards,
timing, log, retries, rehearsal and checks as what a route sends.

    from angelon.handlers import Event, Outbox, days, on

    @on("order.status_changed", source="workbench")
    def ready_at_the_workshop(event: Event, outbox: Outbox) -> None:
        if event.now != "ready_for_collection":
            return outbox.skip(f"is {event.now}, not ready")
        outbox.send("ready-to-collect", by="email", after=days(1))

This module stands alone: it imports nothing of the rest of Angelon.
"""

from __future__ import annotations

import datetime as dt
import sys
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, Literal, NoReturn

__all__ = [
    "Delay",
    "Event",
    "Money",
    "Order",
    "Outbox",
    "Person",
    "business_days",
    "days",
    "hours",
    "minutes",
    "on",
]

Channel = Literal["email", "sms", "chat", "call"]


@dataclass(frozen=True, slots=True)
class Money:
    """An amount and its currency (ISO 4217), such as `Money(Decimal("31.00"), "EUR")`."""

    amount: Decimal
    currency: str


@dataclass(frozen=True, slots=True)
class Delay:
    """How long after the event: minutes and hours are exact, days and business days keep the local time of day."""

    amount: int
    unit: Literal["minutes", "hours", "days", "business_days"]


def minutes(amount: int) -> Delay:
    return Delay(amount, "minutes")


def hours(amount: int) -> Delay:
    return Delay(amount, "hours")


def days(amount: int) -> Delay:
    return Delay(amount, "days")


def business_days(amount: int) -> Delay:
    """Days but for weekends and the public holidays of the reader's country."""
    return Delay(amount, "business_days")


@dataclass(frozen=True, slots=True)
class Person:
    """The order's customer, as the event and earlier ones tell. Empty where nothing is known."""

    name: str = ""
    email: str = ""
    phone: str = ""
    """In the international form (E.164), such as +353209151234."""
    country: str = ""
    """ISO 3166-1, two letters."""
    language: str = ""
    """A language tag (BCP 47), such as de or pt-BR."""
    orders: int = 1
    """How many orders they have placed so far, this one counted."""
    tags: tuple[str, ...] = ()
    """What they are marked with (`Outbox.tag`), as it stood when the call was made."""


@dataclass(frozen=True, slots=True)
class Order:
    """The order as the source's mapping reads it."""

    reference: str = ""
    """The store's own id for it."""
    number: str = ""
    """What people call it."""
    status: str = ""
    """In the store's own word."""
    total: Money | None = None
    placed_at: dt.datetime | dt.date | None = None
    """Aware where the store tells a time of day."""
    lines: tuple[Mapping[str, Any], ...] = ()
    """Name, sku, quantity and price of each, and the source's own parts."""
    parcels: tuple[Mapping[str, Any], ...] = ()
    parts: Mapping[str, Any] = field(default_factory=dict)
    """Every part of the order that is mapped, by name: `order.parts["payment_status"]`."""


@dataclass(frozen=True, slots=True)
class Event:
    """What happened. Read only; moments are aware."""

    id: str
    type: str
    """Such as order.created."""
    name: str
    """The store's own name for it."""
    source: str
    """The key of the source that it came from."""
    received_at: dt.datetime
    was: str
    """For a change of status: what it was before, in the store's own word."""
    now: str
    """For a change of status: what it is now."""
    payload: Any
    """The body as JSON: dicts, lists, texts, numbers. A change to it changes nothing."""
    order: Order
    person: Person
    values: Mapping[str, Any]
    """The mapped variables that have a value: texts, Decimal, Money, date, aware datetime, lists, bool."""

    @property
    def question(self) -> str:
        """The key of the message whose question this event is about; empty for any other event."""
        return self.was if self.type in _ABOUT_QUESTIONS else ""

    @property
    def answer(self) -> str:
        """What became of that question: an answer's key, `no_answer`, or `not_asked`; empty for any other event."""
        return self.now if self.type in _ABOUT_QUESTIONS else ""


_ABOUT_QUESTIONS = frozenset({"answer.received", "answer.late", "question.expired", "question.not_asked"})


class Outbox:
    """What a handler asks for. It is looked at once the function has returned; an exception discards all of it."""

    def __init__(self) -> None:
        self._asked: dict[str, Any] = {"sends": [], "skip": "", "derive": [], "tags": {}, "parcels": []}

    def send(
        self,
        message: str,
        *,
        to: Person | str = "customer",
        by: Channel = "email",
        gateway: str = "",
        after: Delay | dt.timedelta | None = None,
        values: Mapping[str, Any] | None = None,
    ) -> None:
        """Asks for a message to be sent.

        `message` is the key of a published message. `to` is the order's customer, `role:NAME` for everybody of the shop
        with a role, or an address of its own. `gateway` is a gateway's key; without it the first that carries the
        channel is used. `values` stand in place of the mapped variables of these names.
        """
        if isinstance(after, dt.timedelta):
            after = minutes(max(0, round(after.total_seconds() / 60)))
        self._asked["sends"].append(
            {
                "message": str(message),
                "to": "customer" if isinstance(to, Person) else str(to),
                "by": str(by),
                "gateway": str(gateway),
                "after": {"amount": int(after.amount), "unit": after.unit} if after is not None else None,
                "values": {str(name): value for name, value in (values or {}).items()},
                "line": sys._getframe(1).f_lineno,
            }
        )

    def call(
        self,
        message: str,
        *,
        gateway: str = "",
        after: Delay | dt.timedelta | None = None,
        values: Mapping[str, Any] | None = None,
    ) -> None:
        """Asks for a call to another system: the HTTP call part of a published message, through `gateway` (the first
        of that kind without one). It is logged, tried again and rehearsed as a send is. Other arguments as `send`'s.
        """
        self.send(message, by="call", gateway=gateway, after=after, values=values)
        self._asked["sends"][-1]["line"] = sys._getframe(1).f_lineno

    def skip(self, reason: str) -> None:
        """Says why nothing is to be sent; the reason stands in the trace. `return outbox.skip("…")` ends the function
        with it.
        """
        self._asked["skip"] = str(reason)
        self._asked["skip_line"] = sys._getframe(1).f_lineno

    def derive(self, type: str) -> None:
        """Makes an event of another type follow from this one, about the same order; routes and handlers may wait for
        it. An event that follows from one makes none itself.
        """
        self._asked["derive"].append(str(type))

    def tag(self, tag: str, on: bool = True) -> None:
        """Marks the order's customer with a word or two, such as `collects`; with `on=False` takes the mark off.
        Conditions see it as “the customer’s tags”, later calls as `event.person.tags`.
        """
        self._asked["tags"][str(tag)] = bool(on)

    def parcel(
        self,
        number: str,
        *,
        carrier: str = "",
        status: str = "",
        at: dt.datetime | str = "",
        place: str = "",
        expected_on: dt.date | str = "",
        order: str = "",
    ) -> None:
        """Tells of a parcel: of the event's order, or of the one whose number is `order`.

        `carrier` is a carrier's key or name; without it the number says whose it is, where it does. `status` is how far
        it is, in the carrier's words or as a stage (`in_transit`), since `at` (now, without it).
        """
        told: dict[str, Any] = {"number": number, "carrier": carrier, "status": status, "place": place, "order": order}
        told |= {"at": at, "expected_on": expected_on}
        self._asked["parcels"].append(
            {name: value.isoformat() if isinstance(value, dt.date) else str(value) for name, value in told.items()}
        )

    def _taken(self) -> dict[str, Any]:
        return self._asked


Handler = Callable[[Event, Outbox], Any]


@dataclass(frozen=True, slots=True)
class Registered:
    """A function and what it was registered for."""

    function: Handler
    types: tuple[str, ...]
    sources: tuple[str, ...]
    rank: int
    timeout: float


registered: list[Registered] = []
"""What the files that were imported have registered, in their order."""


def on(
    *types: str, source: str | tuple[str, ...] = (), rank: int = 0, timeout: float = 2.0
) -> Callable[[Handler], Handler]:
    """Registers a function for events of these types, such as `order.created`.

    `source` is the key of a source, or several; without it every source counts. Handlers and routes have their say by
    `rank`, the lowest first. `timeout` is how many seconds one call may take, 0.1 to 30.
    """
    for type_ in types:
        if not isinstance(type_, str) or "." not in type_:
            _refuse(f"{type_!r} is no event type: write it dotted, such as order.created.")
    if not types:
        _refuse("name at least one event type, such as order.created.")
    if not 0.1 <= timeout <= 30:
        _refuse(f"a timeout of {timeout} seconds: it has to be between 0.1 and 30.")

    def register(function: Handler) -> Handler:
        sources = (source,) if isinstance(source, str) else tuple(source)
        registered.append(Registered(function, tuple(types), sources, int(rank), float(timeout)))
        return function

    return register


def _refuse(what: str) -> NoReturn:
    raise ValueError(f"@on: {what}")
