"""Bodies of deliveries, packed by what those of one source and event have in common (`core/payload/pattern.py`).

A pattern is learned from two deliveries, goes into the database together with the second of them or a later one, and is
used once it is seen there: no body is packed by one that might not be kept. It stays as long as the database does.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Collection
from typing import Any, TypeVar

from sqlalchemy import Connection
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite
from sqlalchemy.exc import SQLAlchemyError

from angelon.core.payload.pattern import common, names_of, pattern_of
from angelon.db.database import Database
from angelon.db.tables import BodyPatternRow, table_of
from angelon.db.tables.packed import MOST, BodyPattern, Stored, UnknownPattern, know_pattern, stored, stored_by

PATTERN = table_of(BodyPatternRow)
MOST_KINDS = 64
"""Kinds of a source's deliveries that have patterns: what an event is called is said by whoever delivers."""
NEWLY = dt.timedelta(hours=1)
"""How long a pattern is not used yet on a database that several machines share: they are upgraded one after another,
and a version of before reads no body that is packed by one.
"""
LOOKED_EVERY = 8
"""Deliveries of a kind after which it is looked whether its pattern is there."""
ReadT = TypeVar("ReadT")


class Bodies:
    """How one process packs the bodies that come in. For several threads."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self.wait = dt.timedelta(0) if database.sqlite else NEWLY
        self._kept: dict[tuple[int, str], tuple[dt.datetime, BodyPattern]] | None = None
        self._first: dict[tuple[int, str], tuple[bytes, Any]] = {}
        self._learned: dict[tuple[int, str], BodyPattern] = {}
        self._came = 0

    def packed(self, source_id: int, name: str, raw: bytes, now: dt.datetime) -> Stored:
        """A body as it is stored, at a moment (aware); it brings its kind's pattern where that is learned and not seen
        there yet.
        """
        kind = (source_id, name)
        if self._kept is None:
            self._look()
        kept = self._kept.get(kind) if self._kept is not None else None
        if kept is not None:
            begins, pattern = kept
            return stored_by(raw, pattern) if now - begins >= self.wait else stored(raw)
        if kind in self._learned:
            self._came += 1
            if self._came % LOOKED_EVERY == 0:
                self._look()
        made = stored(raw)
        made.pattern = self._learned.get(kind) or self._learn(kind, raw)
        return made

    def _learn(self, kind: tuple[int, str], raw: bytes) -> BodyPattern | None:
        if len(raw) > MOST or (kind not in self._first and self._are_many(kind[0])):
            return None
        told, before = self._first.get(kind, (raw, None))
        structure = names_of(raw)
        if not before:
            self._first[kind] = (raw, structure)
        if not before or not structure or told == raw:  # one that is tried once more is no second one
            return None
        self._first[kind] = (b"", None)
        pattern = BodyPattern.of(*kind, pattern_of(common(before, structure), raw))
        self._learned[kind] = pattern
        return pattern

    def _are_many(self, source_id: int) -> bool:
        return sum(of == source_id for of, _ in self._first) >= MOST_KINDS

    def _look(self) -> None:
        try:
            with self._database.reading() as session:
                rows = session.connection().execute(core_select(PATTERN).order_by(PATTERN.c.made_at)).all()
        except SQLAlchemyError:  # then they are stored a little larger, and no delivery waits for that again
            self._kept = self._kept or {}
            return
        made = [(row.made_at, BodyPattern(row.id, row.source_id, row.name, row.data)) for row in reversed(rows)]
        self._kept = {(one.source_id, one.name): (at, one) for at, one in made}  # the first of each kind
        self._learned = {kind: pattern for kind, pattern in self._learned.items() if kind not in self._kept}


def keep(connection: Connection, bodies: Collection[bytes], now: dt.datetime) -> None:
    """Stores the patterns that bodies bring."""
    found = {one.pattern.id: one.pattern for one in bodies if isinstance(one, Stored) and one.pattern is not None}
    if not found:
        return
    dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
    statement = dialect.insert(PATTERN).on_conflict_do_nothing(index_elements=["id"])
    rows = [
        {"id": one.id, "source_id": one.source_id, "name": one.name, "data": one.data, "made_at": now}
        for _, one in sorted(found.items())
    ]
    connection.execute(statement, rows)


def read(connection: Connection, reading: Callable[[], ReadT]) -> ReadT:
    """What `reading` gives, which reads bodies; the patterns that these need are read where they are not at hand."""
    while True:
        try:
            return reading()
        except UnknownPattern as unknown:
            known = dict(connection.execute(core_select(PATTERN.c.id, PATTERN.c.data)).all())
            for id_, data in {unknown.id: None, **known}.items():
                know_pattern(id_, data)
