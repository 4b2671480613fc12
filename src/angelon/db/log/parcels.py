"""Parcels: what was told of each, and what of which order is in it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping, Sequence
from typing import Any, NamedTuple

from sqlalchemy import ColumnElement, Connection, bindparam, delete, exists, func, text, update
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite
from sqlmodel import Session

from angelon.core.parcels.numbers import normal
from angelon.core.parcels.stages import Stage
from angelon.db.bulk import Bulk
from angelon.db.lists import not_by_index, older_than
from angelon.db.rows import ParcelOfOrder, ParcelRecord, row_of, rows_of
from angelon.db.tables import SAID, OrderRow, ParcelLineRow, ParcelRow, table_of

PARCEL = table_of(ParcelRow)
LINE = table_of(ParcelLineRow)
ORDER = table_of(OrderRow)
MOST_OF_ORDER = 100
"""Parcels of one order that are looked at."""
_OF_ORDERS = (
    core_select(PARCEL, LINE.c.order_id, LINE.c.item, LINE.c.name, LINE.c.quantity)
    .join(LINE, LINE.c.parcel_id == PARCEL.c.id)
    .where(LINE.c.order_id.in_(bindparam("b_orders", expanding=True)))
    .order_by(PARCEL.c.id, LINE.c.id)
)
_ORDERS_OF = (
    core_select(LINE.c.parcel_id, LINE.c.order_id)
    .where(LINE.c.parcel_id.in_(bindparam("b_ids", expanding=True)))
    .distinct()
    .order_by(LINE.c.order_id)
)
_BY_NUMBER = (
    core_select(PARCEL)
    .where(PARCEL.c.store_id == bindparam("b_store"), PARCEL.c.number_key.in_(bindparam("b_keys", expanding=True)))
    .order_by(PARCEL.c.turn.desc(), PARCEL.c.id.desc())
)


TOLD = (
    *("carrier", "told", "stage", "country", "expected_on", "expected_told_at", "last_at", "picked_at"),
    *("delivered_at", "look_at", "trouble", "said_order", "unknown"),
)
"""The columns that a telling may change."""
_SAVE = Bulk(update(PARCEL).where(PARCEL.c.id == bindparam("b_id")).values({name: bindparam(name) for name in TOLD}))
_ADD = PARCEL.insert().returning(PARCEL.c.id)
_IN_IT = core_select(LINE.c.item).where(
    LINE.c.parcel_id == bindparam("b_parcel"), LINE.c.order_id == bindparam("b_order")
)
_PUT = {
    name: dialect.insert(LINE).on_conflict_do_nothing()
    for name, dialect in (("sqlite", sqlite), ("postgresql", postgresql))
}


class Item(NamedTuple):
    """What of an order's line is in a parcel; an empty item is the whole order."""

    item: str = ""
    name: str = ""
    quantity: str = ""

    @property
    def said(self) -> str:
        """`2 × Rope`."""
        return " × ".join(part for part in (self.quantity, self.name or self.item) if part)


class OfOrder(NamedTuple):
    """A parcel of an order (a row of its table), and what of the order is in it."""

    row: ParcelRecord
    items: list[Item]


def of_orders(connection: Connection, order_ids: Collection[int]) -> dict[int, list[OfOrder]]:
    """The parcels of orders, oldest first, in one query."""
    found: dict[int, dict[int, OfOrder]] = {}
    rows = connection.execute(_OF_ORDERS, {"b_orders": list(order_ids)}) if order_ids else ()
    for row in rows_of(ParcelOfOrder, rows):
        of_order = found.setdefault(row.order_id, {})
        if row.id in of_order or len(of_order) < MOST_OF_ORDER:
            of_order.setdefault(row.id, OfOrder(row, [])).items.append(Item(row.item, row.name, row.quantity))
    return {order_id: list(parcels.values()) for order_id, parcels in found.items()}


def orders_of(connection: Connection, parcel_ids: Collection[int]) -> dict[int, list[int]]:
    """The orders that are in parcels, by parcel."""
    found: dict[int, list[int]] = {}
    for parcel_id, order_id in connection.execute(_ORDERS_OF, {"b_ids": list(parcel_ids)}) if parcel_ids else ():
        found.setdefault(parcel_id, []).append(order_id)
    return found


def by_number(connection: Connection, store_id: int, number_keys: Collection[str]) -> dict[str, list[ParcelRecord]]:
    """Parcels by their number (`normal`), the newest of each first."""
    found: dict[str, list[ParcelRecord]] = {}
    given = {"b_store": store_id, "b_keys": list(number_keys)}
    for row in rows_of(ParcelRecord, connection.execute(_BY_NUMBER, given)):
        found.setdefault(row.number_key, []).append(row)
    return found


def get(connection: Connection, store_id: int, parcel_id: int) -> ParcelRecord | None:
    where = (PARCEL.c.id == parcel_id, PARCEL.c.store_id == store_id)
    return row_of(ParcelRecord, connection.execute(core_select(PARCEL).where(*where)))


def add(connection: Connection, values: Mapping[str, Any]) -> int:
    """Stores a new parcel; gives its id."""
    return int(connection.execute(_ADD, dict(values)).scalar_one())


def save(connection: Connection, parcel_id: int, values: Mapping[str, Any]) -> None:
    """Stores what is known of a parcel now: a value for each of `TOLD`."""
    _SAVE.run(connection, [{"b_id": parcel_id, **values}])


def change(connection: Connection, parcel_id: int, **values: Any) -> None:
    connection.execute(update(PARCEL).where(PARCEL.c.id == parcel_id).values(**values))


def put_in(connection: Connection, parcel_id: int, order_id: int, items: Sequence[Item]) -> bool:
    """Notes what of an order is in a parcel; says whether the order had nothing in it before. Items take the place of
    the whole order.
    """
    there = set(connection.execute(_IN_IT, {"b_parcel": parcel_id, "b_order": order_id}).scalars())
    wanted = [one for one in dict.fromkeys(items or (Item(),)) if one.item or not there]
    if "" in there and wanted:
        whole = (LINE.c.parcel_id == parcel_id, LINE.c.order_id == order_id, LINE.c.item == "")
        connection.execute(delete(LINE).where(*whole))
    new = [one._asdict() | {"parcel_id": parcel_id, "order_id": order_id} for one in wanted if one.item not in there]
    if new:
        connection.execute(_PUT[connection.dialect.name], new)
    return not there


def take_out(connection: Connection, parcel_id: int, order_id: int) -> None:
    """Takes an order out of a parcel, and with it the parcel where nothing else is in it."""
    connection.execute(delete(LINE).where(LINE.c.parcel_id == parcel_id, LINE.c.order_id == order_id))
    _drop_empty(connection, [parcel_id])


def forget(connection: Connection, order_ids: Collection[int]) -> None:
    """Takes orders out of all parcels that they are in."""
    of_them = core_select(LINE.c.parcel_id).where(LINE.c.order_id.in_(list(order_ids))).distinct()
    ids = list(connection.execute(of_them).scalars())
    if ids:
        connection.execute(delete(LINE).where(LINE.c.order_id.in_(list(order_ids))))
        _drop_empty(connection, ids)


def _drop_empty(connection: Connection, ids: Collection[int]) -> None:
    left = exists(core_select(LINE.c.id).where(LINE.c.parcel_id == PARCEL.c.id))
    connection.execute(delete(PARCEL).where(PARCEL.c.id.in_(list(ids)), ~left))


def take_to(connection: Connection, other_id: int, order_id: int) -> None:
    """Has the parcels of an order be another's, with which it was joined."""
    mine = core_select(LINE.c.parcel_id).where(LINE.c.order_id == order_id).scalar_subquery()
    connection.execute(delete(LINE).where(LINE.c.order_id == other_id, LINE.c.parcel_id.in_(mine)))
    connection.execute(update(LINE).where(LINE.c.order_id == other_id).values(order_id=order_id))


def due(connection: Connection, now: dt.datetime, limit: int, store_id: int | None = None) -> list[ParcelRecord]:
    """Parcels whose time has come: they may be late, count as delivered or be lost."""
    where = [PARCEL.c.look_at.is_not(None), PARCEL.c.look_at <= now]
    if store_id is not None:
        where.append(not_by_index(PARCEL.c.store_id) == store_id)
    return rows_of(
        ParcelRecord, connection.execute(core_select(PARCEL).where(*where).order_by(PARCEL.c.look_at).limit(limit))
    )


_SAID = core_select(PARCEL).where(
    PARCEL.c.store_id == bindparam("b_store"),
    text(SAID),  # as the index says it
    PARCEL.c.said_order.in_(bindparam("b_numbers", expanding=True)),
)


def said(connection: Connection, store_id: int, numbers: Collection[str]) -> list[ParcelRecord]:
    """Parcels that are for orders of these numbers, which were not known when they were told."""
    if not numbers:
        return []
    return rows_of(ParcelRecord, connection.execute(_SAID, {"b_store": store_id, "b_numbers": list(numbers)}))


# ---- lists


class Wanted(NamedTuple):
    """Which parcels a list shows."""

    stage: str = ""
    carrier: str = ""
    trouble: str = ""
    """`late`, `lost`, `failed`; `unknown` for words whose meaning nobody knows; `any` for each of them."""
    number: str = ""

    def where(self, store_id: int) -> list[ColumnElement[bool]]:
        made: list[ColumnElement[bool]] = [PARCEL.c.store_id == store_id]
        if self.stage:
            made.append(PARCEL.c.stage == self.stage)
        if self.carrier:
            made.append(PARCEL.c.carrier == self.carrier)
        if self.trouble == "unknown":
            made.append(PARCEL.c.unknown != "")
        elif self.trouble == "any":
            made.append(PARCEL.c.trouble != "")
        elif self.trouble:
            made += [PARCEL.c.trouble != "", PARCEL.c.trouble == self.trouble]
        if key := normal(self.number):
            made.append(PARCEL.c.number_key == key)
        return made


def listed(
    session: Session, store_id: int, wanted: Wanted, limit: int, before: tuple[dt.datetime, int] | None = None
) -> list[ParcelRecord]:
    """Parcels that fit, those first of which something was told last."""
    statement = core_select(PARCEL).where(*wanted.where(store_id))
    if before is not None:
        statement = statement.where(older_than(PARCEL.c.last_at, PARCEL.c.id, before))
    ordered = statement.order_by(PARCEL.c.last_at.desc(), PARCEL.c.id.desc()).limit(limit)
    return rows_of(ParcelRecord, session.connection().execute(ordered))


def orders_in(session: Session, parcel_ids: Collection[int]) -> dict[int, list[tuple[int, str]]]:
    """The orders (id, number) that are in parcels, by parcel."""
    found: dict[int, list[tuple[int, str]]] = {}
    statement = core_select(LINE.c.parcel_id, ORDER.c.id, ORDER.c.number).join(ORDER, ORDER.c.id == LINE.c.order_id)
    rows = statement.where(LINE.c.parcel_id.in_(list(parcel_ids))).distinct().order_by(ORDER.c.id)
    for parcel_id, order_id, number in session.connection().execute(rows) if parcel_ids else ():
        found.setdefault(parcel_id, []).append((order_id, number))
    return found


def orders_without(session: Session, store_id: int, since: dt.datetime, limit: int) -> list[Any]:
    """The newest orders, placed since, that are in no parcel: (id, number, status, placed_at)."""
    in_one = exists(core_select(LINE.c.id).where(LINE.c.order_id == ORDER.c.id))
    columns = (ORDER.c.id, ORDER.c.number, ORDER.c.status, ORDER.c.placed_at)
    statement = core_select(*columns).where(ORDER.c.store_id == store_id, ORDER.c.placed_at >= since, ~in_one)
    return list(session.connection().execute(statement.order_by(ORDER.c.placed_at.desc()).limit(limit)))


def counts(session: Session, store_id: int, since: dt.datetime) -> dict[tuple[str, str], int]:
    """How many parcels of which something was told since are how far, by (stage, carrier)."""
    statement = core_select(PARCEL.c.stage, PARCEL.c.carrier, func.count()).where(
        PARCEL.c.store_id == store_id, PARCEL.c.last_at >= since
    )
    rows = session.connection().execute(statement.group_by(PARCEL.c.stage, PARCEL.c.carrier))
    return {(stage, carrier): number for stage, carrier, number in rows}


def under_way(session: Session, store_id: int, since: dt.datetime) -> list[tuple[str, str, str, str, int]]:
    """Parcels that are not delivered yet, and of which something was told since: (carrier, stage, trouble, words whose
    meaning nobody knows, number).
    """
    stages = ["", *(stage.value for stage in Stage if stage not in (Stage.DELIVERED, Stage.RETURNED))]
    by = (PARCEL.c.carrier, PARCEL.c.stage, PARCEL.c.trouble, PARCEL.c.unknown)
    where = (PARCEL.c.store_id == store_id, PARCEL.c.stage.in_(stages), PARCEL.c.last_at >= since)
    return [
        tuple(row) for row in session.connection().execute(core_select(*by, func.count()).where(*where).group_by(*by))
    ]


def troubles(session: Session, store_id: int) -> dict[str, int]:
    """How many parcels are late, lost or were not handed over."""
    where = (PARCEL.c.store_id == store_id, PARCEL.c.trouble != "")
    rows = session.connection().execute(
        core_select(PARCEL.c.trouble, func.count()).where(*where).group_by(PARCEL.c.trouble)
    )
    return {trouble: number for trouble, number in rows}


def unknown_words(session: Session, store_id: int, since: dt.datetime, limit: int = 20) -> list[tuple[str, str, int]]:
    """Words whose meaning nobody knows, of parcels told of since: (carrier, words, parcels), the commonest first."""
    where = (PARCEL.c.store_id == store_id, PARCEL.c.last_at >= since, PARCEL.c.unknown != "")
    number = func.count()
    statement = core_select(PARCEL.c.carrier, PARCEL.c.unknown, number).where(*where)
    grouped = statement.group_by(PARCEL.c.carrier, PARCEL.c.unknown).order_by(number.desc()).limit(limit)
    return [tuple(row) for row in session.connection().execute(grouped)]


def took(session: Session, store_id: int, since: dt.datetime, most: int = 20_000) -> list[tuple[str, str, float]]:
    """Days from the order to the door, of parcels delivered since: (carrier, country, days), the newest `most`."""
    placed = func.min(ORDER.c.placed_at)
    statement = (
        core_select(PARCEL.c.carrier, PARCEL.c.country, PARCEL.c.delivered_at, placed)
        .join(LINE, LINE.c.parcel_id == PARCEL.c.id)
        .join(ORDER, ORDER.c.id == LINE.c.order_id)
        .where(PARCEL.c.store_id == store_id, PARCEL.c.last_at >= since, PARCEL.c.delivered_at.is_not(None))
        .group_by(PARCEL.c.id, PARCEL.c.carrier, PARCEL.c.country, PARCEL.c.delivered_at)
        .order_by(PARCEL.c.id.desc())
        .limit(most)
    )
    rows = session.connection().execute(statement)
    return [(carrier, country, (at - since_).total_seconds() / 86400) for carrier, country, at, since_ in rows]
