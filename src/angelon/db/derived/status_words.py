"""The words that orders' statuses have had, in the store's own words, and when each was first seen."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterable
from typing import NamedTuple

from sqlalchemy import Connection
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite
from sqlmodel import Session, col, select

from angelon.db.tables import StatusWordRow, table_of

WORDS = table_of(StatusWordRow)
MOST = 200
"""Words that are kept of a source: a status that is another for each order is none."""
SHOWN = 30
NEW_FOR = dt.timedelta(days=1)


class Word(NamedTuple):
    """A word of one part (`status`, `payment_status`, …) of a source's orders."""

    source_id: int
    part: str
    word: str


def learn(connection: Connection, seen: Iterable[Word], now: dt.datetime, stored: set[Word]) -> None:
    """Keeps words that were not seen before; `now` is aware. `stored` are some that are known to be there, so that it
    is not asked again; those that are found are put to them.
    """
    seen = {one for one in seen if one.word} - stored
    if not seen:
        return
    sources = {one.source_id for one in seen}
    rows = connection.execute(
        core_select(WORDS.c.source_id, WORDS.c.part, WORDS.c.word).where(WORDS.c.source_id.in_(sources))
    )
    known = {Word(*row) for row in rows}
    stored |= known
    free = {source_id: MOST - sum(one.source_id == source_id for one in known) for source_id in sources}
    new = []
    for one in sorted(seen - known):
        if free[one.source_id] > 0:
            free[one.source_id] -= 1
            new.append({**one._asdict(), "first_seen": now})
    if new:
        dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
        connection.execute(dialect.insert(WORDS).on_conflict_do_nothing(), new)


def of_source(session: Session, source_id: int) -> dict[str, list[str]]:
    """The words seen so far, by part, in the order of the alphabet."""
    found: dict[str, list[str]] = {}
    for row in session.exec(
        select(StatusWordRow)
        .where(StatusWordRow.source_id == source_id)
        .order_by(col(StatusWordRow.part), col(StatusWordRow.word))
    ):
        found.setdefault(row.part, []).append(row.word)
    return {part: words[:SHOWN] for part, words in found.items()}


def new(session: Session, source_ids: Collection[int], now: dt.datetime) -> list[Word]:
    """Words that were first seen within a day, of sources that had others before, the oldest first."""
    since = now - NEW_FOR
    before = select(StatusWordRow.source_id).where(col(StatusWordRow.first_seen) < since)
    rows = session.exec(
        select(StatusWordRow)
        .where(
            col(StatusWordRow.source_id).in_(list(source_ids)),
            col(StatusWordRow.source_id).in_(before),
            col(StatusWordRow.first_seen) >= since,
        )
        .order_by(col(StatusWordRow.first_seen), col(StatusWordRow.word))
    )
    return [Word(row.source_id, row.part, row.word) for row in rows]
