"""Files that went out with mails, each kept once by its content."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping
from typing import Any

from sqlalchemy import Connection, delete, or_
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite
from sqlmodel import Session

from angelon.core.states import State
from angelon.db.log.sends import ARCHIVED, CONTENT, SEND
from angelon.db.tables import SentFileRow, table_of

AT_ONCE = 500
OPEN = (State.SCHEDULED, State.SENDING, State.RETRYING, State.HELD)
SENT_FILE = table_of(SentFileRow)


def keep(connection: Connection, files: Mapping[str, bytes]) -> None:
    """Keeps files by their digest (SHA-256, hexadecimal); those that are there stay as they are."""
    if files:
        dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
        statement = dialect.insert(SENT_FILE).on_conflict_do_nothing(index_elements=["digest"])
        connection.execute(statement, [{"digest": digest, "data": data} for digest, data in files.items()])


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
    """Drops files that were unused at a moment (`since`, aware, or a little later) and are still; says how many."""
    recent = core_select(CONTENT.c.about).join(SEND, SEND.c.id == CONTENT.c.send_id)
    recent = recent.where(CONTENT.c.about.is_not(None), or_(SEND.c.state.in_(OPEN), SEND.c.settled_at >= since))
    for about in connection.execute(recent).scalars():
        digests = digests - named(about)
    unused = list(digests)
    for start in range(0, len(unused), AT_ONCE):
        connection.execute(delete(SENT_FILE).where(SENT_FILE.c.digest.in_(unused[start : start + AT_ONCE])))
    return len(unused)


def named(about: Mapping[str, Any]) -> set[str]:
    """The digests of a mail's files."""
    return {file.get("digest", "") for file in (*about.get("pictures", ()), *about.get("files", ()))}


def data(session: Session, digests: Collection[str]) -> dict[str, bytes]:
    """Files by digest; one that is not kept is missing."""
    if not digests:
        return {}
    rows = session.connection().execute(core_select(SENT_FILE).where(SENT_FILE.c.digest.in_(list(digests))))
    return {row.digest: row.data for row in rows}
