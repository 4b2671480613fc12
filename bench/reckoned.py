"""What 10 million orders a day would take, reckoned from what an event and a send cost of a processor here, on
PostgreSQL: with 1, 10 and 40 routes, with a handler, and with the demo's own set-up and messages.
"""

from __future__ import annotations

import datetime as dt
import random
import tempfile
import time
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import astuple, dataclass
from pathlib import Path

from angelon.core.specs.bundle import read_bundle
from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.log import events
from angelon.db.log.bodies import Bodies
from angelon.db.setup import bundles, live_setup, specs
from angelon.db.tables import SourceRow
from angelon.demo.filling import BUNDLE
from angelon.demo.seed import SeedClock, happenings, received
from angelon.engine.asking.inquirer import Inquirer
from angelon.engine.clock import Clock, utc_now
from angelon.engine.planner import Planner
from angelon.engine.sending.dispatcher import Dispatcher
from angelon.engine.setups import Setups
from angelon.gateways.interface import Mail, Outcome, ProviderMessage
from bench import several
from bench.handlers import SAME, switched_on
from bench.routing import come_in, with_routes
from bench.rows import Row
from cluster.postgresql import Server
from tests import made

ORDERS_A_DAY = 10_000_000
PEAK = 3.0
"""How much more comes in the busiest hour than on average."""
NUMBER = 600
WARM = 50
"""Events and sends before what is measured."""
SEEDS = 1
"""Months of the demo that are told one after the other."""
TURNS = 3


@dataclass
class Cost:
    """What one order brings, and what that costs of a processor, in ms."""

    deliveries: float
    events: float
    sends: float
    planning: float
    planning_database: float
    asking: float
    asking_database: float
    sending: float
    sending_database: float
    bytes: float


class _Taken:
    """A gateway that takes everything at once: what is handed over costs nothing there."""

    def deliver(self, mail: Mail | ProviderMessage, key: str) -> Outcome:
        return Outcome("accepted", "250", "taken", reference=f"r-{key[-8:]}")

    def close(self) -> None: ...


def reckoned() -> list[Row]:
    with tempfile.TemporaryDirectory() as name, ExitStack() as stack:
        folder = Path(name)
        folder.chmod(0o755)
        server = Server(folder / "postgresql")
        server.start()
        stack.callback(server.stop)
        (taken,) = several.intake(folder / "accepted", "PostgreSQL", server)
        web, stored = (taken.detail[f"ms of CPU a delivery, {of}"] for of in ("web", "PostgreSQL"))
        set_ups: dict[str, Callable[[Database, Path], int]] = {
            "1 route": lambda database, _: come_in(database, with_routes(1), NUMBER),
            "10 routes, 3 of them listening": lambda database, _: come_in(database, with_routes(10), NUMBER),
            "40 routes, 3 of them listening": lambda database, _: come_in(database, with_routes(40), NUMBER),
            "a handler": lambda database, _: come_in(database, made.bundle(live=False), NUMBER),
            "the demo's set-up": _demo,
        }
        costs: dict[str, list[Cost]] = {name: [] for name in set_ups}
        for turn in range(TURNS):
            for number, (name_, set_up) in enumerate(set_ups.items()):
                url = server.create(f"reckoned{number}_{turn}")
                costs[name_].append(_cost(folder / f"{number}-{turn}", url, server, set_up, name_ == "a handler"))
    return [_row(name, _least(found), web, stored) for name, found in costs.items()]


def _least(found: list[Cost]) -> Cost:
    """The least of each: what a busy machine adds is no part of what something costs."""
    return Cost(*(min(of_each) for of_each in zip(*map(astuple, found), strict=True)))


def _row(name: str, cost: Cost, web: float, stored: float) -> Row:
    """The cores, like this machine's, that are busy in the peak hour."""
    peak = ORDERS_A_DAY / 86_400 * PEAK / 1000
    parts = {
        "web": cost.deliveries * web,
        "planning": cost.events * cost.planning,
        "handlers": cost.events * cost.asking,
        "sending": cost.sends * cost.sending,
        "database": cost.deliveries * stored
        + cost.events * (cost.planning_database + cost.asking_database)
        + cost.sends * cost.sending_database,
    }
    detail: dict[str, object] = {f"cores {part}": one * peak for part, one in parts.items()}
    detail |= {
        "an order: deliveries": cost.deliveries,
        "events": cost.events,
        "sends": cost.sends,
        "ms an event, planning": cost.planning,
        "ms a send": cost.sending,
        "one store's orders a day, planned by one process": 86_400_000 / (cost.events * cost.planning),
        "GB a day": cost.bytes * ORDERS_A_DAY / 1e9,
    }
    return Row(f"cores at the peak of 10 million orders a day, {name}", sum(parts.values()) * peak, "cores", "", detail)


def _cost(
    folder: Path, url: str, server: Server, set_up: Callable[[Database, Path], int], by_handler: bool = False
) -> Cost:
    """Orders are stored, planned, asked about and sent in this process; what the database does meanwhile is its own."""
    folder.mkdir()
    database = Database(url)
    database.migrate()
    orders, size = set_up(database, folder), several.size_of(database)
    clock = Clock()
    setups = Setups(database, fresh_for=3600)
    runner = switched_on(database, clock, folder, SAME) if by_handler else None
    setups.forget()
    planner = Planner(database, setups, clock, planned_at=lambda row: row.received_at)

    def measured(work: Callable[[], None]) -> tuple[float, float]:
        before, began = several.cpu_of(server), time.process_time()
        work()
        return (time.process_time() - began) * 1000, (several.cpu_of(server) - before) * 1000

    def plan() -> None:
        while planner.run_batch()[0]:
            pass

    planner.run_batch(WARM)  # texts compiled, set-up read, statements known
    planning, planning_database = measured(plan)
    asking = asking_database = 0.0
    if runner is not None:
        inquirer = Inquirer(database, setups, clock, "bench", runner)
        asking, asking_database = measured(lambda: (inquirer.run_due(), None)[1])
        again = measured(plan)
        planning, planning_database = planning + again[0], planning_database + again[1]
        if runner.handlers is not None:
            runner.handlers.end()
    dispatcher = Dispatcher(
        "bench",
        database,
        setups,
        Vault("a-key-for-benchmarks"),
        clock,
        lambda gateway, password: _Taken(),
        base_url="http://127.0.0.1:8080",
    )

    def send() -> None:
        while dispatcher.run_batch(50):
            pass

    dispatcher.run_batch(WARM)
    sending, sending_database = measured(send)
    with database.reading() as session:
        count = session.connection().exec_driver_sql
        deliveries, planned, sent = (
            int(count(f"SELECT count(*) FROM {table}").scalar_one())
            for table in ("delivery", "event", "send WHERE state IN ('sent', 'delivered')")
        )
    grown = several.size_of(database) - size
    database.close()
    assert sent, "nothing was sent"
    return Cost(
        deliveries / orders,
        planned / orders,
        sent / orders,
        planning / (planned - WARM),
        planning_database / (planned - WARM),
        asking / planned,
        asking_database / planned,
        sending / (sent - WARM),
        sending_database / (sent - WARM),
        grown / orders,
    )


def _demo(database: Database, _: Path) -> int:
    """The demo's set-up, with what came in over some months; gives the number of orders that were placed."""
    now = utc_now()
    with database.writing() as session:
        bundles.apply(session, read_bundle(BUNDLE.read_text()), now - dt.timedelta(days=60))
        store_id = specs.stores(session)[0].id or 0
        keys = [row.key for row in session.query(SourceRow)]
    with database.reading() as session:
        live = live_setup.load(session, store_id)
    rows, orders, bodies = [], 0, Bodies(database)
    for seed in range(SEEDS):
        rng = random.Random(20 + seed)
        clock = SeedClock(rng=rng)
        for at, key, delivery in happenings(now, rng, 2050 + 1000 * seed):
            if key in keys:
                one = received(live.setup.sources[key], live.source_ids[key], at, delivery, clock, bodies)
                orders += sum(event.type == "order.created" for event in one.events)
                rows.append(one)
    rows.sort(key=lambda one: one.received_at)
    with database.connection() as connection:
        for start in range(0, len(rows), 400):
            events.add(connection, rows[start : start + 400])
    return orders
