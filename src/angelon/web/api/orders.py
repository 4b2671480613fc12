"""Orders, with their customers, events and sends."""

from __future__ import annotations

from typing import Any

from angelon.client import models
from angelon.core.problems import NotFound
from angelon.db import orders, sends
from angelon.web.api.events import event_of
from angelon.web.api.operation import cursor_of, operation, read_cursor
from angelon.web.api.sends import send_of
from angelon.web.services import live, session, store_id


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
        events=[event_of(event) for event in orders.events_of(session(), number)[:200]],
        sends=[send_of(one) for one in made],
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
