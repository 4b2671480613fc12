"""Files that went out with mails, each kept once by its content."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping
from typing import Any

from sqlalchemy import Connection, delete
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite
from sqlmodel import Session

from angelon.db.log.sends import ARCHIVED, CONTENT
from angelon.db.tables import SentFileRow, table_of

AT_ONCE = 500
USED_EVERY = dt.timedelta(minutes=30)
"""How exactly it is known when one was last used."""
SENT_FILE = table_of(SentFileRow)


def keep(connection: Connection, files: Mapping[str, bytes], now: dt.datetime) -> None:
    """Keeps files by their digest (SHA-256, hexadecimal); of those that are there it is noted that they are in use."""
    if files:
        dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
        statement = dialect.insert(SENT_FILE)
        statement = statement.on_conflict_do_update(
            index_elements=["digest"], set_={"used_at": now}, where=SENT_FILE.c.used_at < now - USED_EVERY
        )
        rows = [{"digest": digest, "data": data, "used_at": now} for digest, data in files.items()]
        connection.execute(statement, rows)


def unused(connection: Connection) -> set[str]:
    """The digests of files that no kept content names any more. Reads every content's description: not for a
    transaction that keeps others from writing.
    """
    kept = set(connection.execute(core_select(SENT_FILE.c.digest)).scalars())
    if kept:
        contents = core_select(CONTENT.c.about).where(CONTENT.c.about.is_not(None))
        for about in connection.execution_options(yield_per=2000).execute(contents).scalars():
            kept -= named(about)
            if not kept:
                break
        archived = core_select(ARCHIVED.c.files).where(ARCHIVED.c.files.is_not(None))
        for digests in connection.execute(archived).scalars():
            kept -= set(digests)
    return kept


def drop(connection: Connection, digests: set[str], since: dt.datetime) -> int:
    """Drops files that were found unused, but for those that have gone out since a moment, which is USED_EVERY before
    they were looked for, or more; says how many.
    """
    unused, dropped = list(digests), 0
    for start in range(0, len(unused), AT_ONCE):
        those = (SENT_FILE.c.digest.in_(unused[start : start + AT_ONCE]), SENT_FILE.c.used_at < since)
        dropped += connection.execute(delete(SENT_FILE).where(*those)).rowcount
    return dropped


def named(about: Mapping[str, Any]) -> set[str]:
    """The digests of a mail's files."""
    return {file.get("digest", "") for file in (*about.get("pictures", ()), *about.get("files", ()))}


def data(session: Session, digests: Collection[str]) -> dict[str, bytes]:
    """Files by digest; one that is not kept is missing."""
    if not digests:
        return {}
    rows = session.connection().execute(core_select(SENT_FILE).where(SENT_FILE.c.digest.in_(list(digests))))
    return {row.digest: row.data for row in rows}
