"""The counts on PostgreSQL: triggers append what changes, and `fold` adds up what belongs together.

Were a count one row that every transaction raises, each would wait for the others; appended rows wait for nobody. So a
count is the sum of its rows, here as on SQLite, where it has one.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from sqlalchemy import Connection

from angelon.db.triggers import Triggers

_UPSERT = re.compile(r"ON CONFLICT \([^)]*\) DO UPDATE SET [^;]*;")


def prepare(connection: Connection, keys: Mapping[str, tuple[str, ...]]) -> None:
    """Lets a count have several rows."""
    for table, names in keys.items():
        connection.exec_driver_sql(f"ALTER TABLE {table} DROP CONSTRAINT IF EXISTS {table}_pkey")
        connection.exec_driver_sql(f"CREATE INDEX IF NOT EXISTS ix_{table} ON {table} ({', '.join(names[:3])})")


def appending(triggers: Triggers, own: Mapping[str, str]) -> dict[str, str]:
    """What the triggers do here: they append. `own` are those whose statements are others than SQLite's."""
    return {name: _UPSERT.sub(";", own.get(name, what)) for name, (_, what) in triggers.items()}


def fold(connection: Connection, table: str, keys: tuple[str, ...], sums: tuple[str, ...]) -> int:
    """Adds up the rows of counts that have several; gives how many there are less. What is appended meanwhile stays
    for the next time.
    """
    names, same = ", ".join(keys), " AND ".join(f"t.{name} = m.{name}" for name in keys)
    added = ", ".join(f"sum({name})" for name in sums)
    any_ = " OR ".join(f"sum({name}) != 0" for name in sums)
    done = connection.exec_driver_sql(
        f"WITH m AS (SELECT {names} FROM {table} GROUP BY {names} HAVING count(*) > 1), "  # noqa: S608 - our own names
        f"gone AS (DELETE FROM {table} t USING m WHERE {same} RETURNING t.*), "
        f"made AS (INSERT INTO {table} ({names}, {', '.join(sums)}) SELECT {names}, {added} FROM gone GROUP BY {names} "
        f"HAVING {any_} RETURNING 1) SELECT (SELECT count(*) FROM gone) - (SELECT count(*) FROM made)"
    )
    return int(done.scalar_one())
