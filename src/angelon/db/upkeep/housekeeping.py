"""What is old goes away: bodies, contents, tries, traces and orders, each after its own time.

What is to go is looked for on a reading connection, by ranges of keys; only what was found is taken in a write, where
it is looked at once more. A round in which nothing is to go writes nothing.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Connection, Table, delete, exists, or_, update
from sqlalchemy import select as core_select

from angelon.core.specs.store import Keep
from angelon.core.states import State
from angelon.db import locks
from angelon.db.lists import not_by_index
from angelon.db.log.events import DELIVERY, EVENT, FOLLOWING, of_delivery
from angelon.db.log.sends import ARCHIVED, CONTENT, SEND
from angelon.db.tables import AttemptRow, RefusedRow, SourceRow, table_of
from angelon.db.upkeep import forgetting

ATTEMPT = table_of(AttemptRow)
REFUSED = table_of(RefusedRow)
SOURCE = table_of(SourceRow)
AT_ONCE = 500
"""Rows that one transaction takes: others write in between."""
LOOKED_AT = 5_000
"""Rows that are looked at together, on a reading connection."""
OPEN = (State.SCHEDULED, State.SENDING, State.RETRYING, State.HELD)


@dataclass(frozen=True, slots=True)
class Kind:
    """One kind of thing that is kept for so many days: its rows walk by a key, from one (`after`) on."""

    name: str
    days: Callable[[Keep], int]
    key: ColumnElement[Any]
    walk: Callable[[int, dt.datetime], Any]
    """The keys of all rows that are as old, whatever they hold: so that the walk is bounded."""
    goes: Callable[[dt.datetime], ColumnElement[bool]]
    """Which of them go."""
    take: Callable[[ColumnElement[bool]], Any]
    start: Any = ""


def _of_store(store_id: int) -> Any:
    return core_select(SOURCE.c.id).where(SOURCE.c.store_id == store_id)


def _body_goes(before: dt.datetime) -> ColumnElement[bool]:
    """Every event of the delivery is planned and waits for nothing, none is pinned as a sample, and no send of theirs
    is open.
    """
    first, after = of_delivery(DELIVERY.c.id), FOLLOWING.c.parent_id == EVENT.c.id
    needed = exists().where(first, _is_open(EVENT)) | exists().where(first, after, _is_open(FOLLOWING))
    return (DELIVERY.c.body != b"") & (DELIVERY.c.received_at < before) & ~needed


def _is_open(event: Any) -> ColumnElement[bool]:
    open_ = exists().where(SEND.c.event_id == event.c.id, SEND.c.state.in_(OPEN))
    return or_(forgetting.is_needed(event), open_)


def _sends(store_id: int, before: dt.datetime) -> Any:
    return core_select(SEND.c.id).where(
        not_by_index(SEND.c.store_id) == store_id, SEND.c.created_at < before, SEND.c.state.not_in(OPEN)
    )


def _tries(store_id: int, before: dt.datetime) -> Any:
    settled = (not_by_index(SEND.c.store_id) == store_id, SEND.c.state.not_in(OPEN))
    return (
        core_select(ATTEMPT.c.id)
        .join(SEND, SEND.c.id == ATTEMPT.c.send_id)
        .where(*settled, ATTEMPT.c.ended_at < before)
    )


def _what_was_sent(name: str, table: Table) -> Kind:
    """In the database, or by its key in the archive."""
    return Kind(
        name,
        lambda keep: keep.contents_days,
        SEND.c.id,
        _sends,
        lambda before: exists().where(table.c.send_id == SEND.c.id),
        lambda which: delete(table).where(table.c.send_id.in_(core_select(SEND.c.id).where(which))),
    )


KINDS = (
    Kind(
        "bodies",
        lambda keep: keep.bodies_days,
        DELIVERY.c.id,
        lambda store_id, before: core_select(DELIVERY.c.id).where(
            DELIVERY.c.source_id.in_(_of_store(store_id)), DELIVERY.c.received_at < before
        ),
        _body_goes,
        lambda which: update(DELIVERY).where(which).values(body=b"", headers=None),
    ),
    Kind(
        "refused",
        lambda keep: keep.bodies_days,
        REFUSED.c.id,
        lambda store_id, before: core_select(REFUSED.c.id).where(
            REFUSED.c.source_id.in_(_of_store(store_id)), REFUSED.c.at < before
        ),
        lambda before: REFUSED.c.at < before,
        lambda which: delete(REFUSED).where(which),
        0,
    ),
    _what_was_sent("contents", CONTENT),
    _what_was_sent("archived", ARCHIVED),
    Kind(
        "attempts",
        lambda keep: keep.attempts_days,
        ATTEMPT.c.id,
        _tries,
        lambda before: ATTEMPT.c.ended_at < before,
        lambda which: delete(ATTEMPT).where(which),
        0,
    ),
    Kind(
        "traces",
        lambda keep: keep.traces_days,
        SEND.c.id,
        _sends,
        lambda before: SEND.c.trace.is_not(None) & SEND.c.state.not_in(OPEN),
        lambda which: update(SEND).where(which).values(trace=None),
    ),
)


def find(connection: Connection, kind: Kind, store_id: int, before: dt.datetime, after: Any) -> tuple[list[Any], Any]:
    """The keys of rows that go, among the next LOOKED_AT after a key; and the key to go on from, None at the end."""
    walk = kind.walk(store_id, before).where(kind.key > after).order_by(kind.key).limit(LOOKED_AT)
    keys = list(connection.execute(walk).scalars())
    if not keys:
        return [], None
    table = kind.key.table
    among = core_select(kind.key).select_from(table).where(kind.key > after, kind.key <= keys[-1])
    gone = set(connection.execute(among.where(kind.goes(before))).scalars())
    return [key for key in keys if key in gone], keys[-1] if len(keys) == LOOKED_AT else None


def take(connection: Connection, kind: Kind, keys: Sequence[Any], before: dt.datetime) -> int:
    """Takes these, as far as they still go; says how many."""
    which = kind.key.in_(list(keys)) & kind.goes(before)
    return int(connection.execute(kind.take(which)).rowcount)


def any_orders(connection: Connection, store_id: int, before: dt.datetime) -> bool:
    """Whether an order, or what belongs to none, is as old."""
    return forgetting.any_left(connection, store_id, before)


def take_orders(connection: Connection, store_id: int, before: dt.datetime) -> dict[str, int]:
    """Takes a part of the orders about which nothing has come since; says how much of each. Called until none is
    left.
    """
    locks.hold(connection, locks.of_store(store_id))
    done = {"orders": forgetting.orders(connection, store_id, before)}
    if not done["orders"]:
        done["without an order"] = forgetting.without_order(connection, store_id, before)
    return done
