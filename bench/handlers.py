"""Handlers: what one costs against the same decision by a route, and what one that misbehaves costs the others."""

from __future__ import annotations

import datetime as dt
import tempfile
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from angelon.core.specs.source import Source
from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.setup import bundles, specs
from angelon.db.tables import RouteRow
from angelon.engine.arrivals.event_reader import Readings
from angelon.engine.arrivals.intake import Intake
from angelon.engine.arrivals.writer import GroupCommit
from angelon.engine.asking.inquirer import Inquirer
from angelon.engine.clock import Clock
from angelon.engine.handlers.runner import HandlerRunner
from angelon.engine.planner import Planner
from angelon.engine.setups import Setups
from bench.rows import Row, median
from tests import made

SAME = """
from angelon.handlers import on

@on("order.created")
def same(event, outbox):
    outbox.send("received")
"""
HANGS = """
import time
from angelon.handlers import on

@on("order.updated", timeout=2)
def hangs(event, outbox):
    time.sleep(60)
"""


def switched_on(database: Database, clock: Clock, home: Path, code: str) -> HandlerRunner:
    """The handlers of a folder that is made in `home`, on since long."""
    (home / "own").mkdir()
    (home / "own/shop.py").write_text(code)
    runner = HandlerRunner(database, clock, home / "own")
    runner.look()
    with database.writing() as session:
        for row in session.query(RouteRow).filter(RouteRow.key.like("handler-%")):
            row.on, row.since = True, clock.now() - dt.timedelta(days=60)
            specs.touch(session, row.store_id)
    return runner


class _Shop:
    """A shop in a folder of its own, with what takes and plans its events."""

    def __init__(self, home: Path, code: str = "", route: bool = True, asks: str = "") -> None:
        """`asks` is an address that is asked about every order."""
        self.clock = Clock()
        self.database = Database(f"sqlite:///{home / 'angelon.db'}")
        self.database.migrate()
        self.setups = Setups(self.database)
        with self.database.writing() as session:
            bundle = made.bundle(live=route)
            if asks:
                spec = {"name": "stock", "url": f"{asks}/{{id}}", "parameters": {"id": {"path": "$.id"}}}
                source = bundle.sources[0].model_dump(mode="json") | {"enrichments": [spec]}
                bundle.sources[0] = Source.model_validate(source)
                bundle.store.private_hosts = ["127.0.0.1"]
            bundles.apply(session, bundle, self.clock.now() - dt.timedelta(days=1))
        self.runner: HandlerRunner | None = None
        if code:
            self.runner = switched_on(self.database, self.clock, home, code)
        self.setups.forget()
        self.writer = GroupCommit(self.database, lambda: None)
        self.intake = Intake(self.database, self.setups, Vault("a-key-for-benchmarks"), self.writer, self.clock)
        readings = Readings()
        self.inquirer = Inquirer(self.database, self.setups, self.clock, "bench", self.runner, readings=readings)
        self.planner = Planner(self.database, self.setups, self.clock, readings=readings)

    def deliver(self, number: int, name: str = "placed") -> None:
        body = made.body(id=number, reference=f"BK-{number}")
        headers = {"content-type": "application/json", "store-event": name, "store-delivery": f"{name}-{number}"}
        self.intake.receive("shop", "POST", headers, body, len(body), {}, "127.0.0.1")

    def plan_all(self) -> int:
        done = 0
        while True:
            planned, _ = self.planner.run_batch()
            if not planned:
                return done
            done += planned

    def end(self) -> None:
        self.writer.close()
        if self.runner is not None and self.runner.handlers is not None:
            self.runner.handlers.end()
        self.database.close()


def handlers() -> list[Row]:
    """One order decided by a route and by a handler that asks for the same; and orders planned beside a handler that
    hangs on other events.
    """
    return [_cost(), _rate(), _look_ups(), _beside()]


def _cost(rounds: int = 120) -> Row:
    took: dict[str, list[float]] = {"route": [], "handler": []}
    with tempfile.TemporaryDirectory() as one, tempfile.TemporaryDirectory() as other:
        shops = {"route": _Shop(Path(one)), "handler": _Shop(Path(other), SAME, route=False)}
        for number in range(rounds):
            for kind, shop in shops.items():
                shop.deliver(number)
                began = time.perf_counter()
                shop.plan_all()
                if kind == "handler":
                    shop.inquirer.run_due()
                    shop.plan_all()
                took[kind].append((time.perf_counter() - began) * 1000)
        for shop in shops.values():
            shop.end()
    handler, route = median(took["handler"][20:]), median(took["route"][20:])
    return Row(
        "an order is decided by a handler", handler, "ms", "", {"by a route, ms": route, "of it": handler / route}
    )


def _rate(number: int = 400) -> Row:
    """Orders a second whose only decision is a handler's, a backlog of them."""
    with tempfile.TemporaryDirectory() as home:
        shop = _Shop(Path(home), SAME, route=False)
        for one in range(number):
            shop.deliver(one)
        shop.inquirer.run_due()
        began = time.perf_counter()
        shop.plan_all()
        shop.inquirer.run_due()
        shop.plan_all()
        took = time.perf_counter() - began
        shop.end()
    return Row("orders a second that a handler decides", number / took, "a second", ">= 200")


class _Slow(BaseHTTPRequestHandler):
    """Answers what it is asked after 50 ms."""

    protocol_version = "HTTP/1.1"

    def do_GET(self) -> None:
        time.sleep(0.05)
        self.send_response(200)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", "11")
        self.end_headers()
        self.wfile.write(b'{"left": 3}')

    def log_message(self, *_: object) -> None: ...


def _look_ups(number: int = 400) -> Row:
    """Orders a second about which an address is asked that takes 50 ms, a backlog of them."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Slow)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    with tempfile.TemporaryDirectory() as home:
        shop = _Shop(Path(home), asks=f"http://127.0.0.1:{server.server_address[1]}")
        for one in range(number):
            shop.deliver(one)
        shop.plan_all()
        began = time.perf_counter()
        asked = shop.inquirer.run_due()
        took = time.perf_counter() - began
        shop.end()
    server.shutdown()
    return Row("look-ups a second at an address that takes 50 ms", asked / took, "a second", ">= 100")


def _beside(seconds: float = 6.0) -> Row:
    """Orders planned a second alone, and while another thread calls a handler that hangs for other events."""
    rates = []
    for hanging in (False, True):
        with tempfile.TemporaryDirectory() as home:
            shop = _Shop(Path(home), HANGS)
            for number in range(400):
                shop.deliver(100_000 + number, "changed") if hanging else None
            shop.plan_all()  # the handler is asked for from now on; those orders' own planning is no part of it
            stop = threading.Event()

            def ask(shop: _Shop = shop, stop: threading.Event = stop) -> None:
                while not stop.is_set():
                    shop.inquirer.step()
                    stop.wait(0.05)

            thread = threading.Thread(target=ask)
            thread.start()
            number, until = 0, time.monotonic() + seconds
            while time.monotonic() < until:
                shop.deliver(number)
                shop.plan_all()
                number += 1
            stop.set()
            rates.append(number / seconds)
            thread.join(10)
            shop.end()
    return Row(
        "orders are planned beside a handler that hangs",
        rates[1] / rates[0],
        "of alone",
        ">= 0.9",
        {"alone, a second": rates[0], "beside it, a second": rates[1]},
    )
