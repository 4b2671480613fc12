"""Files that went out with mails, each kept once by its content."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from sqlalchemy import Connection, Table
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite
from sqlmodel import Session

from angelon.db.tables import SentFileRow

SENT_FILE: Table = SentFileRow.__table__  # type: ignore[attr-defined]


def keep(connection: Connection, files: Mapping[str, bytes]) -> None:
    """Keeps files by their digest (SHA-256, hexadecimal); those that are there stay as they are."""
    if files:
        dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
        statement = dialect.insert(SENT_FILE).on_conflict_do_nothing(index_elements=["digest"])
        connection.execute(statement, [{"digest": digest, "data": data} for digest, data in files.items()])


def data(session: Session, digests: Collection[str]) -> dict[str, bytes]:
    """Files by digest; one that is not kept is missing."""
    if not digests:
        return {}
    rows = session.connection().execute(core_select(SENT_FILE).where(SENT_FILE.c.digest.in_(list(digests))))
    return {row.digest: row.data for row in rows}
