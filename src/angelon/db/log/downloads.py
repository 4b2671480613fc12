"""Files that a customer downloads: which, how often, until when; counted, and revoked."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

from sqlalchemy import Connection, select, update
from sqlalchemy.dialects import postgresql, sqlite

from angelon.db.tables import DownloadRow, table_of

DOWNLOAD = table_of(DownloadRow)


def offer(
    connection: Connection, send_id: str, store_id: int, files: Sequence[Any], times: int, until: dt.datetime
) -> None:
    """Offers the files of a send; where they are offered already, that stays as it is."""
    dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
    row = {"send_id": send_id, "store_id": store_id, "files": list(files), "left": times, "until": until}
    connection.execute(dialect.insert(DOWNLOAD).values(**row).on_conflict_do_nothing(index_elements=["send_id"]))


def get(connection: Connection, send_id: str) -> Any:
    return connection.execute(select(DOWNLOAD).where(DOWNLOAD.c.send_id == send_id)).first()


def count(connection: Connection, send_id: str, now: dt.datetime) -> bool:
    """Takes one of the downloads that are left; False where none is, it is over, or was revoked."""
    still = (DOWNLOAD.c.left > 0, DOWNLOAD.c.until > now, DOWNLOAD.c.revoked_at.is_(None))
    counted = {"left": DOWNLOAD.c.left - 1, "had": DOWNLOAD.c.had + 1, "last_at": now}
    statement = update(DOWNLOAD).where(DOWNLOAD.c.send_id == send_id, *still).values(**counted)
    return connection.execute(statement).rowcount == 1


def revoke(connection: Connection, send_id: str, now: dt.datetime | None) -> bool:
    """Ends the downloads of a send, or allows them again where `now` is None."""
    statement = update(DOWNLOAD).where(DOWNLOAD.c.send_id == send_id).values(revoked_at=now)
    return connection.execute(statement).rowcount == 1
