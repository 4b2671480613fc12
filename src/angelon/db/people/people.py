"""Customers as lists and their own pages have them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

from sqlalchemy import text
from sqlmodel import Session, col, select

from angelon.core.messages.channels import address_key
from angelon.db.derived import searching
from angelon.db.lists import not_by_index, older_than
from angelon.db.tables import SEEN, ContactRow, OrderRow


def listed(
    session: Session, store_id: int, words: str = "", limit: int = 100, after: tuple[dt.datetime, int] | None = None
) -> list[ContactRow]:
    """Those who came last first; those that come after one (when it was first seen, and its id)."""
    here = not_by_index(col(ContactRow.store_id)) if words.strip() else col(ContactRow.store_id)
    statement = select(ContactRow).where(here == store_id, text(SEEN))
    if words.strip():
        refs = searching.refs(session.connection(), "person", store_id, words, searching.MOST)
        statement = statement.where(col(ContactRow.id).in_([int(ref) for ref in refs]))
    if after is not None:
        statement = statement.where(older_than(col(ContactRow.first_seen), col(ContactRow.id), after))
    newest_first = (col(ContactRow.first_seen).desc(), col(ContactRow.id).desc())
    return list(session.exec(statement.order_by(*newest_first).limit(limit)))


def by_ids(session: Session, store_id: int, ids: Sequence[int]) -> list[ContactRow]:
    """Customers of a store, in the order of these ids."""
    statement = select(ContactRow).where(
        col(ContactRow.id).in_(list(ids)), not_by_index(col(ContactRow.store_id)) == store_id
    )
    found = {row.id: row for row in session.exec(statement)} if ids else {}
    return [found[id_] for id_ in ids if id_ in found]


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
