"""How the engine runs, as numbers: asked for by a monitoring system every few seconds, so nothing here looks at all
that was ever stored.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

from sqlalchemy import Connection, case, func, literal_column, text
from sqlalchemy import select as core_select
from sqlmodel import Session, col, select

from angelon.db.log.events import EVENT
from angelon.db.log.inquiries import INQUIRY, OF_HANDLERS
from angelon.db.log.sends import GATEWAY, SEND
from angelon.db.tables import (
    PROBLEM,
    STUCK,
    TO_PLAN,
    WAITING,
    AttemptRow,
    GatewayHealthRow,
    GatewayRow,
    HeartbeatRow,
    SendRow,
    StoreRow,
    table_of,
)

STORE = table_of(StoreRow)
ATTEMPT = table_of(AttemptRow)


def waiting_events(session: Session) -> tuple[int, dt.datetime | None]:
    """How many events wait to be planned, and since when the oldest does."""
    row = session.connection().execute(core_select(func.count(), func.min(EVENT.c.received_at)).where(text(TO_PLAN)))
    number, oldest = row.one()
    return int(number), oldest


def problem_events(session: Session) -> int:
    """How many events could not be planned."""
    found = session.connection().execute(core_select(func.count()).select_from(EVENT).where(text(PROBLEM)))
    return int(found.scalar_one())


Gateway = tuple[str, str]
"""The store's key and its own: two stores may have one of the same name."""
NONE = ("", "")


def _gateways(connection: Connection) -> dict[int, Gateway]:
    named = core_select(GATEWAY.c.id, STORE.c.key, GATEWAY.c.key).join(STORE, STORE.c.id == GATEWAY.c.store_id)
    return {id_: (store, key) for id_, store, key in connection.execute(named)}


def open_sends(session: Session) -> list[tuple[Gateway, str, int]]:
    """(gateway, state, how many) of sends that are not settled, or need a person."""
    connection = session.connection()
    keys = _gateways(connection)
    found = []
    for where, index in ((WAITING, "ix_send_waiting"), (STUCK, "ix_send_stuck")):  # each by its own index
        by = f"INDEXED BY {index}" if connection.dialect.name == "sqlite" else ""  # SQLite reads all sends otherwise
        counted = f"SELECT gateway_id, state, count(*) FROM send {by} WHERE {where} GROUP BY 1, 2"  # noqa: S608
        rows = connection.exec_driver_sql(counted)
        found += [(keys.get(gateway_id, NONE), state, number) for gateway_id, state, number in rows]
    return found


def oldest_due(session: Session, now: dt.datetime) -> dt.datetime | None:
    """When the send was due that waits longest to be tried."""
    due = core_select(func.min(SEND.c.due_at)).where(text(WAITING), SEND.c.due_at <= now)
    return session.connection().execute(due).scalar()


LAST = 20_000
"""The newest tries that are looked at, at most."""


def tries(session: Session, since: dt.datetime) -> Sequence[tuple[Gateway, str, float]]:
    """(gateway, outcome, seconds) of every try that ended since a moment, the newest {LAST}."""
    newest = session.exec(select(func.max(AttemptRow.id))).one() or 0
    statement = (
        select(SendRow.gateway_id, AttemptRow.outcome, AttemptRow.began_at, AttemptRow.ended_at)
        .join(SendRow, col(SendRow.id) == col(AttemptRow.send_id))
        .where(col(AttemptRow.id) > newest - LAST, AttemptRow.ended_at >= since)
    )
    keys = _gateways(session.connection())
    return [
        (keys[id_], outcome, (end - begin).total_seconds())
        for id_, outcome, begin, end in session.exec(statement)
        if id_ in keys
    ]


def workers(session: Session) -> list[tuple[str, dt.datetime]]:
    """(role, newest sign of life) of workers."""
    return [
        (role, at)
        for role, at in session.exec(
            select(HeartbeatRow.role, func.max(HeartbeatRow.at)).group_by(col(HeartbeatRow.role))
        )
    ]


def unreachable(session: Session) -> list[tuple[Gateway, bool]]:
    """(gateway, whether it is taken to be unreachable) of every gateway."""
    keys = _gateways(session.connection())
    statement = select(GatewayRow.id, GatewayHealthRow.opened_at).outerjoin(
        GatewayHealthRow, col(GatewayHealthRow.gateway_id) == col(GatewayRow.id)
    )
    return [
        (keys[id_ or 0], opened is not None)
        for id_, opened in session.exec(statement.where(col(GatewayRow.gone_at).is_(None)))
    ]


def handler_calls(session: Session, since: dt.datetime) -> list[tuple[str, bool, int, int]]:
    """(handler, whether it failed, calls, milliseconds in all) since a moment."""
    failed_ = case((INQUIRY.c.problem != "", 1), else_=0).label("failed")
    statement = (
        core_select(INQUIRY.c.name, failed_, func.count(), func.sum(INQUIRY.c.took_ms))
        .where(*OF_HANDLERS, INQUIRY.c.at >= since)
        .group_by(INQUIRY.c.name, literal_column("failed"))
    )
    return [
        (name, bool(failed), number, int(took or 0))
        for name, failed, number, took in session.connection().execute(statement)
    ]
