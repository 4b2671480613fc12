"""Routes: one event before a hundred of them, and what a change does to ten thousand events."""

from __future__ import annotations

import datetime as dt
import json
import tempfile
import time
from pathlib import Path
from typing import Any

from angelon.core.event_types import LABELS
from angelon.core.planning.inputs import ActiveRoute, Event, Facts
from angelon.core.planning.plan import plan, work_out
from angelon.core.specs import Bundle
from angelon.db.database import Database
from angelon.db.log import events
from angelon.db.records import NewDelivery, NewEvent
from angelon.db.setup import bundles, live_setup, specs
from angelon.engine.clock import Clock
from angelon.engine.past.rehearsals import Span, rehearse
from angelon.engine.planner import Planner
from angelon.engine.setups import Setups
from bench.rows import Row, median
from tests import made

CONDITIONS = {
    "of": [
        {"of": "total", "op": "at_least", "value": "10"},
        {
            "join": "any",
            "of": [
                {"of": "order.country", "op": "one_of", "values": ["DE", "IE"]},
                {"of": "contact.orders", "op": "at_least", "value": "3"},
            ],
        },
    ]
}
TIMING = {"amount": 10, "unit": "minutes", "window": {"start": "08:00", "end": "20:00"}}


def planning() -> list[Row]:
    """One event before a hundred live routes, all of which wait for it and half of which speak; and where a tenth wait
    for it.
    """
    worst, parsed = _planned(1)
    usual, _ = _planned(10)
    return [
        Row(
            "an event is planned against 100 routes that all wait for it",
            worst,
            "ms",
            "<= 5",
            {"of reading its JSON": worst / parsed, "where ten wait for it, ms": usual},
        )
    ]


def _planned(types: int, rounds: int = 150) -> tuple[float, float]:
    """Median times of planning and of reading the JSON alone, in ms, with the routes spread over so many event types.

    No two routes are alike: each compares with numbers of its own, waits its own time and speaks with its own message.
    """
    whens = list(LABELS)[:types]
    routes = []
    for n in range(100):
        speaks = {
            "of": [
                {"of": "total", "op": "at_least", "value": f"{10 + n / 10:.1f}"},
                {
                    "join": "any",
                    "of": [
                        {"of": "order.country", "op": "one_of", "values": ["DE", "IE"]},
                        {"of": "contact.orders", "op": "at_least", "value": str(n)},
                    ],
                },
            ]
        }
        quiet = {"of": [{"of": "total", "op": "less", "value": f"{n / 100:.2f}"}]}
        timing = {"amount": 10 + n, "unit": "minutes", "window": {"start": "08:00", "end": "20:00"}}
        routes.append(
            made.route(
                key=f"r{n}",
                name=f"Route {n}",
                when=[whens[n % types]],
                only_if=speaks if n // types % 2 else quiet,
                send=f"m{n}",
                timing=timing,
                guards={"even_if_notified": True},
            )
        )
    around = made.setup(
        routes=[ActiveRoute(route, made.LONG_AGO) for route in routes],
        messages={f"m{n}": made.message(key=f"m{n}", name=f"Message {n}") for n in range(100)},
    )
    event = Event("ev", "order.created", "placed", "shop", made.order(), made.NOON)
    took, alone = [], []
    for _ in range(rounds):
        began = time.perf_counter()
        reading, variables = work_out(around.sources["shop"], around, event.payload)
        decisions = plan(event, reading, variables, around, Facts(), made.NOON)
        took.append((time.perf_counter() - began) * 1000)
        assert sum(decision.outcome == "send" for decision in decisions) == 50 // types
        began = time.perf_counter()
        json.loads(json.dumps(event.payload))
        alone.append((time.perf_counter() - began) * 1000)
    return median(took), median(alone)


def listening(number: int = 1500, turns: int = 3) -> list[Row]:
    """Events through the whole planner, with three routes that listen to them, among 10, 40 and 200 live ones: what an
    event costs in processor time, beside those three alone. In turns, each with a database of its own.
    """
    sizes = (3, 10, 40, 200)
    took: dict[int, list[float]] = {size: [] for size in sizes}
    for _ in range(turns):
        for size in sizes:
            took[size].append(_through_the_planner(size, number))
    alone = median(took[3])
    marks = {10: "<= 1.1", 40: "<= 1.3", 200: "<= 2"}
    return [
        Row(
            f"processor time of planning an event, three routes of {size} listening",
            median([one / three for one, three in zip(took[size], took[3], strict=True)]),
            "x of three",
            mark,
            {"ms": median(took[size]) * 1000 / number, "of three, ms": alone * 1000 / number},
        )
        for size, mark in marks.items()
    ]


def with_routes(size: int, timing: dict[str, Any] = TIMING) -> Bundle:
    """A set-up with so many live routes, of which the first three wait for orders."""
    others = [one for one in LABELS if one not in ("order.created", "order.status_changed")]
    routes = [
        made.route(
            key=f"r{n}",
            name=f"Route {n}",
            when=["order.created" if n < 3 else others[n % len(others)]],
            only_if=CONDITIONS,
            timing=timing,
            send=f"m{n}",
            guards={"even_if_notified": True},
        )
        for n in range(size)
    ]
    messages = [made.message(key=f"m{n}", name=f"Message {n}") for n in range(size)]
    own = {"routes": routes, "messages": messages, "live": [route.key for route in routes]}
    return made.bundle().model_copy(update=own)


def _through_the_planner(size: int, number: int) -> float:
    """Seconds of processor time for so many events before so many live routes."""
    bundle = with_routes(size)
    with tempfile.TemporaryDirectory() as folder:
        database = Database(f"sqlite:///{Path(folder) / 'bench.db'}")
        database.migrate()
        come_in(database, bundle, number)
        planner = Planner(database, Setups(database, fresh_for=3600), Clock(), planned_at=lambda row: row.received_at)
        planner.run_batch(100)  # texts compiled, set-up read
        began = time.process_time()
        while planner.run_batch(500)[0]:
            pass
        took = time.process_time() - began
        with database.reading() as session:
            sends = session.connection().exec_driver_sql("SELECT count(*) FROM send").scalar_one()
        assert sends == 3 * number, sends
        database.close()
    return took


def come_in(database: Database, bundle: Bundle, number: int) -> int:
    """Stores a set-up, and so many orders that came in every two minutes, up to now; gives how many."""
    clock = Clock()
    start = clock.now() - dt.timedelta(days=20)
    with database.writing() as session:
        bundles.apply(session, bundle, start)
        store_id = specs.stores(session)[0].id or 0
    with database.reading() as session:
        live = live_setup.load(session, store_id)
    rows = []
    for n in range(number):
        at = start + dt.timedelta(minutes=2 * n)
        buyer = {"name": f"Jo {n % 500}", "email": f"jo{n % 500}@example.org", "country": "DE"}
        body = made.body(id=n, reference=f"BK-{n}", buyer=buyer)
        id_ = clock.new_id("dv", at)
        event = NewEvent(clock.new_id("ev", at), live.source_ids["shop"], id_, f"d:{n}", "placed", "order.created", at)
        rows.append(NewDelivery(id_, event.source_id, at, "application/json", {}, body, (event,)))
    with database.connection() as connection:
        for begin in range(0, number, 500):
            events.add(connection, rows[begin : begin + 500])
    return number


def effect(number: int = 10_000) -> list[Row]:
    """Draft against live over ten thousand events, all of which the route waits for."""
    with tempfile.TemporaryDirectory() as folder:
        database = Database(f"sqlite:///{Path(folder) / 'bench.db'}")
        database.migrate()
        come_in(database, made.bundle(), number)
        clock = Clock()
        with database.reading() as session:
            live = live_setup.load(session, specs.stores(session)[0].id or 0)
        planner = Planner(database, Setups(database, fresh_for=3600), clock, planned_at=lambda row: row.received_at)
        while planner.run_batch(500)[0]:
            pass
        draft = made.route(timing=TIMING, only_if=CONDITIONS, once="customer", once_days=1)
        began = time.perf_counter()
        seen = 0
        with database.reading() as session:
            for _, _, came in rehearse(
                session.connection(), live, {"was": made.route(), "now": draft}, Span(newest=number), clock.now()
            ):
                seen += len(came)
        took = time.perf_counter() - began
        assert seen == number
        database.close()
    return [Row("the effect of a change over 10,000 events", took, "s", "<= 20", {"ms an event": took * 1000 / number})]
