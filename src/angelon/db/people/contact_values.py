"""What events have said of customers by the variables that are kept: every change, so that any moment can be asked."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping, Sequence
from typing import Any, NamedTuple

from sqlalchemy import Connection, bindparam, delete, func, insert, update
from sqlalchemy import select as core_select

from angelon.core.values import Value, pack, unpack
from angelon.db.people.contact_tags import CONTACT
from angelon.db.tables import ContactValueRow, table_of

KEPT = table_of(ContactValueRow)
_OF = (
    core_select(KEPT.c.contact_id, KEPT.c.name, KEPT.c.value, KEPT.c.set_at)
    .where(KEPT.c.contact_id.in_(bindparam("b_ids", expanding=True)))
    .order_by(KEPT.c.set_at, KEPT.c.id)
)

_NEWEST = core_select(KEPT).where(
    KEPT.c.id.in_(
        core_select(func.max(KEPT.c.id))
        .where(KEPT.c.contact_id.in_(bindparam("b_ids", expanding=True)))
        .group_by(KEPT.c.contact_id, KEPT.c.name)
    )
)


class KeptValue(NamedTuple):
    """A value, and when the event came that said it (aware)."""

    value: Value
    since: dt.datetime


def of(connection: Connection, contact_ids: Collection[int]) -> dict[int, dict[str, list[KeptValue]]]:
    """Every value that these customers' variables have had, oldest first; those without one are left out."""
    found: dict[int, dict[str, list[KeptValue]]] = {}
    for row in connection.execute(_OF, {"b_ids": list(contact_ids)}) if contact_ids else ():
        seen = found.setdefault(int(row.contact_id), {}).setdefault(row.name, [])
        seen.append(KeptValue(unpack(row.value), row.set_at))
    return found


def newest(connection: Connection, contact_ids: Collection[int]) -> dict[int, dict[str, KeptValue]]:
    """The last value of each of these customers' variables, however often they have changed."""
    found: dict[int, dict[str, KeptValue]] = {}
    for row in connection.execute(_NEWEST, {"b_ids": list(contact_ids)}) if contact_ids else ():
        found.setdefault(int(row.contact_id), {})[row.name] = KeptValue(unpack(row.value), row.set_at)
    return found


def last(seen: Mapping[str, Sequence[KeptValue]], at: dt.datetime | None = None) -> dict[str, KeptValue]:
    """The last value of each variable, now or at a moment (aware)."""
    found = {}
    for name, values in seen.items():
        there = [one for one in values if at is None or one.since <= at]
        if there:
            found[name] = there[-1]
    return found


def add(connection: Connection, rows: Sequence[Mapping[str, Any]]) -> None:
    """Stores values as `row` made them."""
    if rows:
        connection.execute(insert(KEPT), list(rows))


def row(contact_id: int, name: str, value: Value, at: dt.datetime) -> dict[str, Any]:
    return {"contact_id": contact_id, "name": name, "value": pack(value), "set_at": at}


def rename(connection: Connection, store_id: int, old: str, new: str) -> None:
    """A variable's new name, for every customer of a store."""
    of_store = core_select(CONTACT.c.id).where(CONTACT.c.store_id == store_id)
    here = (KEPT.c.name == old, KEPT.c.contact_id.in_(of_store))
    connection.execute(update(KEPT).where(*here).values(name=new))


def forget(connection: Connection, contact_id: int) -> None:
    connection.execute(delete(KEPT).where(KEPT.c.contact_id == contact_id))
