"""Kinds of columns that the tables have in common: moments, JSON values, counts of edits."""

from __future__ import annotations

import datetime as dt
from typing import Any

import orjson
from sqlalchemy import (
    BigInteger,
    Column,
    Integer,
    Table,
    Text,
)
from sqlalchemy.types import TypeDecorator
from sqlmodel import Field, SQLModel

from angelon.core.planning.trace_lines import whole
from angelon.db.tables.packed import json_of, packed_json, with_packed_traces, with_traces


def table_of(row: type[SQLModel]) -> Table:
    """The table that a class of rows is of."""
    table: Table = row.__table__  # type: ignore[attr-defined]
    return table


_EPOCH = dt.datetime(1970, 1, 1, tzinfo=dt.UTC)
_MICRO = dt.timedelta(microseconds=1)


class Instant(TypeDecorator[dt.datetime]):
    """A moment, kept as whole microseconds since 1970 (UTC): exact, small, and compared alike by every database."""

    impl = BigInteger
    cache_ok = True

    def process_bind_param(self, value: dt.datetime | None, dialect: Any) -> int | None:
        return None if value is None else (value - _EPOCH) // _MICRO

    def process_result_value(self, value: int | None, dialect: Any) -> dt.datetime | None:
        return None if value is None else _EPOCH + dt.timedelta(microseconds=value)

    @staticmethod
    def moment(value: int | dt.datetime) -> dt.datetime:
        """What a union gives, which forgets its columns' types."""
        return value if isinstance(value, dt.datetime) else _EPOCH + dt.timedelta(microseconds=value)


class Json(TypeDecorator[Any]):
    """A JSON value as text. What JSON can't hold is written as text, so that one odd value never keeps a row from being
    stored.
    """

    impl = Text
    cache_ok = True

    def process_bind_param(self, value: Any, dialect: Any) -> str | None:
        if value is None:
            return None
        try:
            return orjson.dumps(value, option=orjson.OPT_NON_STR_KEYS, default=str).decode()
        except (
            TypeError,
            ValueError,
            RecursionError,
        ):  # orjson's errors are TypeErrors: numbers over 64 bits, half surrogates, depth
            return orjson.dumps(_writable(value), option=orjson.OPT_NON_STR_KEYS, default=str).decode()

    def process_result_value(self, value: Any, dialect: Any) -> Any:
        return None if value is None else orjson.loads(value)


class Decisions(Json):
    """What routes have made of an event, and why; on SQLite the latter packed."""

    cache_ok = True

    def process_bind_param(self, value: Any, dialect: Any) -> str | None:
        try:
            kept = with_packed_traces(value) if value and dialect.name == "sqlite" else value
        except (TypeError, ValueError, RecursionError):  # what JSON can't hold
            kept = value
        return super().process_bind_param(kept, dialect)

    def process_result_value(self, value: str | None, dialect: Any) -> Any:
        return None if value is None else whole(with_traces(orjson.loads(value)))


class PackedJson(Json):
    """A JSON value that nothing in the database looks into: on SQLite packed."""

    cache_ok = True

    def process_bind_param(self, value: Any, dialect: Any) -> Any:
        text = super().process_bind_param(value, dialect)
        return text if text is None or dialect.name != "sqlite" else packed_json(text)

    def process_result_value(self, value: Any, dialect: Any) -> Any:
        return super().process_result_value(value if value is None else json_of(value), dialect)


class PackedTraces(PackedJson):
    """What was decided and why, part by part, packed."""

    cache_ok = True

    def process_result_value(self, value: Any, dialect: Any) -> Any:
        found = super().process_result_value(value, dialect)
        return None if found is None else whole(found)


DEEPEST = 100
"""Levels of nesting that are stored as such."""


def _writable(value: Any, depth: int = 0) -> Any:
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode()
    if isinstance(value, int) and not isinstance(value, bool) and not -(2**63) <= value < 2**64:
        return f"{value:.6e}" if abs(value) < 10**300 else "a number of over 300 digits"
    if isinstance(value, dict | list | tuple) and depth >= DEEPEST:
        return "…"
    if isinstance(value, dict):
        return {_writable(str(key)): _writable(item, depth + 1) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_writable(item, depth + 1) for item in value]
    return value


def instant(index: bool = False, nullable: bool = True) -> Any:
    return Field(default=None, sa_column=Column(Instant, nullable=nullable, index=index))


def json(default: Any = None) -> Any:
    return Field(default=default, sa_column=Column(Json))


def packed_value() -> Any:
    return Field(default=None, sa_column=Column(PackedJson))


def packed_traces() -> Any:
    return Field(default=None, sa_column=Column(PackedTraces))


def decisions() -> Any:
    return Field(default=None, sa_column=Column(Decisions))


def edits() -> Any:
    """How often a row was changed: what somebody has open is older where this has gone up meanwhile."""
    return Field(default=0, sa_column=Column(Integer, nullable=False, server_default="0"))
