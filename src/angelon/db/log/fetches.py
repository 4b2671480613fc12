"""How far sources are fetched, and what their orders said last."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, bindparam, delete, insert, or_, select, update
from sqlalchemy.dialects import postgresql, sqlite

from angelon.db.rows import FetchRecord, row_of
from angelon.db.tables import FetchRow, KnownItemRow, table_of

FETCH = table_of(FetchRow)
KNOWN = table_of(KnownItemRow)
SEEN_AGAIN = dt.timedelta(days=30)
"""How old `seen_at` may be before it is written again."""
KEPT_LOG = 30


def of_sources(connection: Connection, source_ids: Collection[int]) -> dict[int, Any]:
    """The state of each source that has ever been fetched, by its id."""
    found = connection.execute(select(FETCH).where(FETCH.c.source_id.in_(list(source_ids))))
    return {row.source_id: row for row in found}


def begin(connection: Connection, source_ids: Sequence[int], now: dt.datetime) -> None:
    """Has sources fetched that never were, from now on."""
    dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
    statement = dialect.insert(FETCH).on_conflict_do_nothing(index_elements=["source_id"])
    connection.execute(statement, [{"source_id": id_, "due_at": now} for id_ in source_ids])


def claim(connection: Connection, source_id: int, now: dt.datetime, until: dt.datetime) -> FetchRecord | None:
    """Takes a source that is due for oneself; its row, or None where somebody else has it."""
    free = or_(FETCH.c.held_until.is_(None), FETCH.c.held_until < now)
    due = (FETCH.c.source_id == source_id, FETCH.c.due_at <= now, free)
    return row_of(FetchRecord, connection.execute(update(FETCH).where(*due).values(held_until=until).returning(FETCH)))


def hold(connection: Connection, source_id: int) -> FetchRecord | None:
    """The row as it is now, which nobody else changes before the transaction ends."""
    return row_of(
        FetchRecord, connection.execute(select(FETCH).where(FETCH.c.source_id == source_id).with_for_update())
    )


def change(connection: Connection, source_id: int, **values: Any) -> None:
    connection.execute(update(FETCH).where(FETCH.c.source_id == source_id).values(**values))


def known(connection: Connection, source_id: int, keys: Collection[str]) -> dict[str, tuple[str, str]]:
    """(digest, time) of the orders that have been here, by key."""
    wanted = sorted(set(keys))
    made: dict[str, tuple[str, str]] = {}
    for start in range(0, len(wanted), 500):
        where = (KNOWN.c.source_id == source_id, KNOWN.c.key.in_(wanted[start : start + 500]))
        made |= {row.key: (row.digest, row.at) for row in connection.execute(select(KNOWN).where(*where))}
    return made


def note(
    connection: Connection,
    source_id: int,
    news: Mapping[str, tuple[str, str]],
    again: Collection[str],
    now: dt.datetime,
) -> None:
    """Keeps what orders say now, and that others were seen again."""
    if news:
        dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
        statement: Any = dialect.insert(KNOWN)
        said = {name: statement.excluded[name] for name in ("digest", "at", "seen_at")}
        rows = [
            {"source_id": source_id, "key": key, "digest": digest, "at": at, "seen_at": now}
            for key, (digest, at) in news.items()
        ]
        connection.execute(statement.on_conflict_do_update(index_elements=["source_id", "key"], set_=said), rows)
    if again:
        where = (KNOWN.c.source_id == source_id, KNOWN.c.key.in_(list(again)), KNOWN.c.seen_at < now - SEEN_AGAIN)
        connection.execute(update(KNOWN).where(*where).values(seen_at=now))


def unseen(connection: Connection, before: dt.datetime, limit: int) -> list[Any]:
    """What was not seen since a moment."""
    return list(connection.execute(select(KNOWN.c.source_id, KNOWN.c.key).where(KNOWN.c.seen_at < before).limit(limit)))


def forget(connection: Connection, rows: Sequence[Any]) -> None:
    """Forgets orders, which are new where they come again."""
    where = (KNOWN.c.source_id == bindparam("b_source"), KNOWN.c.key == bindparam("b_key"))
    connection.execute(delete(KNOWN).where(*where), [{"b_source": row.source_id, "b_key": row.key} for row in rows])


def start(connection: Connection, source_id: int, **values: Any) -> None:
    """Makes a source's row, or changes it."""
    if connection.execute(update(FETCH).where(FETCH.c.source_id == source_id).values(**values)).rowcount == 0:
        connection.execute(insert(FETCH).values(source_id=source_id, **values))
