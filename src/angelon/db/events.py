"""Events: stored on arrival, taken up for planning, read back for pages."""

from __future__ import annotations

import datetime as dt
import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Table, bindparam, insert, tuple_, update
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite
from sqlmodel import Session, col, func, select

from angelon.db.tables import EventRow, RefusedRow

EVENT: Table = EventRow.__table__  # type: ignore[attr-defined]
REFUSED: Table = RefusedRow.__table__  # type: ignore[attr-defined]
KEPT_REFUSED = 100
_MARK_PLANNED = (
    update(EVENT).where(EVENT.c.id == bindparam("b_id")).values({name: bindparam(name) for name in ("planned_at", "order_id", "decisions", "problem", "was", "now")})
)


@dataclass(frozen=True, slots=True)
class NewEvent:
    """An event on its way into the database. `window` is how long the same body is taken for the same delivery."""

    values: dict[str, Any]
    window: dt.timedelta | None = None


def add(connection: Connection, events: Sequence[NewEvent]) -> dict[str, str]:
    """Stores events that are new; gives for each proposed id the id under which it stands (another for a repeat).

    A delivery with an id of its own is known by it; one without by its body's hash within its window.
    """
    known: dict[str, str] = {}
    fresh: list[dict[str, Any]] = []
    hashed = [e for e in events if e.window]
    by_hash: dict[tuple[int, str], list[tuple[str, dt.datetime]]] = {}
    if hashed:
        wanted = {(e.values["source_id"], e.values["body_hash"]) for e in hashed}
        oldest = min(e.values["received_at"] - e.window for e in hashed if e.window)
        rows = connection.execute(
            core_select(EVENT.c.id, EVENT.c.source_id, EVENT.c.body_hash, EVENT.c.received_at).where(
                EVENT.c.source_id.in_({s for s, _ in wanted}), EVENT.c.received_at >= oldest, EVENT.c.body_hash.in_({h for _, h in wanted}), EVENT.c.parent_id.is_(None)
            )
        )
        for id_, source_id, digest, at in rows:
            by_hash.setdefault((source_id, digest), []).append((id_, at))
    for event in events:
        values = event.values
        if event.window:
            key = (values["source_id"], values["body_hash"])
            earlier = next((id_ for id_, at in by_hash.get(key, []) if values["received_at"] - at <= event.window), None)
            if earlier:
                known[values["id"]] = earlier
                continue
            by_hash.setdefault(key, []).append((values["id"], values["received_at"]))
        fresh.append(values)
    if fresh:
        dialect = sqlite if connection.dialect.name == "sqlite" else postgresql
        statement = dialect.insert(EVENT).on_conflict_do_nothing(index_elements=["source_id", "delivery_key"]).returning(EVENT.c.id)
        stored = {row[0] for row in connection.execute(statement, fresh)}
        repeats = [values for values in fresh if values["id"] not in stored]
        known.update((id_, id_) for id_ in stored)
        if repeats:
            pairs = [(v["source_id"], v["delivery_key"]) for v in repeats]
            rows = connection.execute(
                core_select(EVENT.c.source_id, EVENT.c.delivery_key, EVENT.c.id).where(tuple_(EVENT.c.source_id, EVENT.c.delivery_key).in_(pairs))
            )
            standing = {(s, k): id_ for s, k, id_ in rows}
            known.update((v["id"], standing[(v["source_id"], v["delivery_key"])]) for v in repeats)
    for event in events:  # a body seen twice in one batch points at the first, which is stored by now
        known.setdefault(event.values["id"], event.values["id"])
    return known


def add_sample(connection: Connection, id_: str, source_id: int, values: dict[str, Any]) -> None:
    """Keeps a payload that was not delivered: there to be read, never planned."""
    row = {"id": id_, "source_id": source_id, "delivery_key": f"sample:{id_}", "body_hash": "", "item": 0, "was": "", "now": "", "problem": "", "planned_at": values["received_at"], "decisions": []}
    connection.execute(insert(EVENT), [row | values])


def refuse(connection: Connection, refused: Sequence[dict[str, Any]]) -> None:
    """Keeps refused deliveries, the newest KEPT_REFUSED of each source."""
    connection.execute(insert(REFUSED), list(refused))
    for source_id in {r["source_id"] for r in refused}:
        edge = connection.execute(
            core_select(REFUSED.c.id).where(REFUSED.c.source_id == source_id).order_by(REFUSED.c.id.desc()).offset(KEPT_REFUSED).limit(1)
        ).scalar()
        if edge is not None:
            connection.execute(REFUSED.delete().where(REFUSED.c.source_id == source_id, REFUSED.c.id <= edge))


def unplanned(connection: Connection, limit: int) -> list[Any]:
    """Events that wait to be planned, oldest first, each with the body it reads (a derived one reads its parent's)."""
    parent = EVENT.alias()
    statement = (
        core_select(EVENT, parent.c.body.label("parent_body"), parent.c.content_type.label("parent_type"))
        .outerjoin(parent, parent.c.id == EVENT.c.parent_id)
        .where(EVENT.c.planned_at.is_(None), EVENT.c.waits_until.is_(None))
        .order_by(EVENT.c.received_at, EVENT.c.id)
        .limit(limit)
    )
    if connection.dialect.name == "postgresql":
        statement = statement.with_for_update(skip_locked=True, of=EVENT)
    return list(connection.execute(statement))


def in_span(connection: Connection, source_ids: Sequence[int], types: Sequence[str], since: dt.datetime | None, newest: int) -> list[str]:
    """The ids of the newest events of these sources and types since a moment, oldest first."""
    statement = core_select(EVENT.c.id).where(EVENT.c.source_id.in_(source_ids), EVENT.c.type.in_(types))
    if since is not None:
        statement = statement.where(EVENT.c.received_at >= since)
    return list(connection.execute(statement.order_by(EVENT.c.received_at.desc(), EVENT.c.parent_id.is_(None), EVENT.c.id.desc()).limit(newest)).scalars())[::-1]


def count_others(connection: Connection, source_ids: Sequence[int], types: Sequence[str], since: dt.datetime | None) -> int:
    """How many events of these sources since a moment are of other types."""
    statement = core_select(func.count()).select_from(EVENT).where(EVENT.c.source_id.in_(source_ids), EVENT.c.type.not_in(types))
    if since is not None:
        statement = statement.where(EVENT.c.received_at >= since)
    return int(connection.execute(statement).scalar() or 0)


def with_bodies(connection: Connection, ids: Sequence[str]) -> list[Any]:
    """Events with the body that each reads, oldest first; what follows from a delivery comes after it, as it is planned."""
    parent = EVENT.alias()
    statement = (
        core_select(EVENT, parent.c.body.label("parent_body"), parent.c.content_type.label("parent_type")).outerjoin(parent, parent.c.id == EVENT.c.parent_id).where(EVENT.c.id.in_(list(ids)))
    )
    return list(connection.execute(statement.order_by(EVENT.c.received_at, EVENT.c.parent_id.is_not(None), EVENT.c.id)))


def mark_planned(connection: Connection, planned: Sequence[dict[str, Any]]) -> None:
    """Stores what planning made of each event; `b_id` names the event."""
    if planned:
        connection.execute(_MARK_PLANNED, list(planned))


def recent(session: Session, source_id: int, limit: int = 20, type: str | None = None) -> list[EventRow]:
    """A source's events, newest first; derived ones left out."""
    statement = select(EventRow).where(EventRow.source_id == source_id, col(EventRow.parent_id).is_(None))
    if type is not None:
        statement = statement.where(EventRow.type == type)
    return list(session.exec(statement.order_by(col(EventRow.received_at).desc(), col(EventRow.id).desc()).limit(limit)))


def since(session: Session, source_id: int, after: dt.datetime, limit: int = 20) -> tuple[list[EventRow], list[RefusedRow]]:
    """What has come in and what was refused after a moment, oldest first."""
    events = session.exec(
        select(EventRow)
        .where(EventRow.source_id == source_id, EventRow.received_at > after, col(EventRow.parent_id).is_(None))
        .order_by(col(EventRow.received_at))
        .limit(limit)
    )
    refused = session.exec(select(RefusedRow).where(RefusedRow.source_id == source_id, RefusedRow.at > after).order_by(col(RefusedRow.at)).limit(limit))
    return list(events), list(refused)


def refused(session: Session, source_id: int, limit: int = 20) -> list[RefusedRow]:
    return list(session.exec(select(RefusedRow).where(RefusedRow.source_id == source_id).order_by(col(RefusedRow.id).desc()).limit(limit)))


def counted(session: Session, source_id: int, after: dt.datetime) -> int:
    """How many deliveries a source has had since a moment."""
    return session.exec(select(func.count()).where(EventRow.source_id == source_id, EventRow.received_at > after, col(EventRow.parent_id).is_(None))).one()


def refused_count(session: Session, source_id: int, after: dt.datetime) -> int:
    return session.exec(select(func.count()).select_from(RefusedRow).where(RefusedRow.source_id == source_id, RefusedRow.at > after)).one()


def silence(session: Session, source_id: int, now: dt.datetime) -> dt.timedelta | None:
    """How long a source has been silent, where that is more than three times its longest pause of the last 50 deliveries; else None."""
    times = list(session.exec(select(EventRow.received_at).where(EventRow.source_id == source_id, col(EventRow.parent_id).is_(None)).order_by(col(EventRow.received_at).desc()).limit(50)))
    if len(times) < 10:
        return None
    longest = max(a - b for a, b in itertools.pairwise(times))
    quiet = now - times[0]
    return quiet if quiet > 3 * max(longest, dt.timedelta(minutes=10)) else None


def unnamed(session: Session, source_id: int) -> list[tuple[str, int]]:
    """Event names that mean nothing yet, with counts, most frequent first."""
    count = func.count()
    rows = session.exec(
        select(EventRow.name, count).where(EventRow.source_id == source_id, EventRow.type == "").group_by(EventRow.name).order_by(count.desc()).limit(20)
    )
    return [(name, number) for name, number in rows]


def body_of(session: Session, event: EventRow) -> tuple[bytes, str, dict[str, str]]:
    """The raw body, content type and kept headers that an event reads: its own, or its parent's."""
    if event.parent_id:
        parent = session.get(EventRow, event.parent_id)
        if parent:
            return parent.body, parent.content_type, parent.headers or {}
    return event.body, event.content_type, event.headers or {}


def backlog(session: Session, now: dt.datetime) -> dt.timedelta | None:
    """How long the oldest event has waited to be planned; None where none waits."""
    oldest = session.exec(select(func.min(EventRow.received_at)).where(col(EventRow.planned_at).is_(None))).one()
    return None if oldest is None else now - oldest
