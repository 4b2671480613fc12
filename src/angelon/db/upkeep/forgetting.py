"""Orders that a store keeps no longer go away whole: with their deliveries, events, sends and figures, and with the
customers who have no other. What is suppressed and who consented stays, and so does that something was done by hand.

What waits, what is in hand and what is pinned as a sample keeps its order. Whoever calls this decides for the store
(`locks.of_store`), so that no event of such an order is being planned.
"""

from __future__ import annotations

import datetime as dt
import itertools
from collections.abc import Collection, Sequence
from typing import Any

from sqlalchemy import ColumnElement, Connection, Table, bindparam, delete, exists, func, or_, text, update
from sqlalchemy import select as core_select

from angelon.core.states import State
from angelon.db.log import documents, parcels
from angelon.db.log.downloads import DOWNLOAD
from angelon.db.log.events import DELIVERY, EVENT, FOLLOWING, of_delivery
from angelon.db.log.inquiries import INQUIRY
from angelon.db.log.orders import ALIAS, CONTACT, ORDER
from angelon.db.log.questions import QUESTION
from angelon.db.log.sends import ARCHIVED, CONTENT, SEND
from angelon.db.people.personal import ATTEMPT, CHANGE, RUN
from angelon.db.tables import OPEN as QUESTION_OPEN
from angelon.db.tables import ContactTagRow, ContactValueRow, SourceRow, table_of

TAG = table_of(ContactTagRow)
VALUE = table_of(ContactValueRow)
SOURCE = table_of(SourceRow)
OPEN = (State.SCHEDULED, State.SENDING, State.RETRYING, State.HELD)
AT_ONCE = 10
"""Orders that one transaction takes, a few milliseconds each: others write in between."""
SINGLE = 200
"""Events, or sends, without an order that one transaction takes."""
MOST_EVENTS = 500
"""Events of orders that one transaction takes."""
MOST_COUNTED = 10_000
"""Orders that are counted, where it is asked how many would go."""
GONE = "It is kept no longer."
_ONE_EVENT = delete(EVENT).where(EVENT.c.id == bindparam("b_id"))


def orders(connection: Connection, store_id: int, before: dt.datetime) -> int:
    """Takes a part of the orders about which nothing has come and nothing was sent since a moment (aware); says how
    many, one of which a part is left counted too. Called until none is left.
    """
    old = core_select(ORDER.c.id, ORDER.c.contact_id).where(*_are_old(store_id, before))
    found = connection.execute(old.order_by(ORDER.c.last_event_at).limit(AT_ONCE)).all()
    if not found:
        return 0
    numbers = core_select(EVENT.c.order_id, func.count()).where(EVENT.c.order_id.in_([row.id for row in found]))
    events = {id_: number for id_, number in connection.execute(numbers.group_by(EVENT.c.order_id))}
    if events.get(found[0].id, 0) > MOST_EVENTS:  # of such an order a part goes at a time, and it last
        of_first = (EVENT.c.order_id == found[0].id, EVENT.c.parent_id.is_(None))
        oldest = core_select(EVENT.c.id).where(*of_first).order_by(EVENT.c.received_at).limit(MOST_EVENTS)
        if roots := list(connection.execute(oldest).scalars()):
            _events(connection, EVENT.c.id.in_(roots))
            return 1
    reckoned = itertools.accumulate(events.get(row.id, 0) for row in found)
    taken = [row for row, number in zip(found, reckoned, strict=True) if number <= MOST_EVENTS] or [found[0]]
    ids = [row.id for row in taken]
    _events(connection, EVENT.c.order_id.in_(ids), SEND.c.order_id.in_(ids))
    _delete(connection, ALIAS, ALIAS.c.order_id, ids)
    _delete(connection, QUESTION, QUESTION.c.order_id, ids)
    parcels.forget(connection, ids)
    documents.forget_orders(connection, ids)
    connection.execute(delete(ORDER).where(ORDER.c.id.in_(ids)))
    _blank_changes(connection, store_id, "order", ids)
    _customers(connection, store_id, {row.contact_id for row in taken if row.contact_id is not None})
    return len(ids)


def any_left(connection: Connection, store_id: int, before: dt.datetime) -> bool:
    """Whether `orders` or `without_order` would take anything."""
    order = core_select(ORDER.c.id).where(*_are_old(store_id, before)).limit(1)
    event = core_select(EVENT.c.id).where(*_alone(store_id, before)).limit(1)
    test = core_select(SEND.c.id).where(*_tests(store_id, before)).limit(1)
    run = core_select(RUN.c.id).where(*_unused_runs(store_id, before)).limit(1)
    return any(connection.execute(one).first() is not None for one in (order, event, test, run))


def would_go(connection: Connection, store_id: int, before: dt.datetime) -> int:
    """How many orders `orders` would take, were it called until none is left; counted up to MOST_COUNTED."""
    old = core_select(ORDER.c.id).where(*_are_old(store_id, before)).limit(MOST_COUNTED).subquery()
    return int(connection.execute(core_select(func.count()).select_from(old)).scalar_one())


def _are_old(store_id: int, before: dt.datetime) -> tuple[ColumnElement[bool], ...]:
    """The orders about which nothing has come and nothing was sent since a moment, and that nothing needs."""
    of_order, by_event = SEND.c.order_id == ORDER.c.id, EVENT.c.order_id == ORDER.c.id
    needed = or_(
        exists().where(of_order, or_(SEND.c.state.in_(OPEN), SEND.c.created_at >= before)),
        exists().where(by_event, SEND.c.event_id == EVENT.c.id, SEND.c.state.in_(OPEN)),
        exists().where(by_event, is_needed()),
        exists().where(QUESTION.c.order_id == ORDER.c.id, text(f"question.{QUESTION_OPEN}")),
    )
    return ORDER.c.store_id == store_id, ORDER.c.last_event_at < before, ~needed


def without_order(connection: Connection, store_id: int, before: dt.datetime) -> int:
    """Takes a part of the events that belong to no order and of the sends that come of no event, such as tests, and
    the runs by hand of which nothing is left; says how many. Quick once no order is left that is as old.
    """
    old = core_select(EVENT.c.id).where(*_alone(store_id, before)).limit(SINGLE)
    events = list(connection.execute(old).scalars())
    tests = core_select(SEND.c.id).where(*_tests(store_id, before)).limit(SINGLE)
    sends = list(connection.execute(tests).scalars())
    if events or sends:
        _events(connection, EVENT.c.id.in_(events), SEND.c.id.in_(sends))
    runs = delete(RUN).where(*_unused_runs(store_id, before))
    return len(events) + len(sends) + int(connection.execute(runs).rowcount)


def _alone(store_id: int, before: dt.datetime) -> tuple[ColumnElement[bool], ...]:
    """The events that belong to no order and that nothing needs."""
    waits = exists().where(SEND.c.event_id == EVENT.c.id, or_(SEND.c.state.in_(OPEN), SEND.c.created_at >= before))
    of_store = core_select(SOURCE.c.id).where(SOURCE.c.store_id == store_id)
    old = (EVENT.c.source_id.in_(of_store), EVENT.c.received_at < before, EVENT.c.order_id.is_(None))
    return *old, ~is_needed(), ~waits, ~exists().where(FOLLOWING.c.parent_id == EVENT.c.id, is_needed(FOLLOWING))


def _tests(store_id: int, before: dt.datetime) -> tuple[ColumnElement[bool], ...]:
    """The sends that come of no event."""
    alone = (SEND.c.store_id == store_id, SEND.c.event_id.is_(None), SEND.c.order_id.is_(None))
    return *alone, SEND.c.created_at < before, SEND.c.state.not_in(OPEN)


def _unused_runs(store_id: int, before: dt.datetime) -> tuple[ColumnElement[bool], ...]:
    used = exists().where(SEND.c.run_id == RUN.c.id)
    return RUN.c.store_id == store_id, RUN.c.started_at < before, ~used


def is_needed(event: Any = EVENT) -> ColumnElement[bool]:
    """Whether an event is a sample, is still to be planned, or waits for something."""
    return or_(event.c.pinned, event.c.planned_at.is_(None), event.c.waits_for != "")


def _events(connection: Connection, which: ColumnElement[bool], and_sends: ColumnElement[bool] | None = None) -> None:
    """Takes events, and what follows from them, with their deliveries and all that was sent because of them."""
    columns = (EVENT.c.id, EVENT.c.delivery_id, EVENT.c.parent_id)
    found = {row.id: row for row in connection.execute(core_select(*columns).where(which))}
    found |= {row.id: row for row in _those(connection, columns, EVENT.c.parent_id, list(found))}
    rows, ids = list(found.values()), list(found)
    sends = {row.id for row in _those(connection, (SEND.c.id,), SEND.c.event_id, ids)}
    if and_sends is not None:
        sends |= set(connection.execute(core_select(SEND.c.id).where(and_sends)).scalars())
    for table, column, of in (
        (ATTEMPT, ATTEMPT.c.send_id, sends),
        (CONTENT, CONTENT.c.send_id, sends),
        (ARCHIVED, ARCHIVED.c.send_id, sends),
        (DOWNLOAD, DOWNLOAD.c.send_id, sends),
        (SEND, SEND.c.id, sends),
        (INQUIRY, INQUIRY.c.event_id, ids),
    ):
        _delete(connection, table, column, list(of))
    if rows:  # one by one, what follows first: a database that counts looks at what else there is of the order
        rows.sort(key=lambda row: row.parent_id is None)
        connection.execute(_ONE_EVENT, [{"b_id": row.id} for row in rows])
    unread = ~exists().where(of_delivery(DELIVERY.c.id))
    _delete(connection, DELIVERY, DELIVERY.c.id, list({row.delivery_id for row in rows}), unread)


def _those(connection: Connection, columns: Sequence[Any], column: Any, of: Sequence[Any]) -> list[Any]:
    """These columns of the rows that have one of these values."""
    parts = (of[start : start + 500] for start in range(0, len(of), 500))
    return [row for part in parts for row in connection.execute(core_select(*columns).where(column.in_(part)))]


def _delete(connection: Connection, table: Table, column: Any, of: Sequence[Any], *where: ColumnElement[bool]) -> None:
    for start in range(0, len(of), 500):
        connection.execute(delete(table).where(column.in_(of[start : start + 500]), *where))


def _blank_changes(connection: Connection, store_id: int, kind: str, ids: Collection[int]) -> None:
    """That somebody did something stays; what it was does not."""
    keys = [str(id_) for id_ in ids]
    notes = (CHANGE.c.store_id == store_id, CHANGE.c.kind == kind, CHANGE.c.key.in_(keys))
    connection.execute(update(CHANGE).where(*notes).values(before=None, after={"text": GONE}))


def _customers(connection: Connection, store_id: int, ids: Collection[int]) -> None:
    """Customers who have no order left."""
    others = exists().where(ORDER.c.contact_id == CONTACT.c.id)
    gone = list(connection.execute(core_select(CONTACT.c.id).where(CONTACT.c.id.in_(ids), ~others)).scalars())
    _blank_changes(connection, store_id, "person", gone)
    _delete(connection, TAG, TAG.c.contact_id, gone)
    _delete(connection, VALUE, VALUE.c.contact_id, gone)
    _delete(connection, CONTACT, CONTACT.c.id, gone)
