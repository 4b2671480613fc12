"""What is old goes away: bodies, contents, tries, traces and orders, each after its own time."""

from __future__ import annotations

import datetime as dt

from sqlalchemy import Connection, Table, delete, update
from sqlalchemy import select as core_select

from angelon.core.specs.store import Keep
from angelon.core.states import State
from angelon.db import forgetting, locks
from angelon.db.events import DELIVERY, EVENT
from angelon.db.sends import CONTENT, SEND
from angelon.db.tables import AttemptRow, RefusedRow, SourceRow

ATTEMPT: Table = AttemptRow.__table__  # type: ignore[attr-defined]
REFUSED: Table = RefusedRow.__table__  # type: ignore[attr-defined]
SOURCE: Table = SourceRow.__table__  # type: ignore[attr-defined]
AT_ONCE = 500
"""Rows that one transaction takes: others write in between."""
OPEN = (State.SCHEDULED, State.SENDING, State.RETRYING, State.HELD)


def sweep(connection: Connection, store_id: int, keep: Keep, now: dt.datetime) -> dict[str, int]:
    """Takes a part of what is older than a store keeps it; says how much of each. Called until nothing is left."""
    done = {}
    if keep.orders_days:  # first, and alone: what goes with them needs not go before them
        before = now - dt.timedelta(days=keep.orders_days)
        locks.hold(connection, locks.of_store(store_id))
        done["orders"] = forgetting.orders(connection, store_id, before)
        if done["orders"]:
            return done
        done["without an order"] = forgetting.without_order(connection, store_id, before)
    if keep.bodies_days:
        done["bodies"] = _bodies(connection, store_id, now - dt.timedelta(days=keep.bodies_days))
    settled = (SEND.c.store_id == store_id, SEND.c.state.not_in(OPEN))
    if keep.contents_days:
        before = now - dt.timedelta(days=keep.contents_days)
        old = (
            core_select(CONTENT.c.send_id)
            .join(SEND, SEND.c.id == CONTENT.c.send_id)
            .where(*settled, SEND.c.created_at < before)
            .limit(AT_ONCE)
        )
        done["contents"] = connection.execute(delete(CONTENT).where(CONTENT.c.send_id.in_(old))).rowcount
    if keep.attempts_days:
        before = now - dt.timedelta(days=keep.attempts_days)
        tries = (
            core_select(ATTEMPT.c.id)
            .join(SEND, SEND.c.id == ATTEMPT.c.send_id)
            .where(*settled, ATTEMPT.c.ended_at < before)
            .limit(AT_ONCE)
        )
        done["attempts"] = connection.execute(delete(ATTEMPT).where(ATTEMPT.c.id.in_(tries))).rowcount
    if keep.traces_days:
        before = now - dt.timedelta(days=keep.traces_days)
        traced = core_select(SEND.c.id).where(*settled, SEND.c.created_at < before, SEND.c.trace.is_not(None))
        done["traces"] = connection.execute(
            update(SEND).where(SEND.c.id.in_(traced.limit(AT_ONCE))).values(trace=None)
        ).rowcount
    return done


def _bodies(connection: Connection, store_id: int, before: dt.datetime) -> int:
    """Bodies of deliveries of which every event is planned and none is pinned as a sample; what waits keeps its own."""
    of_store = core_select(SOURCE.c.id).where(SOURCE.c.store_id == store_id)
    needed = core_select(EVENT.c.delivery_id).where(
        EVENT.c.source_id.in_(of_store),
        EVENT.c.received_at < before,
        EVENT.c.pinned
        | EVENT.c.planned_at.is_(None)
        | EVENT.c.id.in_(core_select(SEND.c.event_id).where(SEND.c.store_id == store_id, SEND.c.state.in_(OPEN))),
    )
    old = (
        core_select(DELIVERY.c.id)
        .where(
            DELIVERY.c.source_id.in_(of_store),
            DELIVERY.c.received_at < before,
            DELIVERY.c.body != b"",
            DELIVERY.c.id.not_in(needed),
        )
        .limit(AT_ONCE)
    )
    gone = connection.execute(update(DELIVERY).where(DELIVERY.c.id.in_(old)).values(body=b"", headers=None)).rowcount
    refused = core_select(REFUSED.c.id).where(REFUSED.c.source_id.in_(of_store), REFUSED.c.at < before).limit(AT_ONCE)
    return int(gone) + int(connection.execute(delete(REFUSED).where(REFUSED.c.id.in_(refused))).rowcount)
