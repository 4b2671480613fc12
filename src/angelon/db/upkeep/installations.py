"""Where an installation was moved to, as the database that it has left tells."""

from __future__ import annotations

from sqlalchemy import Connection, text
from sqlmodel import Session

_THERE = {
    "sqlite": "SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = 'moved_to'",
    "postgresql": "SELECT 1 FROM pg_class WHERE oid = to_regclass('moved_to')",
}


def moved_to(session: Session) -> str:
    """The new database's address, without a password; empty where this one is in use."""
    connection = session.connection()
    if connection.exec_driver_sql(_THERE[connection.dialect.name]).first() is None:
        return ""
    return str(connection.exec_driver_sql("SELECT url FROM moved_to").scalar() or "another database")


def mark_moved(connection: Connection, url: str) -> None:
    connection.exec_driver_sql("CREATE TABLE moved_to (url TEXT)")
    connection.execute(text("INSERT INTO moved_to (url) VALUES (:url)"), {"url": url})


def mark_in_use(connection: Connection) -> None:
    connection.exec_driver_sql("DROP TABLE IF EXISTS moved_to")
