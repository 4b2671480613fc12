"""What waits for a time, moved along with a clock that was put back, so that nothing waits for longer than it
should.
"""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import BigInteger, ColumnElement, Connection, func, or_, text, type_coerce, update
from sqlalchemy import select as core_select

from angelon.core.states import State
from angelon.db.log.events import EVENT
from angelon.db.log.inquiries import INQUIRY
from angelon.db.log.sends import HEARTBEAT, SEND
from angelon.db.tables import DUE, SENDING, TO_DECIDE, WAITING, RouteRow, table_of
from angelon.db.upkeep.gateway_health import HEALTH

ROUTE = table_of(RouteRow)


def latest_beat(connection: Connection) -> dt.datetime | None:
    return connection.execute(core_select(func.max(HEARTBEAT.c.at))).scalar()


def put_back(connection: Connection, now: dt.datetime, by: dt.timedelta) -> int:
    """Moves what was set by the clock as it was before; gives how many sends waited.

    A send that was due by then is due now. One made by that clock, and any retry, waits as long as it was to wait; a
    time that is meant as such (an order's day, an hour of the day) stays. Leases, look-ups and fallbacks likewise.
    """
    was = now + by
    micros = int(by.total_seconds() * 1_000_000)
    waiting = (text(WAITING), SEND.c.due_at > now)
    moved = connection.execute(update(SEND).where(*waiting, SEND.c.due_at <= was).values(due_at=now)).rowcount
    by_that_clock = or_(SEND.c.state == State.RETRYING, SEND.c.created_at > now)
    moved += connection.execute(
        update(SEND).where(*waiting, by_that_clock).values(due_at=_less(SEND.c.due_at, micros))
    ).rowcount
    connection.execute(
        update(SEND)
        .where(text(SENDING), SEND.c.lease_until > now)
        .values(lease_until=_less(SEND.c.lease_until, micros))
    )
    fallback_due = (text("fallback_at IS NOT NULL"), SEND.c.fallback_at > now)
    connection.execute(update(SEND).where(*fallback_due, SEND.c.fallback_at <= was).values(fallback_at=now))
    connection.execute(
        update(SEND).where(*fallback_due, SEND.c.created_at > now).values(fallback_at=_less(SEND.c.fallback_at, micros))
    )
    connection.execute(
        update(EVENT).where(text(TO_DECIDE), EVENT.c.decide_at > now).values(decide_at=_less(EVENT.c.decide_at, micros))
    )
    connection.execute(
        update(INQUIRY)
        .where(text(DUE), INQUIRY.c.due_at > now)
        .values(due_at=_less(INQUIRY.c.due_at, micros), until=_less(INQUIRY.c.until, micros))
    )
    connection.execute(update(ROUTE).where(ROUTE.c.since > now).values(since=now))
    connection.execute(update(HEALTH).where(HEALTH.c.probe_at > now).values(probe_at=now))
    connection.execute(HEARTBEAT.delete().where(HEARTBEAT.c.at > now))
    return moved


def _less(column: ColumnElement[Any], micros: int) -> ColumnElement[Any]:
    """A column's moment, so many microseconds earlier: moments are whole microseconds in the database."""
    return type_coerce(column, BigInteger) - micros
