"""Tables of the shop's own: their rows by key, a version each time they are replaced; rows given out once."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, and_, delete, func, insert, select, update

from angelon.core.states import State
from angelon.db.bulk import Bulk
from angelon.db.rows import ShopTableItem, ShopTableRecord, row_of, rows_of
from angelon.db.tables import SendRow, ShopTableItemRow, ShopTableRow, table_of

TABLE = table_of(ShopTableRow)
SEND = table_of(SendRow)
ITEM = table_of(ShopTableItemRow)
_ADD = Bulk(insert(ITEM))
_LOADED: dict[tuple[str, int, int], dict[str, Mapping[str, str]]] = {}
"""What was loaded last, by database, table and version: a set-up is read far more often than a table is replaced."""


def of_store(connection: Connection, store_id: int) -> list[ShopTableRecord]:
    return rows_of(
        ShopTableRecord, connection.execute(select(TABLE).where(TABLE.c.store_id == store_id).order_by(TABLE.c.name))
    )


def get(connection: Connection, store_id: int, key: str) -> ShopTableRecord | None:
    mine = select(TABLE).where(TABLE.c.store_id == store_id, TABLE.c.key == key)
    return row_of(ShopTableRecord, connection.execute(mine))


def hold(connection: Connection, table_id: int) -> ShopTableRecord | None:
    """The table as it is now, which nobody else changes before the transaction ends."""
    return row_of(ShopTableRecord, connection.execute(select(TABLE).where(TABLE.c.id == table_id).with_for_update()))


def add(connection: Connection, **values: Any) -> int:
    return int(connection.execute(insert(TABLE).values(**values).returning(TABLE.c.id)).scalar_one())


def change(connection: Connection, table_id: int, **values: Any) -> None:
    values["edits"] = TABLE.c.edits + 1
    connection.execute(update(TABLE).where(TABLE.c.id == table_id).values(**values))


def due(connection: Connection, now: dt.datetime) -> list[ShopTableRecord]:
    """The tables whose time to be fetched has come, those that wait longest first."""
    due_ = select(TABLE).where(TABLE.c.due_at <= now).order_by(TABLE.c.due_at)
    return rows_of(ShopTableRecord, connection.execute(due_))


def claim(connection: Connection, table: ShopTableRecord, until: dt.datetime) -> bool:
    """Takes a table that is due for oneself: nobody else fetches it before a moment, whatever becomes of oneself."""
    where = (TABLE.c.id == table.id, TABLE.c.due_at == table.due_at)
    return connection.execute(update(TABLE).where(*where).values(due_at=until)).rowcount == 1


def note_fetched(connection: Connection, table: ShopTableRecord, **values: Any) -> None:
    """What became of fetching, where it is still set up as it was."""
    where = (TABLE.c.id == table.id, TABLE.c.fetch == table.fetch)
    connection.execute(update(TABLE).where(*where).values(**values))


def drop(connection: Connection, table_id: int) -> None:
    """Takes a table away whose rows are gone."""
    connection.execute(delete(TABLE).where(TABLE.c.id == table_id))


def add_items(connection: Connection, table_id: int, version: int, rows: Sequence[tuple[str, list[str]]]) -> None:
    _ADD.run(
        connection, [{"table_id": table_id, "version": version, "key": key, "cells": cells} for key, cells in rows]
    )


def drop_items(connection: Connection, table_id: int, limit: int, but: int | None = None) -> int:
    """Takes away rows of other versions than one (of all, where none is named) that nobody was given; says how many."""
    other = (ITEM.c.version != but,) if but is not None else ()
    which = select(ITEM.c.id).where(ITEM.c.table_id == table_id, ITEM.c.send_id.is_(None), *other).limit(limit)
    ids = list(connection.execute(which).scalars())
    if ids:
        connection.execute(delete(ITEM).where(ITEM.c.id.in_(ids)))
    return len(ids)


def items(
    connection: Connection, table_id: int, version: int, after: int = 0, limit: int = 1000, keys: Collection[str] = ()
) -> list[ShopTableItem]:
    """The rows of a version in their order, or those with some keys."""
    where = [ITEM.c.table_id == table_id, ITEM.c.version == version, ITEM.c.id > after]
    if keys:
        where.append(ITEM.c.key.in_(list(keys)))
    return rows_of(ShopTableItem, connection.execute(select(ITEM).where(*where).order_by(ITEM.c.id).limit(limit)))


def counts(connection: Connection, table_ids: Collection[int]) -> dict[int, tuple[int, int]]:
    """(rows of the version that holds, those of them that nobody was given) by table."""
    mine = ITEM.c.table_id == TABLE.c.id, ITEM.c.version == TABLE.c.version
    free = func.count(ITEM.c.id).filter(ITEM.c.send_id.is_(None))
    statement = select(TABLE.c.id, func.count(ITEM.c.id), free).join(ITEM, and_(*mine))
    rows = connection.execute(statement.where(TABLE.c.id.in_(table_ids)).group_by(TABLE.c.id))
    return {id_: (number, left) for id_, number, left in rows}


def left(connection: Connection, table: ShopTableRecord, most: int) -> int:
    """How many rows nobody was given; no more than `most` are counted."""
    free = (ITEM.c.table_id == table.id, ITEM.c.version == table.version, ITEM.c.send_id.is_(None))
    found = select(ITEM.c.id).where(*free).limit(most).subquery()
    return int(connection.execute(select(func.count()).select_from(found)).scalar_one())


def given(connection: Connection, table_id: int, limit: int) -> list[ShopTableItem]:
    """The rows that were given out last: key, send, when."""
    where = (ITEM.c.table_id == table_id, ITEM.c.send_id.is_not(None))
    return rows_of(
        ShopTableItem, connection.execute(select(ITEM).where(*where).order_by(ITEM.c.given_at.desc()).limit(limit))
    )


def _back() -> Any:
    """Rows whose send was skipped or cancelled before anybody was handed it."""
    ended = and_(SEND.c.state.in_((State.SKIPPED, State.CANCELLED)), SEND.c.tries == 0)
    return ITEM.c.send_id.in_(select(SEND.c.id).where(ended, SEND.c.id == ITEM.c.send_id))


def to_give_back(connection: Connection, limit: int) -> list[int]:
    """Rows that are free again, and not marked so yet."""
    return list(
        connection.execute(select(ITEM.c.id).where(ITEM.c.send_id.is_not(None), _back()).limit(limit)).scalars()
    )


def give_back(connection: Connection, ids: Collection[int]) -> int:
    """Has those of these rows that are free again be given to others; says how many."""
    where = (ITEM.c.id.in_(ids), _back())
    return connection.execute(update(ITEM).where(*where).values(send_id=None, given_at=None)).rowcount


def give(connection: Connection, store_id: int, key: str, send_id: str, now: dt.datetime) -> dict[str, Any] | None:
    """The row that a send gives out: the one that it was given before, else a free one, which is its own from now on.
    None where none is left, or there is no such table.
    """
    table = get(connection, store_id, key)
    if table is None or not table.once:
        return None
    mine = (ITEM.c.table_id == table.id, ITEM.c.version == table.version)
    row = connection.execute(select(ITEM).where(ITEM.c.send_id == send_id, *mine)).first()
    if row is None:
        free = select(ITEM).where(*mine, ITEM.c.send_id.is_(None)).order_by(ITEM.c.id).limit(1)
        row = connection.execute(free.with_for_update(skip_locked=True)).first()  # none that another has in hand
        if row is None:
            return None
        connection.execute(update(ITEM).where(ITEM.c.id == row.id).values(send_id=send_id, given_at=now))
    return dict(zip(table.columns, row.cells, strict=False))


def given_out(connection: Connection, store_id: int) -> dict[str, tuple[str, ...]]:
    """The tables of a store whose rows are given out, with their columns."""
    return {table.key: tuple(table.columns) for table in of_store(connection, store_id) if table.once}


def loaded(connection: Connection, database: str, store_id: int) -> dict[str, Mapping[str, str]]:
    """What the tables of a store say, by table and column (`prices.net`) and key; those that are given out do not."""
    made: dict[str, Mapping[str, str]] = {}
    for table in of_store(connection, store_id):
        if table.once:
            continue
        known = (database, table.id, table.version)
        if known not in _LOADED:
            for old in [one for one in _LOADED if one[:2] == known[:2]]:
                del _LOADED[old]
            columns: dict[str, dict[str, str]] = {name: {} for name in table.columns[1:]}
            found = select(ITEM.c.key, ITEM.c.cells).where(ITEM.c.table_id == table.id, ITEM.c.version == table.version)
            for row in connection.execute(found):
                for name, cell in zip(table.columns[1:], row.cells[1:], strict=False):
                    columns[name][row.key] = cell
            _LOADED[known] = {f"{table.key}.{name}": cells for name, cells in columns.items()}
        made |= _LOADED[known]
    return made
