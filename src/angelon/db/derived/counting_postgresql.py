"""The counts on PostgreSQL: triggers append what changes, and `fold` adds up what belongs together.

Were a count one row that every transaction raises, each would wait for the others; appended rows wait for nobody. So a
count is the sum of its rows, here as on SQLite, where it has one.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from sqlalchemy import Connection

_UPSERT = re.compile(r"ON CONFLICT \([^)]*\) DO UPDATE SET [^;]*;")
_DIFFERS = re.compile(r"OLD\.(\S+) IS NOT NEW\.")


def prepare(connection: Connection, keys: Mapping[str, tuple[str, ...]]) -> None:
    """Lets a count have several rows."""
    for table, names in keys.items():
        connection.exec_driver_sql(f"ALTER TABLE {table} DROP CONSTRAINT IF EXISTS {table}_pkey")
        connection.exec_driver_sql(f"CREATE INDEX IF NOT EXISTS ix_{table} ON {table} ({', '.join(names[:3])})")


def trigger(connection: Connection, name: str, when: str, what: str) -> None:
    """A trigger for each row, from SQLite's words: `when` is `AFTER … ON … [WHEN …]`, `what` its statements."""
    head, _, condition = when.partition(" WHEN ")
    table = head.rpartition(" ON ")[2]
    condition = _DIFFERS.sub(r"OLD.\1 IS DISTINCT FROM NEW.", condition)
    unless = f"WHEN ({condition}) " if condition else ""
    connection.exec_driver_sql(
        f"CREATE OR REPLACE FUNCTION on_{name}() RETURNS trigger LANGUAGE plpgsql AS $body$ "
        f"BEGIN {what.rstrip().rstrip(';')}; RETURN NULL; END $body$".replace("%", "%%")
    )
    connection.exec_driver_sql(f"DROP TRIGGER IF EXISTS {name} ON {table}")
    made = f"CREATE TRIGGER {name} {head} FOR EACH ROW {unless}EXECUTE FUNCTION on_{name}()"
    connection.exec_driver_sql(made)


def watch(connection: Connection, triggers: Mapping[str, tuple[str, str]], own: Mapping[str, str]) -> None:
    """Has the database append what changes; `own` are triggers whose statements are others than SQLite's."""
    for name, (when, what) in triggers.items():
        trigger(connection, name, when, _UPSERT.sub(";", own.get(name, what)))


def unwatch(connection: Connection, triggers: Iterable[str]) -> None:
    for name in triggers:
        connection.exec_driver_sql(f"DROP FUNCTION IF EXISTS on_{name} CASCADE")


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
