"""Orders and contacts: what the events say so far."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable
from typing import Any

from sqlalchemy import Connection, Table, bindparam, insert, or_, tuple_, update
from sqlalchemy import select as core_select
from sqlmodel import Session, col, select

from angelon.db.tables import ContactRow, EventRow, OrderRow, SourceRow

ORDER: Table = OrderRow.__table__  # type: ignore[attr-defined]
CONTACT: Table = ContactRow.__table__  # type: ignore[attr-defined]


_ORDER_COLUMNS = ("number", "status", "seen", "total", "placed_at", "last_event_at", "contact_id", "language", "read")
_CONTACT_COLUMNS = ("name", "email", "phone", "country", "language")
_INSERT_ORDER = insert(ORDER).returning(ORDER.c.id)
_UPDATE_ORDER = (
    update(ORDER).where(ORDER.c.id == bindparam("b_id")).values({name: bindparam(name) for name in _ORDER_COLUMNS})
)
_INSERT_CONTACT = insert(CONTACT).returning(CONTACT.c.id)
_UPDATE_CONTACT = (
    update(CONTACT)
    .where(CONTACT.c.id == bindparam("b_id"))
    .values({name: bindparam(name) for name in _CONTACT_COLUMNS})
)


class Ledger:
    """The orders and contacts that one batch of events touches: read at once, changed in memory, written at once.

    A new order or contact is inserted at its first touch, since others refer to its id.
    """

    def __init__(
        self, connection: Connection, store_id: int, keys: Iterable[tuple[int, str]], marks: Iterable[str]
    ) -> None:
        self._connection = connection
        self._store_id = store_id
        keys, marks = sorted(set(keys)), sorted(set(marks))
        rows = (
            connection.execute(core_select(ORDER).where(tuple_(ORDER.c.source_id, ORDER.c.reference).in_(keys)))
            if keys
            else []
        )
        self.orders: dict[tuple[int, str], dict[str, Any]] = {
            (row.source_id, row.reference): dict(row._mapping) for row in rows
        }
        found = (
            connection.execute(core_select(CONTACT).where(CONTACT.c.store_id == store_id, CONTACT.c.mark.in_(marks)))
            if marks
            else []
        )
        self._contacts: dict[str, dict[str, Any]] = {row.mark: dict(row._mapping) for row in found}
        self._changed_orders: set[tuple[int, str]] = set()
        self._changed_contacts: set[str] = set()

    def order(self, key: tuple[int, str], values: dict[str, Any]) -> int:
        """Takes an order's new values; gives its id."""
        row = self.orders.get(key)
        if row is None:
            row = {
                "store_id": self._store_id,
                "source_id": key[0],
                "reference": key[1],
                **dict.fromkeys(_ORDER_COLUMNS),
                "status": "",
                "total": "",
                "language": "",
                **values,
            }
            row["id"] = self._connection.execute(_INSERT_ORDER, row).scalar_one()
            self.orders[key] = row
        else:
            row.update(values)
            self._changed_orders.add(key)
        return int(row["id"])

    def contact(self, mark: str, values: dict[str, str], now: dt.datetime) -> int:
        """Takes what an event says of a customer, keeping what it does not say; gives their id."""
        row = self._contacts.get(mark)
        if row is None:
            row = {"store_id": self._store_id, "mark": mark, "first_seen": now, **values}
            row["id"] = self._connection.execute(_INSERT_CONTACT, row).scalar_one()
            self._contacts[mark] = row
        else:
            said = {name: value for name, value in values.items() if value and row[name] != value}
            if said:
                row.update(said)
                self._changed_contacts.add(mark)
        return int(row["id"])

    def language(self, contact_id: int | None) -> str:
        """The language that a customer is known by."""
        return (
            next((row["language"] or "" for row in self._contacts.values() if row["id"] == contact_id), "")
            if contact_id is not None
            else ""
        )

    def write(self) -> None:
        """Writes what was changed."""
        if self._changed_orders:
            rows = (self.orders[key] for key in self._changed_orders)
            self._connection.execute(
                _UPDATE_ORDER, [{"b_id": row["id"], **{name: row[name] for name in _ORDER_COLUMNS}} for row in rows]
            )
        if self._changed_contacts:
            found = (self._contacts[mark] for mark in self._changed_contacts)
            self._connection.execute(
                _UPDATE_CONTACT,
                [{"b_id": row["id"], **{name: row[name] for name in _CONTACT_COLUMNS}} for row in found],
            )


def statuses(session: Session, source_id: int) -> list[str]:
    """The statuses that a source's newest orders have had, in the store's own words."""
    rows = session.exec(
        select(OrderRow.seen)
        .where(OrderRow.source_id == source_id)
        .order_by(col(OrderRow.last_event_at).desc())
        .limit(200)
    )
    return sorted({status for seen in rows for status, _ in seen or []})[:30]


def listed(
    session: Session, store_id: int, words: str = "", limit: int = 100, before: dt.datetime | None = None
) -> list[tuple[OrderRow, ContactRow | None, str]]:
    """Orders with their customer and source key, the most recently touched first."""
    statement = (
        select(OrderRow, ContactRow, SourceRow.key)
        .outerjoin(ContactRow, col(ContactRow.id) == col(OrderRow.contact_id))
        .join(SourceRow, col(SourceRow.id) == col(OrderRow.source_id))
        .where(OrderRow.store_id == store_id)
    )
    for word in words.split()[:6]:
        like = f"%{word.replace('~', '~~').replace('%', '~%').replace('_', '~_')}%"
        statement = statement.where(
            or_(
                *(
                    c.ilike(like, escape="~")
                    for c in (ORDER.c.number, ORDER.c.reference, CONTACT.c.name, CONTACT.c.email, CONTACT.c.phone)
                )
            )
        )
    if before:
        statement = statement.where(col(OrderRow.last_event_at) < before)
    return [(o, c, k) for o, c, k in session.exec(statement.order_by(col(OrderRow.last_event_at).desc()).limit(limit))]


def events_of(session: Session, order_id: int) -> list[EventRow]:
    """An order's events, oldest first."""
    return list(
        session.exec(
            select(EventRow)
            .where(EventRow.order_id == order_id)
            .order_by(col(EventRow.received_at), col(EventRow.parent_id).is_not(None), col(EventRow.id))
        )
    )


def told_counts(session: Session, order_ids: list[int]) -> dict[int, dict[str, int]]:
    """For each order how many of its sends stand in each state."""
    from sqlalchemy import func

    from angelon.db.tables import SendRow

    found: dict[int, dict[str, int]] = {}
    rows = session.exec(
        select(SendRow.order_id, SendRow.state, func.count())
        .where(col(SendRow.order_id).in_(order_ids))
        .group_by(SendRow.order_id, SendRow.state)
    )  # type: ignore[call-overload]
    for order_id, state, number in rows:
        found.setdefault(order_id, {})[state] = number
    return found
