"""Orders and their customers as rows of a file."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from angelon.db.database import Database
from angelon.db.log import history, orders
from angelon.db.log.orders import amount_of
from angelon.db.people import people
from angelon.db.tables import ContactRow, OrderRow
from angelon.engine.exports.lines import AT_ONCE, moment

PERSON = ("name", "email", "phone", "country", "language")
ORDERS = (
    *("number", "reference", "source", "placed_at", "last_event_at", "status", "payment_status", "fulfilment_status"),
    *("return_status", "total", "amount", "currency", *PERSON),
)
PEOPLE = ("id", *PERSON, "first_seen")


def order_row(order: OrderRow, contact: ContactRow | None, source: str) -> dict[str, Any]:
    """An order as a file has it: `total` as people read it, `amount` and `currency` the same to reckon with."""
    others = history.statuses_by_part(order.seen_others)
    amount, currency = amount_of((order.read or {}).get("total"))
    return {
        **{name: getattr(order, name) for name in ("number", "reference", "status", "total")},
        **{part: (others.get(part) or ("",))[-1] for part in ("payment_status", "fulfilment_status", "return_status")},
        **{"source": source, "amount": amount, "currency": currency},
        **{name: moment(getattr(order, name)) for name in ("placed_at", "last_event_at")},
        **{name: getattr(contact, name) or "" if contact else "" for name in PERSON},
    }


def order_parts(database: Database, store_id: int, words: str) -> Iterator[list[Mapping[str, Any]]]:
    """The rows of orders, the most recently touched first."""
    after = None
    while True:
        with database.reading() as session:
            found = orders.listed(session, store_id, words, AT_ONCE, after)
            rows: list[Mapping[str, Any]] = [order_row(*one) for one in found]
        yield rows
        if len(found) < AT_ONCE:
            return
        after = (found[-1][0].last_event_at, found[-1][0].id or 0)


def person_row(person: ContactRow) -> dict[str, Any]:
    said = {name: getattr(person, name) or "" for name in PERSON}
    return {"id": person.id, **said, "first_seen": moment(person.first_seen)}


def person_parts(database: Database, store_id: int) -> Iterator[list[Mapping[str, Any]]]:
    """The rows of customers, those who came last first."""
    after = None
    while True:
        with database.reading() as session:
            found = people.listed(session, store_id, "", AT_ONCE, after)
            rows: list[Mapping[str, Any]] = [person_row(one) for one in found]
        yield rows
        if len(found) < AT_ONCE:
            return
        assert found[-1].first_seen is not None
        after = (found[-1].first_seen, found[-1].id or 0)
