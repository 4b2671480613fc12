"""Numbers for the frame and the overview, few queries a page."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import BigInteger, func, text, type_coerce, union_all
from sqlalchemy import select as core_select
from sqlmodel import Session, col, select

from angelon.core.planning.turns import Turn
from angelon.core.states import OUT
from angelon.db.derived import counts
from angelon.db.lists import not_by_index
from angelon.db.log.sends import ALIVE_FOR
from angelon.db.tables import (
    PROBLEM,
    STUCK,
    TO_PLAN,
    WAITING,
    AttemptRow,
    EventRow,
    GatewayHealthRow,
    GatewayRow,
    HeartbeatRow,
    MessageRow,
    RouteRow,
    SendRow,
    SourceRow,
    table_of,
)

_ATTENTION_DAYS = 14


@dataclass(frozen=True)
class Numbers:
    counts: dict[str, int] = field(default_factory=dict)
    needs: int = 0
    last_beat: dt.datetime | None = None
    oldest_unplanned: dt.datetime | None = None
    oldest_overdue: dt.datetime | None = None


def numbers(session: Session, store_id: int, now: dt.datetime) -> Numbers:
    """What the frame shows, in one query."""
    event, send = table_of(EventRow), table_of(SendRow)
    source = table_of(SourceRow)
    health, gateway = table_of(GatewayHealthRow), table_of(GatewayRow)

    def total(table: Any, *where: Any) -> Any:
        counted = core_select(func.count()).select_from(table).where(table.store_id == store_id, *where)
        return counted.scalar_subquery()

    recent = now - dt.timedelta(days=_ATTENTION_DAYS)
    row = (
        session.connection()
        .execute(
            core_select(
                counts.all_orders(store_id),
                counts.all_sends(store_id),
                total(SourceRow),
                total(MessageRow),
                total(RouteRow, col(RouteRow.gone_at).is_(None), col(RouteRow.key).not_like("handler-%")),
                total(GatewayRow),
                core_select(func.count())
                .select_from(send)
                .where(not_by_index(send.c.store_id) == store_id, text(STUCK))
                .where(send.c.created_at >= recent, send.c.test.is_(False))
                .scalar_subquery(),
                core_select(func.count())
                .select_from(event)
                .where(
                    text(PROBLEM),
                    event.c.received_at >= recent,
                    not_by_index(event.c.source_id).in_(core_select(source.c.id).where(source.c.store_id == store_id)),
                )
                .scalar_subquery(),
                core_select(func.count())
                .select_from(health)
                .join(gateway, gateway.c.id == health.c.gateway_id)
                .where(gateway.c.store_id == store_id)
                .scalar_subquery(),
                core_select(func.max(HeartbeatRow.at)).where(HeartbeatRow.at <= now + ALIVE_FOR).scalar_subquery(),  # type: ignore[arg-type]
                core_select(func.min(event.c.received_at)).where(text(TO_PLAN)).scalar_subquery(),
                core_select(func.min(send.c.due_at)).where(text(WAITING), send.c.due_at <= now).scalar_subquery(),
            )
        )
        .one()
    )
    names = ("orders", "sends", "sources", "messages", "routes", "gateways")
    return Numbers(dict(zip(names, row[:6], strict=True)), row[6] + row[7] + row[8], row[9], row[10], row[11])


def attention(session: Session, store_id: int, now: dt.datetime, limit: int = 8) -> list[SendRow]:
    """Sends that a person must look at, the newest first."""
    recent = now - dt.timedelta(days=_ATTENTION_DAYS)
    return list(
        session.exec(
            select(SendRow)
            .where(not_by_index(col(SendRow.store_id)) == store_id, text(STUCK), SendRow.created_at >= recent)
            .order_by(col(SendRow.created_at).desc())
            .limit(limit)
        )
    )


AT_ONCE = 2_000_000
"""Microseconds within which what is due goes at once."""
LOOKED_AT = 1000
"""Newest sends by which it is said how long handing over takes."""


def handed_over_in(session: Session, store_id: int, since: dt.datetime) -> list[float]:
    """Seconds from an event's coming to its send's being handed over, in order: of the newest sends since a moment that
    were not to wait.
    """
    send, event = table_of(SendRow), table_of(EventRow)
    newest = (
        core_select(send.c.event_id, send.c.settled_at)
        .where(send.c.store_id == store_id, send.c.created_at >= since, send.c.state.in_(OUT))
        .where(type_coerce(send.c.due_at, BigInteger) <= type_coerce(send.c.created_at, BigInteger) + AT_ONCE)
        .where(send.c.settled_at.is_not(None), send.c.event_id.is_not(None), send.c.run_id.is_(None))
        .where(send.c.test.is_(False))
        .order_by(send.c.created_at.desc())
        .limit(LOOKED_AT)
        .subquery()
    )
    took = core_select(newest.c.settled_at, event.c.received_at).join(event, event.c.id == newest.c.event_id)
    return sorted((settled - came).total_seconds() for settled, came in session.connection().execute(took))


TRIES_LOOKED_AT = 6000
"""Newest tries among which those of the last hour are looked for."""


def tries(session: Session, store_id: int, since: dt.datetime) -> list[tuple[int, dt.datetime, str]]:
    """The tries since a moment, oldest first: (gateway, when it began, what came of it)."""
    attempt, send = table_of(AttemptRow), table_of(SendRow)
    last = core_select(func.coalesce(func.max(attempt.c.id), 0) - TRIES_LOOKED_AT).scalar_subquery()
    rows = session.connection().execute(
        core_select(send.c.gateway_id, attempt.c.began_at, attempt.c.outcome)
        .join(send, send.c.id == attempt.c.send_id)
        .where(attempt.c.id > last, attempt.c.began_at >= since, not_by_index(send.c.store_id) == store_id)
        .order_by(attempt.c.id)
    )
    return [(gateway_id or 0, began, outcome) for gateway_id, began, outcome in rows]


def due_next(session: Session, gateway_ids: Sequence[int], limit: int = 5) -> list[SendRow]:
    """What goes out next, by all of these gateways."""
    send = table_of(SendRow)
    first = [
        core_select(send.c.id)
        .where(text(WAITING), send.c.gateway_id == gateway_id, send.c.turn == turn.value)
        .order_by(send.c.due_at)
        .limit(limit)
        .subquery()
        for gateway_id in gateway_ids
        for turn in Turn  # as their index has them: without it, all of a backlog would be sorted
    ]
    if not first:
        return []
    ids = union_all(*(core_select(one.c.id) for one in first))
    return list(
        session.exec(select(SendRow).where(col(SendRow.id).in_(ids)).order_by(col(SendRow.due_at)).limit(limit))
    )
