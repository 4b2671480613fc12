"""Contents in a partition for each month against one table: what it costs to take a month away, and to write."""

from __future__ import annotations

import datetime as dt
import tempfile
import time
from pathlib import Path
from random import Random

from angelon.core.ids import make_id
from angelon.db.database import Database
from angelon.db.log import partitions
from bench.rows import Row
from cluster.postgresql import Server, temporary

NUMBER, AT_ONCE = 100_000, 500
_INTO = "INSERT INTO content (send_id, html, packed, text) VALUES (%s, '', %s, '')"
BODY = 3_000
"""Bytes of a content, which are not compressed further."""


def months() -> list[Row]:
    with temporary(Path(tempfile.mkdtemp(prefix="angelon-bench-")), durable=True) as server:
        one, many = (_measured(server, name, parted) for name, parted in (("one", False), ("many", True)))
    written, taken = "contents written into partitions, against one table", "a month dropped, against deleted in parts"
    return [
        Row(name, many[n] / one[n], "ratio", "", {"s, one table": one[n], "s, partitions": many[n]})
        for n, name in enumerate((written, taken))
    ]


def _measured(server: Server, name: str, parted: bool) -> tuple[float, float]:
    """Seconds to write a month of contents beside one that stays, and to take the older away."""
    database = Database(server.create(name))
    database.migrate()
    old, new = (dt.datetime(2026, month, 10, tzinfo=dt.UTC) for month in (6, 7))
    with database.connection() as connection:
        if parted:
            partitions.cover(connection, old, new)
        connection.exec_driver_sql("ALTER TABLE content DROP CONSTRAINT content_send")  # the sends are not written here
    began = time.perf_counter()
    for start in range(0, NUMBER, AT_ONCE):
        with database.connection() as connection:
            rows = [_row(old if n % 2 else new, start + n) for n in range(AT_ONCE)]
            connection.exec_driver_sql(_INTO, rows)
    wrote = time.perf_counter() - began
    edge = make_id("sd", new - dt.timedelta(days=5), 0)
    began = time.perf_counter()
    if parted:
        with database.connection() as connection:
            partitions.drop(connection, new)
    else:
        few = f"SELECT send_id FROM content WHERE send_id < '{edge}' LIMIT {AT_ONCE}"
        while True:
            with database.connection() as connection:
                if not connection.exec_driver_sql(f"DELETE FROM content WHERE send_id IN ({few})").rowcount:
                    break
    took = time.perf_counter() - began
    database.close()
    return wrote, took


def _row(at: dt.datetime, number: int) -> tuple[str, bytes]:
    return make_id("sd", at + dt.timedelta(milliseconds=number), number), Random(number).randbytes(BODY)
