"""Statements that run for many rows at once, in the hot paths."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from operator import itemgetter
from typing import Any

from sqlalchemy import Connection, Dialect
from sqlalchemy.sql.dml import UpdateBase
from sqlalchemy.types import TypeDecorator


class Bulk:
    """An insert or update for many rows, each a dict with the same names.

    It is compiled once for a dialect and handed to the driver as it is, with each value converted by its column's
    type: about a third of what the general way costs. Column defaults of Python are not filled in.

    On SQLite many rows go in one statement: with a statement for each row, a thread that writes would let go of the
    interpreter for every row, and wait for it again.
    """

    def __init__(self, statement: UpdateBase) -> None:
        self._statement = statement
        self._prepared: dict[tuple[str, tuple[str, ...]], _Prepared] = {}

    def converted(self, dialect: Dialect, rows: Sequence[dict[str, Any]]) -> Converted:
        """These rows, at least one, as the driver takes them: made before a transaction, so that it is shorter."""
        names = tuple(rows[0])
        key = dialect.name, names
        prepared = self._prepared.get(key)
        if prepared is None:
            prepared = self._prepared[key] = _Prepared(self._statement, dialect, names)
        return Converted(prepared, prepared.given(rows))

    def run(self, connection: Connection, rows: Sequence[dict[str, Any]] | Converted) -> int:
        """Runs it for these rows, at least one; gives how many rows were stored or changed."""
        made = rows if isinstance(rows, Converted) else self.converted(connection.dialect, rows)
        prepared, given = made.prepared, made.given
        if prepared.values is None:
            return connection.exec_driver_sql(prepared.sql, given).rowcount
        changed = 0
        for start in range(0, len(given), MOST_ROWS):
            group = given[start : start + MOST_ROWS]
            flat = tuple(value for row in group for value in row)
            changed += connection.exec_driver_sql(prepared.grouped(len(group)), flat).rowcount
        return changed


MOST_ROWS = 250
"""Rows of one statement: SQLite takes 32,766 values in one (its limits, SQLITE_MAX_VARIABLE_NUMBER)."""
_VALUES = re.compile(r"VALUES (\([^()]*\))")


@dataclass(frozen=True, slots=True)
class Converted:
    """Rows of a statement, as the driver takes them."""

    prepared: _Prepared
    given: Any


class _Prepared:
    """A statement as one dialect's driver takes it."""

    def __init__(self, statement: UpdateBase, dialect: Any, names: Sequence[str]) -> None:
        compiled: Any = statement.compile(dialect=dialect, column_keys=list(names))
        self.sql = str(compiled)
        self._names: list[str] = list(compiled.positiontup or compiled.binds)
        self._fixed = {
            name: bind.value for name, bind in compiled.binds.items() if not bind.required and name not in names
        }
        self._positional = compiled.positional
        if dialect.name == "sqlite" and self.sql.startswith("UPDATE"):
            self.sql = _updating_many(self.sql, len(self._names))
        found = _VALUES.search(self.sql) if dialect.name == "sqlite" else None
        self.values = found[1] if found else None
        """The place of one row's values, where many rows may stand in one statement."""
        self._grouped: dict[int, str] = {}
        self._get = itemgetter(*self._names)
        self._converters: list[tuple[int, Callable[[Any], Any]]] = []
        for position, name in enumerate(self._names):
            convert = _converter(compiled.binds[name].type.dialect_impl(dialect), dialect)
            if convert is not None:
                self._converters.append((position, convert))

    def grouped(self, size: int) -> str:
        """The statement for so many rows at once."""
        made = self._grouped.get(size)
        if made is None:
            assert self.values is not None
            made = self._grouped[size] = self.sql.replace(self.values, ", ".join([self.values] * size), 1)
        return made

    def given(self, rows: Iterable[dict[str, Any]]) -> Any:
        """The values of each row, in the order or by the names that the driver takes."""
        made = []
        for row in rows:
            values = list(self._get({**self._fixed, **row} if self._fixed else row))
            for position, convert in self._converters:
                if values[position] is not None:  # what is not there is written as NULL, whatever the type
                    values[position] = convert(values[position])
            made.append(tuple(values) if self._positional else dict(zip(self._names, values, strict=True)))
        return made


def _updating_many(sql: str, number: int) -> str:
    """An update of one row by a number of values as one of as many rows as are given, for SQLite: each row's values are
    a row of a table that it goes through. No two of them may be about the same row.
    """
    columns = iter(range(number))
    update, where, condition = re.sub(r"\?", lambda _: f"given.c{next(columns)}", sql).partition(" WHERE ")
    names = ", ".join(f"c{column}" for column in range(number))
    places = ", ".join("?" * number)
    return f"WITH given({names}) AS (VALUES ({places})) {update} FROM given{where}{condition}"


def _converter(kind: Any, dialect: Any) -> Callable[[Any], Any] | None:
    """What brings a value of a column's type into the form that the driver takes; None where it takes it as it is."""
    own = isinstance(kind, TypeDecorator) and type(kind).process_bind_param is not TypeDecorator.process_bind_param
    if own and kind.impl_instance.bind_processor(dialect) is None:
        decorated = kind
        return lambda value: decorated.process_bind_param(value, dialect)
    found: Callable[[Any], Any] | None = kind.bind_processor(dialect)
    return found
