"""Customers as lists and their own pages have them."""

from __future__ import annotations

import datetime as dt

from sqlmodel import Session, col, select

from angelon.core.messages.channels import address_key
from angelon.db.lists import contains, older_than
from angelon.db.tables import ContactRow, OrderRow


def listed(
    session: Session, store_id: int, words: str = "", limit: int = 100, after: tuple[dt.datetime, int] | None = None
) -> list[ContactRow]:
    """Those who came last first; those that come after one (when it was first seen, and its id)."""
    statement = select(ContactRow).where(ContactRow.store_id == store_id, col(ContactRow.first_seen).is_not(None))
    for word in words.split()[:6]:
        columns = (col(ContactRow.name), col(ContactRow.email), col(ContactRow.phone), col(ContactRow.identity))
        statement = statement.where(contains(word, *columns))
    if after is not None:
        statement = statement.where(older_than(col(ContactRow.first_seen), col(ContactRow.id), after))
    newest_first = (col(ContactRow.first_seen).desc(), col(ContactRow.id).desc())
    return list(session.exec(statement.order_by(*newest_first).limit(limit)))


def get(session: Session, store_id: int, contact_id: int) -> ContactRow | None:
    row = session.get(ContactRow, contact_id)
    return row if row is not None and row.store_id == store_id else None


def orders_of(session: Session, contact_id: int, limit: int = 200) -> list[OrderRow]:
    """A customer's orders, the most recently touched first."""
    statement = select(OrderRow).where(OrderRow.contact_id == contact_id)
    return list(
        session.exec(statement.order_by(col(OrderRow.last_event_at).desc(), col(OrderRow.id).desc()).limit(limit))
    )


def address_keys(contact: ContactRow) -> list[str]:
    """What a customer's addresses are known by among suppressions and consents."""
    return [
        address_key(channel, address)
        for channel, address in (("email", contact.email), ("sms", contact.phone))
        if address
    ]
