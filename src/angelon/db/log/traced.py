"""What a trace says of sends: when its delivery came, when it was planned, when each try began and ended."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from sqlalchemy import Connection, Table, select

from angelon.db.tables import (
    AttemptRow,
    DeliveryRow,
    EventRow,
    GatewayRow,
    MessageRow,
    RouteRow,
    SendRow,
    SourceRow,
    StoreRow,
    table_of,
)

SEND = table_of(SendRow)
EVENT = table_of(EventRow)
DELIVERY = table_of(DeliveryRow)
ATTEMPT = table_of(AttemptRow)
_NAMED: dict[str, Table] = {
    "store": table_of(StoreRow),
    "source": table_of(SourceRow),
    "route": table_of(RouteRow),
    "message": table_of(MessageRow),
    "gateway": table_of(GatewayRow),
}


def of_sends(connection: Connection, ids: Collection[str]) -> list[Any]:
    """A row for each send: its own times and state, its event's, its delivery's, and keys of what it went by."""
    keys = [table.c.key.label(name) for name, table in _NAMED.items()]
    columns = (
        *(SEND.c.id, SEND.c.state, SEND.c.channel, SEND.c.created_at, SEND.c.due_at, SEND.c.tries, SEND.c.test),
        *(EVENT.c.type, EVENT.c.received_at, EVENT.c.planned_at, EVENT.c.delivery_id, DELIVERY.c.headers, *keys),
    )
    joined = SEND.outerjoin(EVENT, EVENT.c.id == SEND.c.event_id).outerjoin(
        DELIVERY, DELIVERY.c.id == EVENT.c.delivery_id
    )
    for name, table in _NAMED.items():
        of = EVENT if name == "source" else SEND
        joined = joined.outerjoin(table, table.c.id == of.c[f"{name}_id"])
    return list(connection.execute(select(*columns).select_from(joined).where(SEND.c.id.in_(ids))))


def tries_of(connection: Connection, ids: Collection[str]) -> list[Any]:
    """Their tries, in order."""
    columns = (ATTEMPT.c.send_id, ATTEMPT.c.number, ATTEMPT.c.began_at, ATTEMPT.c.ended_at)
    asked = select(*columns, ATTEMPT.c.outcome, ATTEMPT.c.code).where(ATTEMPT.c.send_id.in_(ids))
    return list(connection.execute(asked.order_by(ATTEMPT.c.id)))
