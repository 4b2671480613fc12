"""Routes as rows: listed, copied, deleted and brought back; what they have scheduled, held and let go."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import Any

from sqlalchemy import func, update
from sqlmodel import Session, col, select

from angelon.core.specs.route import Route
from angelon.core.states import State
from angelon.db.sends import SEND
from angelon.db.setup import current_spec, switch, touch
from angelon.db.tables import RevisionRow, RouteRow

OFF = "The route is switched off."
"""Why sends are held whose route was switched off."""


def all_of(session: Session, store_id: int) -> list[RouteRow]:
    """Every route of a store that has not been deleted."""
    return list(
        session.exec(
            select(RouteRow)
            .where(RouteRow.store_id == store_id, col(RouteRow.gone_at).is_(None))
            .order_by(col(RouteRow.id))
        )
    )


def free_key(session: Session, store_id: int, wanted: str) -> str:
    """A key that no route has or had: the wanted one, or that with a number."""
    taken = set(session.exec(select(RouteRow.key).where(RouteRow.store_id == store_id)))
    key, number = wanted, 2
    while key in taken:
        key, number = f"{wanted[:55]}-{number}", number + 1
    return key


def copy(session: Session, row: RouteRow, now: dt.datetime) -> RouteRow:
    """A draft like this route's, off, under a name and key of its own."""
    spec = current_spec(session, row)
    key = free_key(session, row.store_id, row.key)
    made = RouteRow(
        store_id=row.store_id,
        key=key,
        draft={**spec, "key": key, "name": f"{spec.get('name', row.key)[:90]} (copy)"},
        drafted_at=now,
    )
    session.add(made)
    session.flush()
    return made


def delete(session: Session, row: RouteRow, now: dt.datetime) -> int:
    """Switches a route off and takes it out of sight; what it has scheduled is held. Gives how many sends that are."""
    held = hold(session, row) if row.on else 0
    switch(session, row, False, now)
    row.gone_at = now
    touch(session, row.store_id)
    return held


def bring_back(session: Session, row: RouteRow) -> None:
    """Undoes a deletion; the route is off."""
    row.gone_at = None
    touch(session, row.store_id)


def hold(session: Session, row: RouteRow) -> int:
    """Holds what a route has scheduled, since it is switched off; gives how many sends that are."""
    done = session.connection().execute(
        update(SEND)
        .where(SEND.c.route_id == row.id, SEND.c.state.in_([State.SCHEDULED, State.RETRYING]))
        .values(state=State.HELD, reason=OFF, fall_at=None)
    )
    return int(done.rowcount)


@dataclass(frozen=True)
class Waiting:
    """What a route has under way: scheduled; held since it is off; overdue among those."""

    scheduled: int = 0
    held: int = 0
    overdue: int = 0


def waiting(session: Session, route_id: int, now: dt.datetime) -> Waiting:
    rows = session.connection().execute(
        select(SEND.c.state, SEND.c.due_at <= now, func.count())
        .where(
            SEND.c.route_id == route_id,
            (SEND.c.state.in_([State.SCHEDULED, State.RETRYING]))
            | ((SEND.c.state == State.HELD) & (SEND.c.reason == OFF)),
        )
        .group_by(SEND.c.state, SEND.c.due_at <= now)
    )
    scheduled = held = overdue = 0
    for state, late, number in rows:
        if state == State.HELD:
            held += number
            overdue += number if late else 0
        else:
            scheduled += number
    return Waiting(scheduled, held, overdue)


def let_go(session: Session, row: RouteRow, late: str, now: dt.datetime) -> tuple[int, int]:
    """Schedules again what was held while the route was off; `late` says what becomes of overdue ones: send or drop.

    Where the route tries another way for what is not out in time, that time counts from now for what is overdue. Gives
    how many are scheduled and how many dropped.
    """
    route_id = row.id
    mine: Any = (SEND.c.route_id == route_id, SEND.c.state == State.HELD, SEND.c.reason == OFF)
    dropped = 0
    if late == "drop":
        gone = session.connection().execute(
            update(SEND)
            .where(*mine, SEND.c.due_at <= now)
            .values(
                state=State.CANCELLED,
                reason="Its time had passed when the route was switched on again.",
                settled_at=now,
            )
        )
        dropped = int(gone.rowcount)
    otherwise = Route.model_validate(current_spec(session, row)).otherwise
    within = dt.timedelta(minutes=otherwise.within_minutes)
    if within and otherwise.ways:
        waiting = (
            session.connection()
            .execute(select(SEND.c.id, SEND.c.due_at).where(*mine, SEND.c.step < len(otherwise.ways)))
            .all()
        )
        for id_, due_at in waiting:
            session.connection().execute(update(SEND).where(SEND.c.id == id_).values(fall_at=max(due_at, now) + within))
    done = session.connection().execute(update(SEND).where(*mine).values(state=State.SCHEDULED, reason=""))
    return int(done.rowcount), dropped


def revisions(session: Session, row: RouteRow, limit: int = 20) -> list[RevisionRow]:
    """The newest revisions first."""
    return list(
        session.exec(
            select(RevisionRow)
            .where(RevisionRow.kind == "route", RevisionRow.owner_id == row.id)
            .order_by(col(RevisionRow.number).desc())
            .limit(limit)
        )
    )
