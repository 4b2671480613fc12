"""What lists have in common: words that are looked for, and pages by key."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import CTE, ColumnElement, func, literal, or_, select, tuple_
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql.functions import FunctionElement
from sqlalchemy.types import String, TypeDecorator


def contains(word: str, *columns: Any) -> ColumnElement[bool]:
    """Whether any of these columns holds a word, whatever its case; the word's own % and _ stand for themselves."""
    like = f"%{word.replace('~', '~~').replace('%', '~%').replace('_', '~_')}%"
    return or_(*(column.ilike(like, escape="~") for column in columns))


class _NotByIndex(FunctionElement[Any]):
    """A column, as no index of SQLite has it."""

    inherit_cache = True


@compiles(_NotByIndex)
def _as_it_is(element: _NotByIndex, compiler: Any, **given: Any) -> str:
    return str(compiler.process(element.clauses, **given))


@compiles(_NotByIndex, "sqlite")
def _as_an_expression(element: _NotByIndex, compiler: Any, **given: Any) -> str:
    kind: Any = element.type
    is_text = isinstance(kind.impl_instance if isinstance(kind, TypeDecorator) else kind, String)
    unchanged = "|| ''" if is_text else "+ 0"
    return f"({compiler.process(element.clauses, **given)} {unchanged})"


def not_by_index(column: Any) -> Any:
    """A column that a query narrows a few rows by which another index finds. SQLite, which knows nothing of how many
    there are, would else go through all rows of a store; a server knows, and guesses badly where it is told less.
    """
    element = _NotByIndex(column)
    element.type = column.type
    return element


def each_once(column: Any, *where: ColumnElement[bool]) -> CTE:
    """Every value of a column that an index has (as `value`; the last is NULL), from one to the next: as many looks as
    there are values, however many rows have one. `where` is what stands before the column in that index.
    """
    first = select(func.min(column).label("value")).where(*where).cte(f"each_{column.name}", recursive=True)
    following = select(func.min(column)).where(*where, column > first.c.value).scalar_subquery()
    return first.union_all(select(following).where(first.c.value.is_not(None)))


def older_than(time: Any, id_: Any, after: tuple[dt.datetime, Any]) -> ColumnElement[bool]:
    """Whether a row comes after another in a list that is newest first: by time, then by id."""
    return tuple_(time, id_) < tuple_(literal(after[0], time.type), literal(after[1]))
