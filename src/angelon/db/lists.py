"""What lists have in common: words that are looked for, and pages by key."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import ColumnElement, literal, or_, tuple_


def contains(word: str, *columns: Any) -> ColumnElement[bool]:
    """Whether any of these columns holds a word, whatever its case; the word's own % and _ stand for themselves."""
    like = f"%{word.replace('~', '~~').replace('%', '~%').replace('_', '~_')}%"
    return or_(*(column.ilike(like, escape="~") for column in columns))


def not_by_index(column: Any) -> Any:
    """A column that a query narrows a few rows by which another index finds: SQLite, which knows nothing of how many
    there are, would else go through all rows of a store.
    """
    return column + 0


def older_than(time: Any, id_: Any, after: tuple[dt.datetime, Any]) -> ColumnElement[bool]:
    """Whether a row comes after another in a list that is newest first: by time, then by id."""
    return tuple_(time, id_) < tuple_(literal(after[0], time.type), literal(after[1]))
