"""Files whose rows are orders: kept in pieces, taken in parts."""

from __future__ import annotations

import datetime as dt
import io
import zlib
from collections.abc import Collection, Iterator
from typing import Any

from sqlalchemy import Connection, and_, delete, func, insert, literal, or_, select, update

from angelon.core.states import State
from angelon.db.rows import ImportRecord, row_of, rows_of
from angelon.db.tables import EventRow, ImportPartRow, ImportRow, SendRow, SourceRow, table_of

IMPORT = table_of(ImportRow)
EVENT = table_of(EventRow)
SEND = table_of(SendRow)
PART = table_of(ImportPartRow)
SOURCE = table_of(SourceRow)
AT_ONCE = 20
"""Files of which one sweep lets go."""
PIECE = 1_000_000
"""Bytes of a piece before it is packed."""
LOOKED_AT, WAITING, RUNNING, DONE, STOPPED, FAILED = "looked_at", "waiting", "running", "done", "stopped", "failed"
OPEN = (WAITING, RUNNING)


def pieces(data: bytes) -> Iterator[tuple[int, bytes]]:
    """A file's pieces as they are stored."""
    for number, start in enumerate(range(0, len(data), PIECE)):
        yield number, zlib.compress(data[start : start + PIECE], 1)


def add(connection: Connection, **values: Any) -> int:
    """A new row; gives its id."""
    found = connection.execute(insert(IMPORT).values(**values).returning(IMPORT.c.id)).scalar_one()
    return int(found)


def add_piece(connection: Connection, import_id: int, number: int, packed: bytes) -> None:
    connection.execute(insert(PART).values(import_id=import_id, number=number, data=packed))


def get(connection: Connection, source_id: int, import_id: int) -> ImportRecord | None:
    return row_of(
        ImportRecord,
        connection.execute(select(IMPORT).where(IMPORT.c.id == import_id, IMPORT.c.source_id == source_id)),
    )


def of_source(connection: Connection, source_id: int, limit: int) -> list[ImportRecord]:
    """The newest, those without errors and form: name, state, counts, times."""
    columns = [column for column in IMPORT.c if column.name not in ("errors", "form")]
    found = select(*columns).where(IMPORT.c.source_id == source_id).order_by(IMPORT.c.id.desc()).limit(limit)
    return rows_of(ImportRecord, connection.execute(found))


def with_trouble(connection: Connection, source_ids: Collection[int], since: dt.datetime) -> list[ImportRecord]:
    """Files that failed since a moment, or of which rows were not imported: the newest few."""
    where = (IMPORT.c.source_id.in_(source_ids), IMPORT.c.ended_at >= since)
    trouble = or_(IMPORT.c.state == FAILED, IMPORT.c.failed > 0)
    columns = (IMPORT.c.id, IMPORT.c.source_id, IMPORT.c.name, IMPORT.c.state, IMPORT.c.failed, IMPORT.c.problem)
    found = select(*columns).where(*where, trouble).order_by(IMPORT.c.id.desc()).limit(3)
    return rows_of(ImportRecord, connection.execute(found))


def due(connection: Connection, now: dt.datetime) -> list[ImportRecord]:
    """Those that wait, and those whose process is gone."""
    free = or_(IMPORT.c.held_until.is_(None), IMPORT.c.held_until < now)
    found = select(IMPORT.c.id, IMPORT.c.source_id).where(IMPORT.c.state.in_(OPEN), free).order_by(IMPORT.c.id)
    return rows_of(ImportRecord, connection.execute(found))


def claim(connection: Connection, import_id: int, now: dt.datetime, until: dt.datetime) -> ImportRecord | None:
    """Takes a file for oneself; its row, None where somebody else has it, or it was stopped."""
    free = or_(IMPORT.c.held_until.is_(None), IMPORT.c.held_until < now)
    where = (IMPORT.c.id == import_id, IMPORT.c.state.in_(OPEN), free)
    began = func.coalesce(IMPORT.c.began_at, literal(now, IMPORT.c.began_at.type))
    values = {"state": RUNNING, "held_until": until, "began_at": began}
    return row_of(ImportRecord, connection.execute(update(IMPORT).where(*where).values(**values).returning(IMPORT)))


def untold(connection: Connection, by: str, since: dt.datetime) -> list[ImportRecord]:
    """Files of folders that were imported since a moment, beside which it is not written yet what was told."""
    where = (IMPORT.c.by == by, IMPORT.c.state == DONE, IMPORT.c.ended_at >= since, IMPORT.c.told_at.is_(None))
    return rows_of(ImportRecord, connection.execute(select(IMPORT).where(*where).order_by(IMPORT.c.id).limit(AT_ONCE)))


def any_open(connection: Connection, source_id: int, since: dt.datetime, until: dt.datetime) -> bool:
    """Whether events of a source that came within a time are not planned, or have sends that wait."""
    came = (EVENT.c.source_id == source_id, EVENT.c.received_at >= since, EVENT.c.received_at <= until)
    waiting = select(EVENT.c.id).where(*came, EVENT.c.planned_at.is_(None)).limit(1)
    states = [State.SCHEDULED, State.SENDING, State.RETRYING]
    open_ = select(SEND.c.id).join(EVENT, EVENT.c.id == SEND.c.event_id).where(*came, SEND.c.state.in_(states)).limit(1)
    return any(connection.execute(one).first() is not None for one in (waiting, open_))


def hold(connection: Connection, import_id: int) -> ImportRecord | None:
    """The row as it is now, which nobody else changes before the transaction ends."""
    return row_of(ImportRecord, connection.execute(select(IMPORT).where(IMPORT.c.id == import_id).with_for_update()))


def change(connection: Connection, import_id: int, **values: Any) -> None:
    connection.execute(update(IMPORT).where(IMPORT.c.id == import_id).values(**values))


def content(connection: Connection, import_id: int) -> bytes:
    """A file's bytes; empty where they are no longer kept."""
    found = select(PART.c.data).where(PART.c.import_id == import_id).order_by(PART.c.number)
    made = io.BytesIO()
    for row in connection.execute(found):
        made.write(zlib.decompress(row.data))
    return made.getvalue()


def kept(connection: Connection, import_id: int) -> bool:
    """Whether a file's bytes are kept."""
    return connection.execute(select(PART.c.number).where(PART.c.import_id == import_id).limit(1)).first() is not None


def drop(connection: Connection, import_id: int) -> None:
    connection.execute(delete(PART).where(PART.c.import_id == import_id))
    connection.execute(delete(IMPORT).where(IMPORT.c.id == import_id))


def with_content(connection: Connection, store_id: int, before: dt.datetime | None = None) -> list[int]:
    """The files of a store whose bytes are kept, and that are not being taken: all, or those from before a moment."""
    of_store = IMPORT.c.source_id.in_(select(SOURCE.c.id).where(SOURCE.c.store_id == store_id))
    old = (IMPORT.c.created_at < before,) if before is not None else ()
    first = PART.c.import_id == IMPORT.c.id, PART.c.number == 0
    found = select(IMPORT.c.id).join(PART, and_(*first)).where(of_store, IMPORT.c.state.not_in(OPEN), *old)
    return list(connection.execute(found.limit(AT_ONCE)).scalars())


def drop_content(connection: Connection, import_ids: Collection[int]) -> None:
    """Lets go of the bytes of files."""
    connection.execute(delete(PART).where(PART.c.import_id.in_(import_ids)))


def looked_at(connection: Connection, before: dt.datetime) -> list[int]:
    """Files that somebody looked at before a moment, and that were never taken."""
    found = select(IMPORT.c.id).where(IMPORT.c.state == LOOKED_AT, IMPORT.c.created_at < before)
    return list(connection.execute(found.limit(AT_ONCE)).scalars())
