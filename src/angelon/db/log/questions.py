"""Questions to customers: asked with the send that asks, closed once, listed and counted."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterable, Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import Connection, bindparam, case, func, text, update
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite
from sqlmodel import Session

from angelon.core.questions import Asked, QuestionState
from angelon.db.lists import not_by_index, older_than
from angelon.db.records import NewSend
from angelon.db.rows import QuestionOfOrder, QuestionRecord, row_of, rows_of
from angelon.db.tables import OPEN, ContactRow, MessageRow, OrderRow, QuestionRow, table_of

QUESTION = table_of(QuestionRow)
ORDER = table_of(OrderRow)
CONTACT = table_of(ContactRow)
MESSAGE = table_of(MessageRow)
LONGEST = dt.timedelta(days=7)
_TOLD = (QuestionState.OPEN.value, QuestionState.EXPIRED.value)
LOOK_AFTER = dt.timedelta(seconds=30)
"""How long after it is due a send that asks is looked at for the first time."""
_OPEN = text(f"question.{OPEN}")
OUTCOME = case((QUESTION.c.state == QuestionState.ANSWERED, QUESTION.c.answer), else_=QUESTION.c.state).label("outcome")
"""An answer's key, or a state."""


def ask(connection: Connection, sends: Sequence[NewSend]) -> list[NewSend]:
    """Opens the questions that new sends ask, or finds them where they are open already; gives the sends with them."""
    keys = {(send.order_id, send.message_id) for send in sends if send.asks is not None}
    if not keys:
        return list(sends)
    there = _standing(connection, keys)
    new: dict[_About, dict[str, Any]] = {}
    for send in sends:
        key = (send.order_id, send.message_id)
        if send.asks is not None and key not in there and key not in new:
            new[key] = _row(send)
    if new:
        dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
        connection.execute(dialect.insert(QUESTION).on_conflict_do_nothing(), list(new.values()))
        there |= _standing(connection, new.keys())
    for send in sends:
        known = there.get((send.order_id, send.message_id)) if send.asks is not None else None
        if send.asks is not None and known is not None and known != _id(send):
            changed: dict[str, Any] = {"look_at": send.due_at + LOOK_AFTER} if send.asks.anew else {}
            changed |= {"ends_at": None, "opened_at": None, "delivered": False} if send.asks.anew else {}
            changed |= {"reply_key": send.asks.reply_key} if send.asks.reply_key else {}
            if changed:
                connection.execute(update(QUESTION).where(QUESTION.c.id == known, _OPEN).values(**changed))
    return [
        replace(send, question_id=there.get((send.order_id, send.message_id))) if send.asks is not None else send
        for send in sends
    ]


_About = tuple[int | None, int | None]
"""An order and a message."""


def _id(send: NewSend) -> str:
    """A question is called as the first send that asks it."""
    return f"qn-{send.id.partition('-')[2]}"


def _row(send: NewSend) -> dict[str, Any]:
    assert send.asks is not None
    return {
        "id": _id(send),
        "store_id": send.store_id,
        "order_id": send.order_id,
        "message_id": send.message_id,
        "event_id": send.event_id,
        "asked_at": send.created_at,
        "open_hours": send.asks.open_hours,
        "look_at": send.due_at + LOOK_AFTER,
        "state": QuestionState.OPEN.value,
        "reply_key": send.asks.reply_key,
    }


def _standing(connection: Connection, keys: Iterable[_About]) -> dict[_About, str]:
    """The open questions of these orders and messages, by both."""
    keys = set(keys)
    columns = (QUESTION.c.id, QUESTION.c.order_id, QUESTION.c.message_id)
    rows = connection.execute(core_select(*columns).where(_OPEN, QUESTION.c.order_id.in_({order for order, _ in keys})))
    return {(row.order_id, row.message_id): row.id for row in rows if (row.order_id, row.message_id) in keys}


def close(connection: Connection, question_id: str, state: QuestionState, now: dt.datetime, **values: Any) -> bool:
    """Gives an open question its outcome; says whether it did. An answer has to come in time."""
    where = [QUESTION.c.id == question_id, QUESTION.c.state == QuestionState.OPEN.value]
    if state is QuestionState.ANSWERED:
        where.append(QUESTION.c.ends_at.is_(None) | (QUESTION.c.ends_at > now))
    done = connection.execute(update(QUESTION).where(*where).values(state=state.value, closed_at=now, **values))
    return done.rowcount == 1


def change(connection: Connection, question_id: str, **values: Any) -> None:
    """Notes something of a question that is no outcome."""
    connection.execute(update(QUESTION).where(QUESTION.c.id == question_id).values(**values))


def delivered(connection: Connection, question_id: str, at: dt.datetime) -> None:
    """A send that asks was delivered: the time for an answer begins, unless another was delivered before."""
    row = by_id(connection, question_id)
    if row is not None and row.state == QuestionState.OPEN and not row.delivered:
        ends_at = at + dt.timedelta(hours=row.open_hours)
        change(connection, question_id, opened_at=at, delivered=True, ends_at=ends_at, look_at=ends_at)


def withdraw(
    connection: Connection, order_id: int, message_ids: Collection[int], why: str, now: dt.datetime
) -> list[int]:
    """Withdraws an order's open questions of these messages; gives the messages' ids."""
    done = connection.execute(
        update(QUESTION)
        .where(_OPEN, QUESTION.c.order_id == order_id, QUESTION.c.message_id.in_(list(message_ids)))
        .values(state=QuestionState.WITHDRAWN.value, closed_at=now, why=why)
        .returning(QUESTION.c.message_id)
    )
    return [int(id_) for id_ in done.scalars()]


def due(connection: Connection, now: dt.datetime, limit: int, store_id: int | None = None) -> list[QuestionRecord]:
    """Open questions for which it is time to look, the oldest first; with a store those of it, to be dealt with now."""
    statement = core_select(QUESTION).where(_OPEN, QUESTION.c.look_at <= now).order_by(QUESTION.c.look_at).limit(limit)
    if store_id is not None:
        statement = statement.where(not_by_index(QUESTION.c.store_id) == store_id)
        if connection.dialect.name == "postgresql":
            statement = statement.with_for_update(skip_locked=True)
    return rows_of(QuestionRecord, connection.execute(statement))


def all_open(connection: Connection) -> list[QuestionRecord]:
    return rows_of(QuestionRecord, connection.execute(core_select(QUESTION).where(_OPEN)))


def by_id(connection: Connection, question_id: str) -> QuestionRecord | None:
    return row_of(QuestionRecord, connection.execute(core_select(QUESTION).where(QUESTION.c.id == question_id)))


def by_ids(connection: Connection, ids: Collection[str]) -> dict[str, QuestionRecord]:
    if not ids:
        return {}
    mine = core_select(QUESTION).where(QUESTION.c.id.in_(list(ids)))
    return {row.id: row for row in rows_of(QuestionRecord, connection.execute(mine))}


def newest(connection: Connection, order_id: int, message_id: int) -> QuestionRecord | None:
    """The newest question of a message about an order: the one that counts."""
    same = (QUESTION.c.order_id == order_id, QUESTION.c.message_id == message_id)
    return row_of(
        QuestionRecord,
        connection.execute(core_select(QUESTION).where(*same).order_by(QUESTION.c.asked_at.desc()).limit(1)),
    )


def asked_at(connection: Connection, store_id: int, reply_key: str, since: dt.datetime) -> list[QuestionOfOrder]:
    """The questions that a reply of an address may answer, asked since a moment, with their orders' numbers, newest
    first.
    """
    mine = (QUESTION.c.store_id == store_id, QUESTION.c.reply_key == reply_key, QUESTION.c.asked_at >= since)
    statement = core_select(QUESTION, ORDER.c.number).join(ORDER, ORDER.c.id == QUESTION.c.order_id)
    return rows_of(
        QuestionOfOrder, connection.execute(statement.where(*mine).order_by(QUESTION.c.asked_at.desc()).limit(50))
    )


_OF_ORDERS = (
    core_select(QUESTION, OUTCOME)
    .where(QUESTION.c.order_id.in_(bindparam("b_orders", expanding=True)))
    .order_by(QUESTION.c.asked_at)
)


def of_orders(connection: Connection, order_ids: Collection[int]) -> dict[int, list[QuestionOfOrder]]:
    """The questions of orders, oldest first, by order."""
    found: dict[int, list[QuestionOfOrder]] = {}
    if order_ids:
        for row in rows_of(QuestionOfOrder, connection.execute(_OF_ORDERS, {"b_orders": list(order_ids)})):
            found.setdefault(row.order_id, []).append(row)
    return found


def as_asked(row: QuestionRecord, message: str) -> Asked:
    """A row as conditions and guards look at it."""
    outcome = row.answer if row.state == QuestionState.ANSWERED else row.state
    return Asked(message, row.asked_at, outcome, row.closed_at)


def counts(connection: Connection, store_id: int, message_id: int, since: dt.datetime) -> dict[str, int]:
    """How many questions asked since a moment have come to each outcome."""
    mine = (QUESTION.c.store_id == store_id, QUESTION.c.message_id == message_id, QUESTION.c.asked_at >= since)
    statement = core_select(OUTCOME, func.count()).where(*mine).group_by(OUTCOME)
    return {str(outcome): int(number) for outcome, number in connection.execute(statement)}


def attention(connection: Connection, store_id: int, since: dt.datetime) -> list[tuple[int, int, int]]:
    """(message id, open with a reply that is no answer, ended without an answer since a moment), where there is any."""
    strange = func.sum(case(((QUESTION.c.state == QuestionState.OPEN) & (QUESTION.c.unmatched != ""), 1), else_=0))
    silent = func.sum(case((QUESTION.c.state == QuestionState.EXPIRED, 1), else_=0))
    messages = core_select(MESSAGE.c.id).where(MESSAGE.c.store_id == store_id)  # as the index goes on
    of_store = (QUESTION.c.store_id == store_id, QUESTION.c.message_id.in_(messages))
    # asked earlier than that, and open for long
    mine = (*of_store, QUESTION.c.asked_at >= since - LONGEST, QUESTION.c.state.in_(_TOLD))
    recent = QUESTION.c.closed_at.is_(None) | (QUESTION.c.closed_at >= since)
    statement = core_select(QUESTION.c.message_id, strange, silent).where(*mine, recent)
    rows = connection.execute(statement.group_by(QUESTION.c.message_id))
    return [(int(id_), int(odd or 0), int(none or 0)) for id_, odd, none in rows if odd or none]


def listed(
    session: Session,
    store_id: int,
    message_id: int,
    outcome: str = "",
    since: dt.datetime | None = None,
    before: tuple[dt.datetime, str] | None = None,
    limit: int = 50,
) -> list[QuestionOfOrder]:
    """Questions of a message with number and customer of their orders, newest first; of one outcome, where given."""
    statement = (
        core_select(QUESTION, OUTCOME, ORDER.c.number, CONTACT.c.name)
        .join(ORDER, ORDER.c.id == QUESTION.c.order_id)
        .outerjoin(CONTACT, CONTACT.c.id == ORDER.c.contact_id)
        .where(QUESTION.c.store_id == store_id, QUESTION.c.message_id == message_id)
    )
    if outcome:
        statement = statement.where(OUTCOME.in_([outcome]))
    if since is not None:
        statement = statement.where(QUESTION.c.asked_at >= since)
    if before is not None:
        statement = statement.where(older_than(QUESTION.c.asked_at, QUESTION.c.id, before))
    ordered = statement.order_by(QUESTION.c.asked_at.desc(), QUESTION.c.id.desc()).limit(limit)
    return rows_of(QuestionOfOrder, session.connection().execute(ordered))


def take_to(connection: Connection, other_id: int, order_id: int, now: dt.datetime) -> None:
    """Has the questions of an order be another's, with which it was joined; one that is open for both is asked once."""
    mine = core_select(QUESTION.c.message_id).where(_OPEN, QUESTION.c.order_id == order_id)
    twice = update(QUESTION).where(_OPEN, QUESTION.c.order_id == other_id, QUESTION.c.message_id.in_(mine))
    withdrawn = {"state": QuestionState.WITHDRAWN.value, "closed_at": now, "why": "The order was joined with another."}
    connection.execute(twice.values(**withdrawn))
    connection.execute(update(QUESTION).where(QUESTION.c.order_id == other_id).values(order_id=order_id))
