"""Handlers as they were loaded, and their calls about events."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Table, bindparam, delete, func, insert, update
from sqlalchemy import select as core_select
from sqlmodel import Session, col, select

from angelon.core.problems import Invalid
from angelon.core.specs.asked import Asked
from angelon.core.specs.base import read_spec
from angelon.db.events import EVENT
from angelon.db.tables import EventRow, HandlerFolderRow, HandlerRunRow

RUN: Table = HandlerRunRow.__table__  # type: ignore[attr-defined]
_ASKED = core_select(RUN.c.event_id, RUN.c.handler, RUN.c.asked, RUN.c.problem, RUN.c.digest).where(
    RUN.c.event_id.in_(bindparam("b_ids", expanding=True))
)


def folder(session: Session) -> HandlerFolderRow | None:
    """The folder as it was loaded last; None where there never was one."""
    return session.exec(select(HandlerFolderRow)).first()


def keep_folder(session: Session, path: str, digest: str, told: dict[str, Any], now: dt.datetime) -> None:
    """Keeps what was found in the folder. Where a file can't be imported, what was registered before stays."""
    row = folder(session) or HandlerFolderRow(folder=path, digest=digest, loaded_at=now)
    row.folder, row.digest, row.loaded_at = path, digest, now
    row.problems, row.output = told["problems"], told.get("output", "")
    row.handlers = told["handlers"]
    session.add(row)
    session.flush()


def asked(connection: Connection, event_ids: Collection[str], digest: str = "") -> dict[str, dict[str, Asked]]:
    """What handlers have asked for about events, by event and handler; a call that failed as its problem. With a
    `digest` only what that very code has asked for.
    """
    found: dict[str, dict[str, Asked]] = {}
    if event_ids:
        for row in connection.execute(_ASKED, {"b_ids": list(event_ids)}):
            if digest and row.digest != digest:
                continue
            try:
                one = read_spec(Asked, row.asked or {"problem": row.problem})
            except Invalid as error:
                one = Asked(problem=str(error.problems[0])[:8000])
            found.setdefault(row.event_id, {})[row.handler] = one
    return found


def of_event(connection: Connection, event_id: str) -> list[Any]:
    """Every call about one event."""
    return list(connection.execute(core_select(RUN).where(RUN.c.event_id == event_id).order_by(RUN.c.handler)))


def keep_run(connection: Connection, event_id: str, handler: str, **values: Any) -> None:
    """Stores what a call came to, in place of an earlier one about the same event."""
    done = connection.execute(update(RUN).where(RUN.c.event_id == event_id, RUN.c.handler == handler).values(**values))
    if done.rowcount == 0:
        connection.execute(insert(RUN).values(event_id=event_id, handler=handler, **values))


def call_again(connection: Connection, now: dt.datetime, event_ids: Collection[str] | None = None) -> None:
    """Has handlers asked once more about events that wait to be planned: those that failed, and those that were never
    asked. `event_ids` are the events that are meant; None for all.
    """
    waiting = [EVENT.c.planned_at.is_(None), EVENT.c.waits_until.is_(None)]
    if event_ids is not None:
        waiting.append(EVENT.c.id.in_(list(event_ids)))
    meant = core_select(EVENT.c.id).where(*waiting)
    connection.execute(delete(RUN).where(RUN.c.event_id.in_(meant), RUN.c.problem != ""))
    connection.execute(update(EVENT).where(*waiting).values(waits_until=now))


@dataclass(frozen=True, slots=True)
class Tally:
    """How often a handler was called since a moment, how often in vain, and how long a call took at the middle and at
    most, in milliseconds.
    """

    calls: int = 0
    failed: int = 0
    mean_ms: int = 0
    longest_ms: int = 0
    last: dt.datetime | None = None


def tallies(session: Session, since: dt.datetime) -> dict[str, Tally]:
    """By handler, since a moment (aware)."""
    statement = (
        core_select(
            RUN.c.handler,
            func.count(),
            func.count().filter(RUN.c.problem != ""),
            func.avg(RUN.c.took_ms),
            func.max(RUN.c.took_ms),
            func.max(RUN.c.at),
        )
        .where(RUN.c.at >= since)
        .group_by(RUN.c.handler)
    )
    return {
        name: Tally(calls, int(failed or 0), round(mean or 0), int(longest or 0), last)
        for name, calls, failed, mean, longest, last in session.connection().execute(statement)
    }


def runs(session: Session, handler: str, limit: int = 50, only_failed: bool = False) -> list[tuple[Any, EventRow]]:
    """A handler's newest calls, each with its event."""
    statement = (
        select(HandlerRunRow, EventRow)
        .join(EventRow, col(EventRow.id) == HandlerRunRow.event_id)
        .where(HandlerRunRow.handler == handler)
        .order_by(col(HandlerRunRow.at).desc())
        .limit(limit)
    )
    if only_failed:
        statement = statement.where(HandlerRunRow.problem != "")
    return list(session.exec(statement).all())
