"""What addresses have answered about events: asked once for each delivery, kept with it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection
from typing import Any

from sqlalchemy import Connection, Table, bindparam, insert, text, update
from sqlalchemy import select as core_select

from angelon.db.events import EVENT
from angelon.db.lists import not_by_index
from angelon.db.tables import PROBLEM, AnswerRow

ANSWER: Table = AnswerRow.__table__  # type: ignore[attr-defined]
_ANSWERED = ANSWER.c.event_id.in_(bindparam("b_ids", expanding=True))
_VALUES = core_select(ANSWER.c.event_id, ANSWER.c.name, ANSWER.c.value).where(_ANSWERED, ANSWER.c.problem == "")
_PROBLEMS = core_select(ANSWER.c.event_id, ANSWER.c.name, ANSWER.c.problem).where(_ANSWERED, ANSWER.c.problem != "")


def of(connection: Connection, event_ids: Collection[str]) -> dict[str, dict[str, Any]]:
    """The values answered for deliveries, by event and name."""
    found: dict[str, dict[str, Any]] = {}
    if event_ids:
        for row in connection.execute(_VALUES, {"b_ids": list(event_ids)}):
            found.setdefault(row.event_id, {})[row.name] = row.value
    return found


def problems(connection: Connection, event_ids: Collection[str]) -> dict[str, dict[str, str]]:
    """Why there is no answer, by event and name."""
    found: dict[str, dict[str, str]] = {}
    if event_ids:
        for row in connection.execute(_PROBLEMS, {"b_ids": list(event_ids)}):
            found.setdefault(row.event_id, {})[row.name] = row.problem
    return found


def all_of(connection: Connection, event_id: str) -> list[Any]:
    """Everything that was asked about one event."""
    return list(connection.execute(core_select(ANSWER).where(ANSWER.c.event_id == event_id).order_by(ANSWER.c.name)))


def failed(connection: Connection, source_ids: Collection[int], since: dt.datetime, limit: int) -> list[Any]:
    """Look-ups that were given up since a moment, the newest first: (event, order, source, name, problem, at)."""
    return list(
        connection.execute(
            core_select(
                ANSWER.c.event_id, EVENT.c.order_id, EVENT.c.source_id, ANSWER.c.name, ANSWER.c.problem, ANSWER.c.at
            )
            .join(EVENT, EVENT.c.id == ANSWER.c.event_id)
            .where(
                text(f"answer.{PROBLEM}"),
                ANSWER.c.at >= since,
                EVENT.c.waits_until.is_(None),
                not_by_index(EVENT.c.source_id).in_(list(source_ids)),
            )
            .order_by(ANSWER.c.at.desc(), ANSWER.c.event_id, ANSWER.c.name)
            .limit(limit)
        )
    )


def waiting(connection: Connection, now: dt.datetime, limit: int, without: Collection[int] = ()) -> list[Any]:
    """Events that something is to be asked about, the longest waiting first; those of the sources in `without` are
    passed over.
    """
    statement = (
        core_select(EVENT)
        .where(EVENT.c.waits_until.is_not(None), EVENT.c.waits_until <= now, EVENT.c.planned_at.is_(None))
        .order_by(EVENT.c.waits_until)
        .limit(limit)
    )
    if without:
        statement = statement.where(EVENT.c.source_id.not_in(list(without)))
    if connection.dialect.name == "postgresql":
        statement = statement.with_for_update(skip_locked=True)
    return list(connection.execute(statement))


def claim(connection: Connection, event_ids: Collection[str], until: dt.datetime, worker: str) -> None:
    """Keeps others from asking about these events for a while."""
    connection.execute(update(EVENT).where(EVENT.c.id.in_(list(event_ids))).values(waits_until=until, asker=worker))


ASKED = (EVENT.c.waits_until.is_not(None), EVENT.c.asker != "")


def askers(connection: Connection) -> list[str]:
    """The workers that are asking about events just now."""
    return list(connection.execute(core_select(EVENT.c.asker).where(*ASKED).distinct()).scalars())


def give_back(connection: Connection, workers: Collection[str], now: dt.datetime) -> int:
    """Lets others ask at once about the events that these workers, which are gone, were asking about; says how many."""
    return connection.execute(
        update(EVENT).where(*ASKED, EVENT.c.asker.in_(list(workers))).values(waits_until=now, asker="")
    ).rowcount


def keep(
    connection: Connection, event_id: str, name: str, tries: int, at: dt.datetime, url: str, value: Any, problem: str
) -> None:
    """Stores what came of a try."""
    values = {"tries": tries, "at": at, "url": url, "value": value, "problem": problem}
    done = connection.execute(
        update(ANSWER).where(ANSWER.c.event_id == event_id, ANSWER.c.name == name).values(**values)
    )
    if done.rowcount == 0:
        connection.execute(insert(ANSWER).values(event_id=event_id, name=name, **values))


def wait(connection: Connection, event_id: str, until: dt.datetime | None) -> None:
    """When the event is looked at again; None where it needs nothing more and may be planned."""
    connection.execute(update(EVENT).where(EVENT.c.id == event_id).values(waits_until=until, asker=""))
