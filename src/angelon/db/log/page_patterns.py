"""What pages of mails are filled from: a message's page before its values, kept once, so that of each mail only what is
its own is kept. No person's data is in one.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping

import zstandard
from sqlalchemy import Connection, delete, update
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite
from sqlmodel import Session

from angelon.db.tables import ArchivedRow, ContentRow, PagePatternRow, table_of

PATTERN = table_of(PagePatternRow)
CONTENT = table_of(ContentRow)
ARCHIVED = table_of(ArchivedRow)
SEEN_EVERY = dt.timedelta(days=1)
"""How exactly it is known when one was last used."""


def keep(connection: Connection, patterns: Mapping[int, str], now: dt.datetime) -> None:
    """Stores those that are not there, and notes that these are in use."""
    if not patterns:
        return
    asked = core_select(PATTERN.c.id, PATTERN.c.used_at).where(PATTERN.c.id.in_(list(patterns)))
    known = {id_: used for id_, used in connection.execute(asked)}
    dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
    new = [
        {"id": id_, "data": zstandard.ZstdCompressor(level=9).compress(patterns[id_].encode()), "used_at": now}
        for id_ in sorted(patterns.keys() - known.keys())
    ]
    if new:
        connection.execute(dialect.insert(PATTERN).on_conflict_do_nothing(index_elements=["id"]), new)
    stale = sorted(id_ for id_, used in known.items() if used < now - SEEN_EVERY)
    seen(connection, stale, now)


def texts(connection: Connection, ids: Collection[int]) -> dict[int, str]:
    """Patterns by id; one that is not there is missing."""
    asked = core_select(PATTERN.c.id, PATTERN.c.data).where(PATTERN.c.id.in_(list(ids)))
    rows = connection.execute(asked) if ids else ()
    return {id_: zstandard.ZstdDecompressor().decompress(data).decode() for id_, data in rows}


def unused(session: Session, before: dt.datetime) -> tuple[list[int], list[int]]:
    """Of those that were last used before a moment: which no page that is kept was filled from, and which some was."""
    connection = session.connection()
    old = set(connection.execute(core_select(PATTERN.c.id).where(PATTERN.c.used_at < before)).scalars())
    needed: set[int | None] = set()
    for table in (CONTENT, ARCHIVED) if old else ():
        needed |= set(connection.execute(core_select(table.c.pattern_id).distinct()).scalars())
    return sorted(old - needed), sorted(old & needed)


def seen(connection: Connection, ids: Collection[int], now: dt.datetime) -> None:
    """Notes that these are needed, so that nobody looks through all pages for them again soon."""
    if ids:
        connection.execute(update(PATTERN).where(PATTERN.c.id.in_(list(ids))).values(used_at=now))


def forget(connection: Connection, ids: Collection[int], before: dt.datetime) -> int:
    """Takes them away, but for those that were used meanwhile; says how many."""
    gone = delete(PATTERN).where(PATTERN.c.id.in_(list(ids)), PATTERN.c.used_at < before)
    return connection.execute(gone).rowcount if ids else 0
