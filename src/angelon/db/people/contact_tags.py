"""Tags of customers: words that a handler or a person has put to them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping

from sqlalchemy import Connection, bindparam, delete, exists, insert
from sqlalchemy import select as core_select

from angelon.db.lists import each_once, not_by_index
from angelon.db.tables import ContactRow, ContactTagRow, table_of

TAG = table_of(ContactTagRow)
CONTACT = table_of(ContactRow)
_OF = core_select(TAG.c.contact_id, TAG.c.tag).where(TAG.c.contact_id.in_(bindparam("b_ids", expanding=True)))


def of(connection: Connection, contact_ids: Collection[int]) -> dict[int, tuple[str, ...]]:
    """The tags of customers, in the order of the alphabet; those without one are left out."""
    found: dict[int, list[str]] = {}
    if contact_ids:
        for contact_id, tag in connection.execute(_OF, {"b_ids": list(contact_ids)}):
            found.setdefault(int(contact_id), []).append(tag)
    return {contact_id: tuple(sorted(tags)) for contact_id, tags in found.items()}


def change(
    connection: Connection,
    contact_id: int,
    changes: Mapping[str, bool],
    known: Collection[str],
    by: str,
    now: dt.datetime,
) -> tuple[str, ...]:
    """Sets tags (True) and takes them off (False); `known` are those that are set. Gives those that are set then."""
    new = [tag for tag, on in changes.items() if on and tag not in known]
    if new:
        rows = [{"contact_id": contact_id, "tag": tag, "set_at": now, "set_by": by[:100]} for tag in new]
        connection.execute(insert(TAG), rows)
    gone = [tag for tag, on in changes.items() if not on and tag in known]
    if gone:
        connection.execute(delete(TAG).where(TAG.c.contact_id == contact_id, TAG.c.tag.in_(gone)))
    return tuple(sorted({*known, *new} - set(gone)))


def in_use(connection: Connection, store_id: int) -> list[str]:
    """Every tag that somebody of a store has."""
    return list(connection.execute(_IN_USE, {"b_store": store_id}).scalars())


_EVERY = each_once(TAG.c.tag).c.value
_OF_STORE = not_by_index(CONTACT.c.store_id) == bindparam("b_store")
_SOMEBODY = exists().where(TAG.c.tag == _EVERY, CONTACT.c.id == TAG.c.contact_id, _OF_STORE)
_IN_USE = core_select(_EVERY).where(_EVERY.is_not(None), _SOMEBODY).order_by(_EVERY).limit(500)


_OF_IDENTITIES = (
    core_select(CONTACT.c.identity, TAG.c.tag)
    .join(TAG, TAG.c.contact_id == CONTACT.c.id)
    .where(CONTACT.c.store_id == bindparam("b_store"))
    .where(CONTACT.c.identity.in_(bindparam("b_identities", expanding=True)))
    .order_by(TAG.c.tag)
)


def of_identities(connection: Connection, store_id: int, identities: Collection[str]) -> dict[str, tuple[str, ...]]:
    """The tags of the customers that a store knows by these identities, of those that have any."""
    found: dict[str, tuple[str, ...]] = {}
    wanted = [identity for identity in identities if identity]
    given = {"b_store": store_id, "b_identities": wanted}
    for identity, tag in connection.execute(_OF_IDENTITIES, given) if wanted else ():
        found[identity] = (*found.get(identity, ()), tag)
    return found
