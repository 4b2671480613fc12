"""Behind a backlog: how long until an urgent event, and one of another source, are told."""

from __future__ import annotations

import datetime as dt
import tempfile
import time
from pathlib import Path

from angelon.core.specs import Source
from angelon.db.database import Database
from angelon.db.log import events
from angelon.db.records import NewDelivery, NewEvent
from angelon.db.setup import bundles, live_setup, specs
from angelon.db.tables import RouteRow, SourceRow
from angelon.engine.clock import Clock
from angelon.engine.planner import Planner
from angelon.engine.setups import Setups
from bench.rows import Row, median
from tests import made

WAITING, FEWER = 20_000, 5_000


def turns() -> list[Row]:
    """20,000 events of one source wait, each of an order and a customer of its own; then come three more: an urgent one
    of the same source, one of another source, and an ordinary one. Bare processing, without a sender beside it.
    """
    took = _run(urgent=True)
    pairs = [(_run(True, FEWER)["last"], _run(False, FEWER)["last"]) for _ in range(3)]
    more = {"until all are processed, s": took["last"]}
    return [
        Row("an urgent event behind 20,000 others is planned after", took["urgent"], "s", "<= 10", more),
        Row("one of another source is planned after", took["other"], "s", "<= 5"),
        Row("reading ahead for urgent routes costs", median([ahead / plain for ahead, plain in pairs]), "x", "<= 1.3"),
    ]


def _run(urgent: bool, waiting: int = WAITING) -> dict[str, float]:
    with tempfile.TemporaryDirectory() as folder:
        database = Database(f"sqlite:///{Path(folder) / 'bench.db'}")
        database.migrate()
        clock = Clock()
        start = clock.now() - dt.timedelta(hours=1)
        with database.writing() as session:
            bundles.apply(session, made.bundle(), start)
            store_id = specs.stores(session)[0].id or 0
            till = Source.model_validate(made.source().model_dump(mode="json") | {"key": "till", "name": "Till"})
            specs.save_live(session, SourceRow, store_id, till, start)
            route = made.route(key="at-once", when=["payment.failed"], urgent=urgent, once="event")
            row = specs.save_draft(session, RouteRow, store_id, route, start)
            specs.publish(session, row, start)
            specs.switch(session, row, True, start)
        with database.reading() as session:
            live = live_setup.load(session, store_id)
        number = 0

        def one(source: str, name: str, type_: str) -> NewDelivery:
            nonlocal number
            number += 1
            at = start + dt.timedelta(milliseconds=number)
            buyer = {"name": f"Jo {number}", "email": f"jo{number}@example.org", "country": "DE"}
            body = made.body(id=number, reference=f"BK-{number}", buyer=buyer)
            id_ = clock.new_id("dv", at)
            event = NewEvent(clock.new_id("ev", at), live.source_ids[source], id_, f"d:{number}", name, type_, at)
            return NewDelivery(id_, event.source_id, at, "application/json", {}, body, (event,))

        rows = [one("shop", "placed", "order.created") for _ in range(waiting)]
        last = {
            "urgent": one("shop", "failed", "payment.failed"),
            "other": one("till", "placed", "order.created"),
            "last": one("shop", "placed", "order.created"),
        }
        with database.connection() as connection:
            for begin in range(0, waiting, 500):
                events.add(connection, rows[begin : begin + 500])
            events.add(connection, list(last.values()))
        planner = Planner(database, Setups(database, fresh_for=3600), clock)
        took: dict[str, float] = {}
        began = time.perf_counter()
        while planner.run_batch()[0]:
            with database.reading() as session:
                for name, delivery in last.items():
                    waits = events.still_waiting(session.connection(), [delivery.events[0].id])
                    if name not in took and not waits:
                        took[name] = time.perf_counter() - began
        database.close()
        return took
