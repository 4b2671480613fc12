"""Tests' own statements, written once for both databases: `?` for a value."""

from __future__ import annotations

import re

from sqlalchemy import Engine, event


def as_the_server_takes_it(connection, cursor, statement, parameters, context, executemany):
    """What tests write for SQLite, in psycopg's words."""
    if isinstance(parameters, tuple):
        return statement.replace("%", "%%").replace("?", "%s"), parameters
    return (statement if parameters else re.sub("(?<!%)%(?!%)", "%%", statement)), parameters


def take_question_marks(engine: Engine) -> None:
    if engine.dialect.name == "postgresql":
        event.listen(engine, "before_cursor_execute", as_the_server_takes_it, retval=True)
