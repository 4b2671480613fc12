"""How gateways are doing, where it is not well: read by pages and by every worker, written when it changes."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping

from sqlalchemy import Connection, update
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite

from angelon.core.breaker import Health
from angelon.db.tables import GatewayHealthRow, table_of

HEALTH = table_of(GatewayHealthRow)


def load(connection: Connection) -> dict[int, Health]:
    """The health of every gateway that is not well."""
    return {
        row.gateway_id: Health(row.failures, row.opened_at, row.probe_at, row.reason)
        for row in connection.execute(core_select(HEALTH))
    }


def save(connection: Connection, changed: Mapping[int, Health]) -> None:
    """Stores these; a gateway that is well has no row."""
    for gateway_id, health in changed.items():
        if health.opened_at is None:
            connection.execute(HEALTH.delete().where(HEALTH.c.gateway_id == gateway_id))
            continue
        values = {
            "failures": health.failures,
            "opened_at": health.opened_at,
            "probe_at": health.probe_at,
            "reason": health.reason[:500],
        }
        dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
        row = dialect.insert(HEALTH).values(gateway_id=gateway_id, **values)
        connection.execute(row.on_conflict_do_update(index_elements=["gateway_id"], set_=values))


def probe_now(connection: Connection, gateway_id: int, now: dt.datetime) -> bool:
    """Lets a gateway be tried at once; says whether it was taken to be unreachable."""
    return (
        connection.execute(update(HEALTH).where(HEALTH.c.gateway_id == gateway_id).values(probe_at=now)).rowcount == 1
    )


def forget(connection: Connection, gateway_id: int) -> None:
    """Takes a gateway to be well: its settings have changed."""
    connection.execute(HEALTH.delete().where(HEALTH.c.gateway_id == gateway_id))
