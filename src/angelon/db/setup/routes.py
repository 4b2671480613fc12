"""What routes have scheduled: held while they are off, and released."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import Any

from sqlalchemy import bindparam, func, text, update
from sqlmodel import Session, select

from angelon.core.specs.route import Route
from angelon.core.specs.stored import from_stored
from angelon.core.states import State, move
from angelon.db.derived import counts
from angelon.db.lists import not_by_index
from angelon.db.log.sends import SEND
from angelon.db.setup.specs import current_spec
from angelon.db.tables import STUCK, WAITING, RouteRow

OFF = "The route is switched off."
"""Why sends are held whose route was switched off."""


def hold(session: Session, row: RouteRow) -> int:
    """Holds what a route has scheduled, since it is switched off; gives how many sends that are."""
    done = session.connection().execute(
        update(SEND)
        .where(text(WAITING), not_by_index(SEND.c.route_id) == row.id)
        .values(state=State.HELD, reason=OFF, fallback_at=None)
    )
    return int(done.rowcount)


@dataclass(frozen=True)
class Waiting:
    """What a route has under way: scheduled; held since it is off; overdue among those."""

    scheduled: int = 0
    held: int = 0
    overdue: int = 0


def waiting(session: Session, store_id: int, route_id: int, now: dt.datetime) -> Waiting:
    states = counts.of_route(session.connection(), store_id, route_id)
    scheduled = sum(states.get(state, 0) for state in (State.SCHEDULED, State.RETRYING))
    held = overdue = 0
    if states.get(State.HELD):
        late = SEND.c.due_at <= now
        rows = session.connection().execute(
            select(late, func.count())
            .where(text(f"send.{STUCK}"), not_by_index(SEND.c.route_id) == route_id)
            .where(SEND.c.state == State.HELD, SEND.c.reason == OFF)
            .group_by(late)
        )
        for is_late, number in rows:
            held += number
            overdue += number if is_late else 0
    return Waiting(scheduled, held, overdue)


def release_held(session: Session, row: RouteRow, late: str, now: dt.datetime) -> tuple[int, int]:
    """Schedules again what was held while the route was off; `late` says what becomes of overdue ones: send or drop.

    Where the route has a fallback for what is not out in time, that time counts from now for what is overdue. Gives
    how many are scheduled and how many dropped.
    """
    held = (SEND.c.state == State.HELD, SEND.c.reason == OFF)
    mine: Any = (text(STUCK), not_by_index(SEND.c.route_id) == row.id, *held)
    connection = session.connection()
    dropped = 0
    if late == "drop":
        reason = "Its time had passed when the route was switched on again."
        gone = {"state": move(State.HELD, State.CANCELLED), "reason": reason, "settled_at": now}
        dropped = int(connection.execute(update(SEND).where(*mine, SEND.c.due_at <= now).values(**gone)).rowcount)
    fallback = from_stored(Route, current_spec(session, row)).fallback
    within = dt.timedelta(minutes=fallback.within_minutes)
    if within and fallback.options:
        waiting = select(SEND.c.id, SEND.c.due_at).where(*mine, SEND.c.step < len(fallback.options))
        later = [{"b_id": id_, "b_at": max(due_at, now) + within} for id_, due_at in connection.execute(waiting)]
        if later:
            connection.execute(_SET_FALLBACK, later)
    again = update(SEND).where(*mine).values(state=move(State.HELD, State.SCHEDULED), reason="")
    return int(connection.execute(again).rowcount), dropped


_SET_FALLBACK = (
    update(SEND).where(SEND.c.id == bindparam("b_id")).values(fallback_at=bindparam("b_at", type_=SEND.c.due_at.type))
)
