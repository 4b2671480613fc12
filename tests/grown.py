"""A store with so many routes, messages, orders and sends, to see what grows with them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import Engine, event

from angelon.core.specs import Bundle
from angelon.db.setup import bundles, specs
from angelon.engine.planner import Planner
from angelon.web.services import Services
from tests import made

PAGES = (
    *("/", "/orders", "/orders/1", "/sends", "/sends/{send}", "/sources", "/sources/shop/connect"),
    *("/sources/shop/capture", "/sources/shop/read", "/messages", "/messages/received", "/messages/received/revisions"),
    *("/letterhead", "/files", "/routes", "/routes/received", "/segments", "/gateways", "/gateways/mailroom"),
    *("/suppressions", "/rehearsals", "/checks", "/runs/new", "/events", "/changes"),
    *("/sources/shop/fetch", "/sources/shop/files", "/sources/shop/mail", "/tables"),
)
"""The pages; `{send}` stands for a send's id."""


def bundle(number: int) -> Bundle:
    """A set-up with so many routes, each with a message of its own and for an order that changes too."""
    routes = [made.route(when=["order.created", "order.status_changed"])]
    messages = [made.message()]
    for n in range(1, number):
        when = ["order.created"] if n % 2 else ["order.status_changed", "order.paid"]
        messages.append(made.message(key=f"m{n}", name=f"Message {n}"))
        guards = {"even_if_notified": True}
        routes.append(made.route(key=f"r{n}", name=f"Route {n}", send=f"m{n}", when=when, guards=guards))
    return Bundle(
        store=made.store(),
        sources=[made.source()],
        variables=made.VARIABLES,
        gateways=[made.gateway()],
        messages=messages,
        routes=routes,
        live=[route.key for route in routes],
    )


def grow(services: Services, routes: int, orders: int) -> None:
    """Gives a store so many routes and orders, each order with a send by most of the routes."""
    now = services.clock.now()
    with services.database.writing() as session:
        bundles.apply(session, bundle(routes), now - dt.timedelta(days=1))
    services.setups.forget()
    for number in range(orders):
        buyer = {"name": "Jo", "email": f"p{number}@example.org", "country": "DE"}
        for name in ("placed", "changed"):
            state = "paid" if name == "placed" else "picked"
            body = made.body(id=number + 1, reference=f"BK-{number + 1}", buyer=buyer, state=state)
            headers = {"content-type": "application/json", "store-event": name, "store-delivery": f"{number}-{name}"}
            answer = services.intake.receive("shop", "POST", headers, body, len(body), {}, "127.0.0.1")
            assert answer.status in (200, 202), answer.body
    planner = Planner(services.database, services.setups, services.clock)
    while planner.run_batch()[0]:
        pass


def first_send(services: Services) -> str:
    with services.database.engine.connect() as connection:
        return str(connection.exec_driver_sql("SELECT id FROM send ORDER BY id LIMIT 1").scalar())


@contextmanager
def statements(engine: Engine) -> Iterator[list[str]]:
    """Every statement that is sent to the database meanwhile."""
    seen: list[str] = []

    def note(connection: object, cursor: object, statement: str, *_: object) -> None:
        seen.append(statement)

    event.listen(engine, "before_cursor_execute", note)
    try:
        yield seen
    finally:
        event.remove(engine, "before_cursor_execute", note)


def store_of(services: Services) -> int:
    with services.database.reading() as session:
        return specs.stores(session)[0].id or 0
