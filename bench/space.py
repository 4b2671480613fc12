"""The bytes that a send takes with all that belongs to it, in the demo grown by 20,000 sends; and once what was sent is
in the archive.
"""

from __future__ import annotations

import datetime as dt
import logging
import sqlite3
import tempfile
from pathlib import Path

import structlog

from angelon.db.database import Database
from angelon.engine.archive import Archive
from angelon.engine.clock import Clock
from angelon.engine.followers import indexing
from angelon.engine.followers.archiving import Archiver
from angelon.engine.setups import Setups
from bench.rows import Row
from bench.sizes import grown

SENDS = 20_000


def space() -> list[Row]:
    """On SQLite, the file without what is free in it."""
    structlog.configure(wrapper_class=structlog.make_filtering_bound_logger(logging.ERROR))
    with tempfile.TemporaryDirectory() as folder:
        _, database = grown(Path(folder) / "home", SENDS)
        indexing.follow(database, longest=3600)  # what is found by the search belongs to a send
        number, whole = _size(database)
        parts = _parts(database, number)
        rows = [Row("bytes a send, with all that belongs to it", whole / number, "bytes", "<= 3000", parts)]
        clock = Clock(now=lambda: dt.datetime.now(dt.UTC) + dt.timedelta(days=400))
        setups, archive = Setups(database), Archive(str(Path(folder) / "archive"))
        Archiver(archive, database, setups, clock).look()
        packs = sum(file.stat().st_size for file in (Path(folder) / "archive").rglob("*.pack"))
        rows.append(
            Row(
                "the same, with what was sent in the archive",
                _size(database)[1] / number,
                "bytes",
                "<= 3000",
                {"bytes a send in the archive": packs / number},
            )
        )
        database.close()
    return rows


def _size(database: Database) -> tuple[int, int]:
    """Sends, and bytes of the file."""
    file = database.engine.url.database or ""
    with sqlite3.connect(file, isolation_level=None) as connection:
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        connection.execute("VACUUM")
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        (sends,) = connection.execute("SELECT count(*) FROM send").fetchone()
    return sends, Path(file).stat().st_size


def _parts(database: Database, number: int) -> dict[str, float]:
    """The largest tables and indexes, bytes a send."""
    largest = "SELECT name, sum(pgsize) AS size FROM dbstat GROUP BY name ORDER BY size DESC LIMIT 5"
    with database.engine.connect() as connection:
        return {name: size / number for name, size in connection.exec_driver_sql(largest)}
