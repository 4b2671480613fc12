"""Receipts that came before the send that they are about was stored as sent: kept until it is."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection
from typing import Any

from sqlalchemy import Connection, exists, func, insert
from sqlalchemy import select as core_select

from angelon.db.log.sends import SEND
from angelon.db.tables import EarlyReceiptRow, table_of

EARLY = table_of(EarlyReceiptRow)
MOST = 10_000
"""How many are kept for one gateway."""


def keep(connection: Connection, gateway_id: int, reference: str, body: Any, at: dt.datetime) -> bool:
    """Keeps one; says whether there was room."""
    if (
        connection.execute(
            core_select(func.count()).select_from(EARLY).where(EARLY.c.gateway_id == gateway_id)
        ).scalar()
        or 0
    ) >= MOST:
        return False
    connection.execute(insert(EARLY).values(gateway_id=gateway_id, reference=reference, body=body, at=at))
    return True


def any_for(connection: Connection, pairs: Collection[tuple[int, str]]) -> list[Any]:
    """Those that are about sends with these (gateway id, reference), in the order in which they came."""
    gateways, references = {gateway for gateway, _ in pairs}, {reference for _, reference in pairs}
    if not pairs or connection.execute(core_select(EARLY.c.id).limit(1)).first() is None:
        return []
    rows = connection.execute(
        core_select(EARLY)
        .where(EARLY.c.gateway_id.in_(gateways), EARLY.c.reference.in_(references))
        .order_by(EARLY.c.id)
    )
    return [row for row in rows if (row.gateway_id, row.reference) in set(pairs)]


def matched(connection: Connection, limit: int = 200) -> list[Any]:
    """Those whose send is there by now, in the order in which they came: others' are passed over, however many."""
    there = exists().where(SEND.c.gateway_id == EARLY.c.gateway_id, SEND.c.reference == EARLY.c.reference)
    return list(connection.execute(core_select(EARLY).where(there).order_by(EARLY.c.id).limit(limit)))


def drop(connection: Connection, id_: int) -> None:
    connection.execute(EARLY.delete().where(EARLY.c.id == id_))


def any_before(connection: Connection, at: dt.datetime) -> bool:
    """Whether some have waited since before a moment."""
    return connection.execute(core_select(EARLY.c.id).where(EARLY.c.at < at).limit(1)).first() is not None


def drop_before(connection: Connection, at: dt.datetime) -> int:
    """Drops those that nothing was ever sent for."""
    return connection.execute(EARLY.delete().where(EARLY.c.at < at)).rowcount
