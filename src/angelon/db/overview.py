"""Numbers for the frame and the overview, few queries a page."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, field
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import BigInteger, func, text, type_coerce
from sqlalchemy import select as core_select
from sqlmodel import Session, col, select

from angelon.core.states import State
from angelon.db.sends import ALIVE_FOR
from angelon.db.tables import (
    PROBLEM,
    STUCK,
    WAITING,
    EventRow,
    GatewayHealthRow,
    GatewayRow,
    HeartbeatRow,
    MessageRow,
    OrderRow,
    RouteRow,
    SendRow,
    SourceRow,
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
    event, send = EventRow.__table__, SendRow.__table__  # type: ignore[attr-defined]
    source = SourceRow.__table__  # type: ignore[attr-defined]
    health, gateway = GatewayHealthRow.__table__, GatewayRow.__table__  # type: ignore[attr-defined]

    def total(table: Any, *where: Any) -> Any:
        counted = core_select(func.count()).select_from(table).where(table.store_id == store_id, *where)
        return counted.scalar_subquery()

    recent = now - dt.timedelta(days=_ATTENTION_DAYS)
    row = (
        session.connection()
        .execute(
            core_select(
                total(OrderRow),
                total(SendRow),
                total(SourceRow),
                total(MessageRow),
                total(RouteRow, col(RouteRow.gone_at).is_(None), col(RouteRow.key).not_like("handler-%")),
                total(GatewayRow),
                core_select(func.count())
                .select_from(send)
                .where(send.c.store_id == store_id, text(STUCK), send.c.created_at >= recent, send.c.test.is_(False))
                .scalar_subquery(),
                core_select(func.count())
                .select_from(event)
                .where(
                    text(PROBLEM),
                    event.c.received_at >= recent,
                    event.c.source_id.in_(core_select(source.c.id).where(source.c.store_id == store_id)),
                )
                .scalar_subquery(),
                core_select(func.count())
                .select_from(health)
                .join(gateway, gateway.c.id == health.c.gateway_id)
                .where(gateway.c.store_id == store_id)
                .scalar_subquery(),
                core_select(func.max(HeartbeatRow.at)).where(HeartbeatRow.at <= now + ALIVE_FOR).scalar_subquery(),  # type: ignore[arg-type]
                core_select(func.min(event.c.received_at)).where(event.c.planned_at.is_(None)).scalar_subquery(),
                core_select(func.min(send.c.due_at)).where(text(WAITING), send.c.due_at <= now).scalar_subquery(),
            )
        )
        .one()
    )
    names = ("orders", "sends", "sources", "messages", "routes", "gateways")
    return Numbers(dict(zip(names, row[:6], strict=True)), row[6] + row[7] + row[8], row[9], row[10], row[11])


def events_by_type(session: Session, source_ids: list[int], since: dt.datetime) -> dict[str, int]:
    """How many orders had an event of each type since a moment."""
    rows = session.exec(
        select(EventRow.type, func.count(func.distinct(EventRow.order_id)))
        .where(col(EventRow.source_id).in_(source_ids), EventRow.received_at >= since, EventRow.type != "")
        .group_by(EventRow.type)
    )
    return {type_: number for type_, number in rows}


QUARTER = 900_000_000
"""Microseconds: every zone's days begin at a whole quarter of an hour."""


def by_day(
    session: Session, store_id: int, since: dt.datetime, zone: ZoneInfo
) -> tuple[dict[dt.date, int], dict[dt.date, int], dict[dt.date, int]]:
    """Sends, sends that needed more than one try, and orders for each day of a zone since a moment."""
    send, order = SendRow.__table__, OrderRow.__table__  # type: ignore[attr-defined]

    def grouped(column: Any, *where: Any) -> dict[dt.date, int]:
        quarter = type_coerce(type_coerce(column, BigInteger).op("/")(QUARTER), BigInteger).label("quarter")
        found: dict[dt.date, int] = {}
        for number, count in session.connection().execute(
            core_select(quarter, func.count()).where(*where).group_by("quarter")
        ):
            day = dt.datetime.fromtimestamp(number * QUARTER // 1_000_000, zone).date()
            found[day] = found.get(day, 0) + count
        return found

    return (
        grouped(
            send.c.created_at, send.c.store_id == store_id, send.c.created_at >= since, send.c.state != State.SKIPPED
        ),
        grouped(send.c.created_at, send.c.store_id == store_id, send.c.created_at >= since, send.c.tries > 1),
        grouped(order.c.placed_at, order.c.store_id == store_id, order.c.placed_at >= since),
    )


def attention(session: Session, store_id: int, now: dt.datetime, limit: int = 8) -> list[SendRow]:
    """Sends that a person must look at, the newest first."""
    recent = now - dt.timedelta(days=_ATTENTION_DAYS)
    return list(
        session.exec(
            select(SendRow)
            .where(SendRow.store_id == store_id, text(STUCK), SendRow.created_at >= recent)
            .order_by(col(SendRow.created_at).desc())
            .limit(limit)
        )
    )
