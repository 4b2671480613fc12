"""Orders and their customers as rows of a file."""

from __future__ import annotations

from typing import Any

from sqlmodel import Session

from angelon.db.log import history, orders
from angelon.db.log.orders import amount_of
from angelon.db.people import people
from angelon.db.tables import ContactRow, OrderRow
from angelon.engine.exports.lines import AT_ONCE, Rows, moment
from angelon.engine.exports.listed import Listed

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


class Orders(Listed):
    """The rows of orders, of those that have some words, the most recently touched first."""

    columns = ORDERS

    def __init__(self, store_id: int, words: str = "") -> None:
        self.store_id, self.words = store_id, words

    def read(self, session: Session) -> tuple[Rows, int]:
        found = orders.listed(session, self.store_id, self.words, AT_ONCE, self.after)
        if found:
            self.after = (found[-1][0].last_event_at, found[-1][0].id or 0)
        return [order_row(*one) for one in found], len(found)


def person_row(person: ContactRow) -> dict[str, Any]:
    said = {name: getattr(person, name) or "" for name in PERSON}
    return {"id": person.id, **said, "first_seen": moment(person.first_seen)}


class People(Listed):
    """The rows of customers, those who came last first."""

    columns = PEOPLE

    def __init__(self, store_id: int) -> None:
        self.store_id = store_id

    def read(self, session: Session) -> tuple[Rows, int]:
        found = people.listed(session, self.store_id, "", AT_ONCE, self.after)
        if found:
            assert found[-1].first_seen is not None
            self.after = (found[-1].first_seen, found[-1].id or 0)
        return [person_row(one) for one in found], len(found)
