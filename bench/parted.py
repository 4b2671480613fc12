"""Sends in a partition for each month against one table: what claiming, lists, look-ups and outcomes cost, and taking a
month away. What decision 0024 says of sends rests on it.
"""

from __future__ import annotations

import datetime as dt
import os
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from sqlalchemy import Connection

from angelon.core.ids import first_of, make_id
from angelon.db.database import Database
from bench.rows import Row, median
from cluster.postgresql import temporary

MONTHS, A_MONTH = 12, int(os.environ.get("ANGELON_BENCH_A_MONTH", "100000"))
WAITING, TIMES = 1000, 40
"""How many of the newest month's wait for their time; how often each is asked."""
_COLUMNS = (
    "id, store_id, order_id, route_id, gateway_id, channel, recipient, state, created_at, due_at, reference, trace"
)
_EMPTY = ("recipient_name", "locale", "reason", "worker", "subject")
TRACE = '[{"part": "when", "verdict": "yes", "why": "The event is order created."}]' * 4
"""What a send keeps of why it was made is the largest part of it."""
START = dt.datetime(2026, 1, 1, tzinfo=dt.UTC)


def parted() -> list[Row]:
    with temporary(Path(tempfile.mkdtemp(prefix="angelon-bench-")), durable=True) as server:
        database = Database(server.create("sends"))
        database.migrate()
        one, many = (_measured(database, name) for name in ("one", "many"))
        database.close()
    rows = []
    for what, took in one.items():
        detail = {"sends": MONTHS * A_MONTH, "ms, one table": took, "ms, partitions": many[what]}
        rows.append(Row(f"{what}, in partitions against one table", many[what] / took, "ratio", "", detail))
    return rows


def _month(number: int) -> dt.datetime:
    return START.replace(year=START.year + number // 12, month=number % 12 + 1)


def _measured(database: Database, name: str) -> dict[str, float]:
    """Milliseconds of each, in a table of this name that stands in the place of `send`."""
    with database.connection() as connection:
        _make(connection, name, parted=name == "many")
        driver = connection.connection.cursor()
        with driver.copy(f"COPY {name} ({_COLUMNS}) FROM STDIN") as copy:
            for row in _rows():
                copy.write_row(row)
    with database.engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        connection.exec_driver_sql(f"VACUUM ANALYZE {name}")
    newest = first_of("sd", _month(MONTHS - 1))
    last = MONTHS * A_MONTH - 1
    asked: dict[str, Callable[[int], str]] = {
        "a claim of 16": lambda n: (
            f"UPDATE {name} SET state = 'sending', worker = 'w', lease_until = 1, tries = tries + 1 WHERE id IN "
            f"(SELECT id FROM {name} WHERE state IN ('scheduled', 'retrying') AND gateway_id = 1 AND due_at <= {2**60} "
            "ORDER BY due_at LIMIT 16 FOR UPDATE SKIP LOCKED)"
        ),
        "an outcome": lambda n: (
            f"UPDATE {name} SET state = 'sent', reference = 'r{n}' WHERE id = (SELECT id FROM {name} WHERE "
            "state = 'sending' LIMIT 1)"
        ),
        "the newest 50": lambda n: (
            f"SELECT * FROM {name} WHERE store_id = 1 ORDER BY created_at DESC, id DESC LIMIT 50"
        ),
        "the sends of 100 orders": lambda n: (
            f"SELECT id, state FROM {name} WHERE order_id IN "
            f"({', '.join(str((n * 100 + i) * 97 % last) for i in range(100))})"
        ),
        "a receipt's reference": lambda n: (
            f"SELECT id FROM {name} WHERE gateway_id = 1 AND reference = 'ref-{n * 7919 % last}'"
        ),
        "a send by its id": lambda n: f"SELECT * FROM {name} WHERE id = '{_id(n * 7919 % last)}'",
    }
    found = {what: median([_took(database, made(n)) for n in range(TIMES)]) * 1000 for what, made in asked.items()}
    began = time.perf_counter()
    with database.connection() as connection:
        for n in range(1000):
            connection.exec_driver_sql(_one_more(name, n, newest))
    found["a thousand stored"] = (time.perf_counter() - began) * 1000
    found["a month taken away"] = _taken_away(database, name) * 1000
    return found


def _make(connection: Connection, name: str, parted: bool) -> None:
    how = "PARTITION BY RANGE (id)" if parted else ""
    connection.exec_driver_sql(f"CREATE TABLE {name} (LIKE send INCLUDING DEFAULTS INCLUDING IDENTITY) {how}")
    connection.exec_driver_sql(f"ALTER TABLE {name} ADD PRIMARY KEY (id)")
    for column, otherwise in (("tries", "0"), *((text, "''") for text in _EMPTY)):
        connection.exec_driver_sql(f"ALTER TABLE {name} ALTER COLUMN {column} SET DEFAULT {otherwise}")
    for number in range(MONTHS if parted else 0):
        low, high = first_of("sd", _month(number)), first_of("sd", _month(number + 1))
        connection.exec_driver_sql(
            f"CREATE TABLE {name}_{number} PARTITION OF {name} FOR VALUES FROM ('{low}') TO ('{high}')"
        )
    rows = connection.exec_driver_sql(
        "SELECT indexdef FROM pg_indexes WHERE tablename = 'send' AND indexname <> 'send_pkey'"
    )
    for (made,) in rows.all():
        own = made.replace("INDEX ix_send", f"INDEX ix_{name}").replace(" ON public.send ", f" ON {name} ")
        connection.exec_driver_sql(own)


def _at(number: int) -> dt.datetime:
    month, place = divmod(number, A_MONTH)
    return _month(month) + place * ((_month(month + 1) - _month(month)) / A_MONTH)


def _id(number: int) -> str:
    return make_id("sd", _at(number), number)


def _rows() -> Iterator[tuple[object, ...]]:
    total = MONTHS * A_MONTH
    for n in range(total):
        at = int(_at(n).timestamp() * 1_000_000)
        state = "scheduled" if n >= total - WAITING else "sent"
        yield (_id(n), 1, n, n % 12 + 1, 1, "email", f"p{n}@example.org", state, at, at, f"ref-{n}", TRACE)


def _one_more(name: str, number: int, newest: str) -> str:
    values = f"'{newest}{number:010d}x', 1, {number}, 1, 1, 'email', 'p@example.org', 'sent', 1, 1, 'r', ''"
    return f"INSERT INTO {name} ({_COLUMNS}) VALUES ({values})"


def _took(database: Database, statement: str) -> float:
    with database.connection() as connection:
        began = time.perf_counter()
        done = connection.exec_driver_sql(statement)
        if done.returns_rows:
            done.all()
        return time.perf_counter() - began


def _taken_away(database: Database, name: str) -> float:
    """The oldest month: dropped, or deleted in parts of 500 as retention does."""
    began = time.perf_counter()
    if name == "many":
        with database.connection() as connection:
            connection.exec_driver_sql(f"DROP TABLE {name}_0")
        return time.perf_counter() - began
    few = f"SELECT id FROM {name} WHERE id < '{first_of('sd', _month(1))}' LIMIT 500"
    while True:
        with database.connection() as connection:
            if not connection.exec_driver_sql(f"DELETE FROM {name} WHERE id IN ({few})").rowcount:
                return time.perf_counter() - began
