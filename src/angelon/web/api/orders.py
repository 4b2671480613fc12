"""Orders, with their customers, events and sends."""

from __future__ import annotations

from typing import Any

from angelon.client import models
from angelon.core.problems import NotFound
from angelon.db.log import orders, questions, sends
from angelon.engine.operations import questions as operations
from angelon.web.api.events import event_of
from angelon.web.api.operation import cursor_of, operation, read_cursor
from angelon.web.api.parcels import parcels_of
from angelon.web.api.sends import send_of
from angelon.web.services import live, services, session, store_id, work


@operation("GET", "/orders", "orders.read", "List orders", models.Orders, query=models.ListQuery)
def list_orders(query: models.ListQuery) -> models.Orders:
    """Those that were touched last first; `words` looks in number, reference, name, email and phone; of the newest
    1,000 that have them."""
    after = read_cursor(query.cursor)
    begin = (after[0], int(after[1])) if after is not None and isinstance(after[1], int) else None
    rows = orders.listed(session(), store_id(), query.words, query.limit + 1, begin)
    shown = rows[: query.limit]
    last = shown[-1][0] if len(rows) > query.limit else None
    return models.Orders(
        items=[order_of(order, contact) for order, contact, _ in shown],
        next=cursor_of(last.last_event_at, last.id or 0) if last is not None else None,
    )


@operation("GET", "/orders/{number}", "orders.read", "Read an order", models.OrderDetails, refusals=(404,))
def readorder_of(number: int) -> models.OrderDetails:
    """By its id here: an order with its customer, its events and its sends."""
    row = orders.get(session(), store_id(), number)
    if row is None:
        raise NotFound("There is no such order.")
    made = sends.listed(session(), store_id(), sends.Filter(order_id=number), 200)
    return models.OrderDetails(
        **order_of(row, orders.customer_of(session(), row)).model_dump(exclude={"person"}),
        person=person_of(orders.customer_of(session(), row)),
        events=[event_of(event) for event in orders.events_of(session(), number, 200)],
        sends=[send_of(one) for one in made],
        parcels=parcels_of(number, row.number or ""),
        questions=[question_of(one) for one in questions.of_orders(session().connection(), [number]).get(number, [])],
    )


@operation(
    "POST",
    "/questions/{id}/answer",
    "sends.write",
    "Note an answer",
    models.Question,
    body=models.NoteAnswer,
    refusals=(404, 422),
)
def note_answer(id: str, body: models.NoteAnswer) -> models.Question:
    """Takes an answer that a customer has given elsewhere: the question has to be open."""
    with work() as unit:
        operations.note_answer(unit, id, body.answer, services().clock)
    return question_of(questions.by_id(session().connection(), id))


def question_of(row: Any) -> models.Question:
    return models.Question(
        id=row.id,
        message=live().message_key(row.message_id),
        outcome=row.answer if row.state == "answered" else row.state,
        asked_at=row.asked_at,
        ends_at=row.ends_at,
        closed_at=row.closed_at,
        way=row.way,
        said=row.said,
        reply=row.unmatched,
        late_answer=row.late_answer,
    )


def order_of(row: Any, contact: Any) -> models.Order:
    amount, currency = orders.amount_of((row.read or {}).get("total"))
    return models.Order(
        id=row.id,
        number=row.number or "",
        reference=row.reference,
        source=live().source_key(row.source_id),
        status=row.status or "",
        total=row.total or "",
        amount=amount,
        currency=currency,
        placed_at=row.placed_at,
        last_event_at=row.last_event_at,
        person=person_of(contact),
    )


def person_of(contact: Any) -> models.Person | None:
    if contact is None:
        return None
    return models.Person(**{name: getattr(contact, name) or "" for name in _PERSON}, id=contact.id)


_PERSON = ("name", "email", "phone", "country", "language")
