"""Triggers, written once and made on either database: counts, the search's notes and a move's are all made here."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from sqlalchemy import Connection

Triggers = Mapping[str, tuple[str, str]]
"""By name: when (`AFTER … ON … [WHEN …]`, in SQLite's words), and the statements for each row."""
_DIFFERS = re.compile(r"OLD\.(\S+) IS NOT NEW\.")


def put(connection: Connection, triggers: Triggers, statements: Mapping[str, str] | None = None) -> None:
    """Makes triggers, or makes them anew; `statements` are those that PostgreSQL is given in place of SQLite's."""
    for name, (when, what) in triggers.items():
        if connection.dialect.name == "postgresql":
            _put_on_postgresql(connection, name, when, (statements or {}).get(name, what))
        else:
            connection.exec_driver_sql(f"DROP TRIGGER IF EXISTS {name}")
            connection.exec_driver_sql(f"CREATE TRIGGER {name} {when} BEGIN {what.rstrip().rstrip(';')}; END")


def _put_on_postgresql(connection: Connection, name: str, when: str, what: str) -> None:
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


def take(connection: Connection, names: Iterable[str]) -> None:
    """Takes triggers away, where they are there."""
    for name in names:
        if connection.dialect.name == "postgresql":
            connection.exec_driver_sql(f"DROP FUNCTION IF EXISTS on_{name} CASCADE")
        else:
            connection.exec_driver_sql(f"DROP TRIGGER IF EXISTS {name}")


def refusing(when: str, why: str, dialect: str) -> tuple[str, str]:
    """A trigger that refuses what it is asked about; `when` begins with BEFORE."""
    if dialect == "postgresql":
        return when, f"RAISE EXCEPTION '{why}' USING ERRCODE = '55000'"
    return when, f"SELECT RAISE(ABORT, '{why}')"


def exists(connection: Connection, name: str) -> bool:
    query = "SELECT 1 FROM sqlite_master WHERE type = 'trigger' AND name = ?"
    if connection.dialect.name == "postgresql":
        query = "SELECT 1 FROM pg_trigger WHERE tgname = %s"
    return connection.exec_driver_sql(query, (name,)).first() is not None
