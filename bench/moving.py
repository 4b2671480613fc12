"""Intake and sending: how fast events come in and mails go out."""

from __future__ import annotations

import datetime as dt
import os
import smtplib
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
import uuid
from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager
from functools import partial
from pathlib import Path

import httpx

from angelon.cli.serving import free_port
from angelon.core.signatures import sign
from angelon.core.specs import Bundle
from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.log import events
from angelon.db.records import NewDelivery, NewEvent
from angelon.db.setup import bundles
from angelon.engine.clock import Clock, utc_now
from angelon.settings import Settings
from bench.load import measure, rate
from bench.routing import with_routes
from bench.rows import Row, in_turn, median
from bench.sink import taken
from tests import made

KEY = "a-key-for-benchmarks-only"
SECRET = "a-signing-secret"
TOLD = 900_000_000
"""Numbers of orders from here on are those whose mails are waited for, where others come in beside them."""


class Home:
    """A data folder with a small store, whose source is signed."""

    def __init__(self, folder: str, mail_port: int = 25, url: str = "", routes: int = 1) -> None:
        """`routes` live ones; of several the first three send what is placed."""
        self.path = Path(folder)
        self.settings = Settings(home=self.path, secret_key=KEY, database_url=url)
        self.database = Database(self.settings.url)
        self.database.migrate()
        self.source = made.source(signing={"header": "Store-Signature"})
        bundle = Bundle(
            store=made.store(),
            sources=[self.source],
            variables=made.VARIABLES,
            gateways=[made.gateway(mail_port)],
            messages=[made.message()],
            routes=[made.route()],
            live=["received"],
        )
        if routes > 1:
            many = with_routes(routes, timing={})
            bundle = bundle.model_copy(update={name: getattr(many, name) for name in ("routes", "messages", "live")})
        with self.database.writing() as session:
            bundles.apply(session, bundle, utc_now() - dt.timedelta(days=1))
            Vault(KEY).put(session, "source", 1, SECRET, utc_now())

    def environment(self, **more: str) -> dict[str, str]:
        return {**os.environ, "ANGELON_HOME": str(self.path), "ANGELON_SECRET_KEY": KEY, **more}

    def request(self, number: int) -> tuple[dict[str, str], bytes]:
        body = made.body(id=number, buyer={"name": "Jörg", "email": f"p{number}@example.org", "country": "DE"})
        headers = sign(self.source.signing, SECRET, body, "", utc_now())
        return {
            "Content-Type": "application/json",
            "Store-Event": "placed",
            "Store-Delivery": str(uuid.uuid4()),
            **headers,
        }, body

    def raw_request(self, number: int) -> bytes:
        headers, body = self.request(number)
        head = "".join(f"{name}: {value}\r\n" for name, value in headers.items())
        return f"POST /in/shop HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: {len(body)}\r\n{head}\r\n".encode() + body


@contextmanager
def process(*arguments: str, env: dict[str, str]):
    child = subprocess.Popen([sys.executable, *arguments], env=env, stderr=subprocess.DEVNULL)
    try:
        yield child
    finally:
        child.terminate()
        try:
            child.wait(15)
        except subprocess.TimeoutExpired:
            child.kill()


def wait_for(true, seconds: float = 60, every: float = 0.005) -> None:
    until = time.monotonic() + seconds
    while not true():
        if time.monotonic() > until:
            raise TimeoutError("it did not happen in time")
        time.sleep(every)


def _answers(port: int, path: str = "/healthz") -> bool:
    try:
        return httpx.get(f"http://127.0.0.1:{port}{path}", timeout=1).status_code == 200
    except httpx.HTTPError:
        return False


@contextmanager
def by_hand(folder: str, port: int, mail_port: int = 25, threads: int = 4):
    """The hand-written program (`bench/handwritten.py`): its page, and threads that send."""
    env = {
        **os.environ,
        "HAND_HOME": folder,
        "HAND_SECRET": SECRET,
        "HAND_MAIL_PORT": str(mail_port),
        "BENCH_PORT": str(port),
    }
    consumer = (
        "-m",
        "huey.bin.huey_consumer",
        "bench.handwritten.queue",
        "-w",
        str(threads),
        "-d",
        "0.01",
        "-m",
        "0.1",
        "-q",
    )
    with process("-m", "bench.handwritten", env=env), process(*consumer, env=env):
        wait_for(lambda: _answers(port, "/empty"))
        yield


def to_hand(home: Home, number: int, path: str) -> bytes:
    """The same order for the hand-written program."""
    return home.raw_request(number).replace(b"POST /in/shop ", f"POST {path} ".encode(), 1)


def intake(rounds: int = 5, number: int = 1500) -> list[Row]:
    """Accepted deliveries a second, and how long the slowest hundredth waits: over many connections against an empty
    page of bare Flask on the same server, over few against one that appends to a file and calls fdatasync; the slowest
    against a hand-written page that commits each.
    """
    with tempfile.TemporaryDirectory() as folder, tempfile.TemporaryDirectory() as hand:
        home = Home(folder)
        ports = free_port(), free_port()
        with (
            process("-m", "bench.app", env=home.environment(BENCH_PORT=str(ports[0]))),
            by_hand(hand, ports[1]),
        ):
            wait_for(lambda: _answers(ports[0]))
            serial = iter(range(10_000_000))
            return [
                row
                for connections in (32, 128, 1, 8)
                for row in _intake(home, ports, serial, connections, rounds, number if connections > 8 else number // 3)
            ]


def _intake(
    home: Home, ports: tuple[int, int], serial: Iterator[int], connections: int, rounds: int, number: int
) -> list[Row]:
    slowest: dict[str, list[float]] = {"ours": [], "hand": []}

    def timed(which: str, port: int, requests: list[bytes]) -> float:
        speed, p99 = measure(port, requests, connections, 202)
        slowest[which].append(p99)
        return speed

    def ours() -> float:
        return timed("ours", ports[0], [home.raw_request(next(serial)) for _ in range(number)])

    def empty() -> float:
        return rate(ports[1], [b"GET /empty HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n"] * number, connections, 200)

    def appending() -> float:
        return rate(ports[1], [to_hand(home, next(serial), "/append") for _ in range(number)], connections, 202)

    def hand_written() -> float:
        return timed("hand", ports[1], [to_hand(home, next(serial), "/keep") for _ in range(number)])

    least, than, aim = (
        (empty, "an empty page of bare Flask", ">= 0.9")
        if connections > 8
        else (appending, "a page that appends and calls fdatasync", ">= 0.8")
    )
    in_turn(1, ours, least, hand_written)  # warm
    slowest["ours"].clear()
    slowest["hand"].clear()
    a, b, c = in_turn(rounds, ours, least, hand_written)
    p99 = {"p99 ms": median(slowest["ours"]), "hand-written p99 ms": median(slowest["hand"])}
    at = f"at {connections} connections" if connections > 1 else "at one connection"
    return [
        Row(
            f"deliveries accepted {at}, against {than}",
            median(a) / median(b),
            "ratio",
            aim,
            {"deliveries/s": median(a), "that page/s": median(b)},
        ),
        Row(
            f"p99 of a delivery {at}, against a hand-written page that commits each",
            p99["p99 ms"] / p99["hand-written p99 ms"],
            "ratio",
            "<= 1.0",
            p99 | {"hand-written/s": median(c)},
        ),
    ]


def pipeline(rounds: int = 3, number: int = 600, connections: int = 16) -> list[Row]:
    """Orders a second from the first delivery to the last mail handed over, all of it running, against the same by a
    hand-written program, and by its easier form with eight threads; all hand over to a server that only counts. How
    long a delivery waits meanwhile, beside the hand-written program's in the same place.
    """
    ours, forms, slowest = _through(1, {"/hook": 4, "/easy": 8}, 1, rounds, number, connections)
    made = "orders from delivery to mail handed over against a hand-written program"
    detail = {"orders/s": ours, "hand-written/s": forms["/hook"]}
    waits = {"p99 ms": slowest["/in/shop"], "hand-written p99 ms": slowest["/hook"]}
    return [
        Row(made, ours / forms["/hook"], "ratio", ">= 2.0", detail),
        Row(f"{made} in its easier form", ours / forms["/easy"], "ratio", ">= 2.2", {"hand-written/s": forms["/easy"]}),
        Row(
            "p99 of a delivery while mails go out, against the hand-written program's",
            slowest["/in/shop"] / slowest["/hook"],
            "ratio",
            "<= 1.0",
            waits,
        ),
    ]


def forty(rounds: int = 3, number: int = 250, connections: int = 16) -> list[Row]:
    """The same with forty live routes, of which three send for an order, against a hand-written program that sends the
    same three.
    """
    ours, forms, _ = _through(40, {"/three": 8}, 3, rounds, number, connections)
    return [
        Row(
            "orders told by three of forty routes, against a hand-written program that sends the same three",
            ours / forms["/three"],
            "ratio",
            ">= 2.2",
            {"orders/s": ours, "mails/s": 3 * ours, "hand-written orders/s": forms["/three"]},
        )
    ]


def _through(
    routes: int, pages: Mapping[str, int], mails: int, rounds: int, number: int, connections: int
) -> tuple[float, dict[str, float], dict[str, float]]:
    """Orders a second through Angelon and through pages of the hand-written program, each with so many threads that
    send, `mails` for each order; and how long the slowest hundredth of deliveries waited (ms), by path.
    """
    with ExitStack() as stack:
        folders = [stack.enter_context(tempfile.TemporaryDirectory()) for _ in range(1 + len(pages))]
        sink, counted = free_port(), Path(folders[1]) / "taken"
        home = Home(folders[0], sink, routes=routes)
        port = free_port()
        stack.enter_context(process("-m", "bench.sink", str(sink), str(counted), env=dict(os.environ)))
        stack.enter_context(process("-m", "bench.app", env=home.environment(BENCH_PORT=str(port))))
        stack.enter_context(process("-m", "angelon", "worker", env=home.environment()))
        ports = {"/in/shop": port}
        for folder, (path, threads) in zip(folders[1:], pages.items(), strict=True):
            ports[path] = free_port()
            stack.enter_context(by_hand(folder, ports[path], sink, threads))
        wait_for(lambda: _answers(port) and _smtp(sink))
        serial = iter(range(10_000_000))
        slowest: dict[str, list[float]] = {path: [] for path in ports}

        def through(path: str) -> float:
            requests = [
                to_hand(home, next(serial), path) if path in pages else home.raw_request(next(serial))
                for _ in range(number)
            ]
            target, began = taken(counted)[0] + mails * number, time.time()
            slowest[path].append(measure(ports[path], requests, connections, 202)[1])
            wait_for(lambda: taken(counted)[0] >= target, 120)
            return number / (taken(counted)[1] - began)

        measures = [partial(through, path) for path in ports]
        in_turn(1, *measures)  # warm
        for waited in slowest.values():
            waited.clear()
        ours, *others = map(median, in_turn(rounds, *measures))
        return ours, dict(zip(pages, others, strict=True)), {path: median(one) for path, one in slowest.items()}


def mails(rounds: int = 5, number: int = 400) -> list[Row]:
    """Mails a second from due to accepted, against a bare smtplib loop on one connection to the same mailbox."""
    from angelon.standins.box import Box

    with tempfile.TemporaryDirectory() as folder:
        port = free_port()
        home = Home(folder, port)
        box = Box(home.path)
        with process("-m", "angelon", "standins", "--mail-port", str(port), env=home.environment()):
            wait_for(lambda: _smtp(port))
            data = _a_mail()

            def bare() -> float:
                began = time.perf_counter()
                with smtplib.SMTP("127.0.0.1", port) as server:
                    for n in range(number):
                        server.sendmail("orders@kites.example", [f"p{n}@example.org"], data)
                return number / (time.perf_counter() - began)

            serial = iter(range(1, 10_000_000))

            def ours() -> float:
                """Planned first, held back by a pause of the gateway's clock; timed from the moment they are due."""
                from angelon.engine.planner import Planner
                from angelon.engine.setups import Setups

                due = utc_now() + dt.timedelta(seconds=10)
                planner = Planner(home.database, Setups(home.database), _Later(due))
                rows = arrived(home, [next(serial) for _ in range(number)])
                with (
                    home.database.connection() as connection
                ):  # stored and planned in one, so that the worker meets them planned
                    events.add(connection, rows)
                    planner._plan(connection, events.unplanned(connection, number))
                assert utc_now() < due, "they were due before they were planned"
                target = box.count_mails() + number
                time.sleep((due - utc_now()).total_seconds())
                wait_for(lambda: box.count_mails() >= target, every=0.1)
                return number / (box.mails(1)[0].received_at - due).total_seconds()

            with process("-m", "angelon", "worker", env=home.environment()):
                in_turn(1, bare, ours)
                a, b = in_turn(rounds, ours, bare)
    return [
        Row(
            "mails from due to accepted against a bare smtplib loop",
            median(a) / median(b),
            "ratio",
            ">= 1.0",
            {"mails/s": median(a), "bare/s": median(b)},
        )
    ]


class _Later(Clock):
    """A clock that stands at a moment to come, so that what is planned now is due then."""

    def __init__(self, at: dt.datetime) -> None:
        super().__init__(now=lambda: at)


def arrived(home: Home, numbers: list[int], **headers_too: str) -> list[NewDelivery]:
    """Deliveries of orders as intake stores them."""
    from angelon.core.deliveries import read_delivery

    clock = Clock()
    rows = []
    for n in numbers:
        headers, body = home.request(n)
        low = {k.lower(): v for k, v in headers.items()} | headers_too
        (event,) = read_delivery(home.source, low, body)
        id_, now = clock.new_id("dv"), utc_now()
        new = NewEvent(clock.new_id("ev"), 1, id_, f"d:{event.delivery_id}", event.name, event.type, now)
        rows.append(NewDelivery(id_, 1, now, "application/json", low, body, (new,)))
    return rows


def _smtp(port: int) -> bool:
    try:
        with smtplib.SMTP("127.0.0.1", port, timeout=1):
            return True
    except OSError:
        return False


def _a_mail() -> bytes:
    from angelon.core.messages.email import compile_email
    from angelon.core.messages.mime import Envelope, build
    from angelon.core.planning.plan import values_for, work_out

    made_setup = made.setup()
    reading, variables = work_out(made_setup.sources["shop"], made_setup, made.order())
    compiled = compile_email(made.message().email["de"], made.store(), "de")
    values, _ = values_for(compiled.names, reading, variables)
    return build(
        compiled.render(values),
        Envelope("orders@kites.example", "Kites", "p@example.org", "Jörg", "x@kites.example", utc_now()),
    )


def latency(number: int = 60) -> list[Row]:
    """The time from the 202 to the mail accepted: one order at a time, nothing else to do; and beside fifty others a
    second. A mark is that much later where a commit's p95 is over 10 ms.
    """
    with tempfile.TemporaryDirectory() as folder:
        mail_port, port = free_port(), free_port()
        home, counted = Home(folder, mail_port), Path(folder) / "seen"
        with (
            process("-m", "bench.sink", str(mail_port), str(counted), f"p{TOLD // 1000}", env=dict(os.environ)),
            process("-m", "angelon", "worker", env=home.environment()),
            process("-m", "bench.app", env=home.environment(BENCH_PORT=str(port))),
        ):
            wait_for(lambda: _answers(port) and _smtp(mail_port))
            time.sleep(1.5)
            serial = iter(range(10_000_000))
            commit = _commits(folder)
            later = max(0.0, commit - 10)
            rows = []
            for others, name, most in ((0, "idle", 50), (50, "beside 50 orders a second", 150)):
                took = sorted(_told(home, port, counted, serial, number, others))
                rows.append(
                    Row(
                        f"from 202 to accepted mail, {name}, p95",
                        took[int(len(took) * 0.95)],
                        "ms",
                        f"<= {most + later:.0f}",
                        {"median ms": median(took), "orders": number, "p95 of a commit, ms": commit},
                    )
                )
    return rows


def _told(home: Home, port: int, counted: Path, serial: Iterator[int], number: int, others: int) -> list[float]:
    """How long so many orders waited for their mails (ms), with so many others a second beside them: those go to
    addresses that the sink does not tell of.
    """
    stop, took = threading.Event(), []

    def beside() -> None:
        with httpx.Client(base_url=f"http://127.0.0.1:{port}") as client:
            due = time.monotonic()
            while others and not stop.is_set():
                headers, body = home.request(next(serial))
                client.post("/in/shop", content=body, headers=headers)
                due += 1 / others
                time.sleep(max(0.0, due - time.monotonic()))

    thread = threading.Thread(target=beside)
    thread.start()
    with httpx.Client(base_url=f"http://127.0.0.1:{port}") as client:
        for _ in range(number):
            seen = taken(counted)[0]
            headers, body = home.request(TOLD + next(serial) % 1000)
            answer = client.post("/in/shop", content=body, headers=headers)
            acknowledged = time.time()
            assert answer.status_code == 202
            wait_for(lambda seen=seen: taken(counted)[0] > seen, every=0.001)
            took.append((taken(counted)[1] - acknowledged) * 1000)
            time.sleep(0.05)
    stop.set()
    thread.join()
    return took


def _commits(folder: str, number: int = 60) -> float:
    """The p95 of a commit to a database of its own on the same disk, in ms."""
    took = []
    with sqlite3.connect(Path(folder) / "commits.db", isolation_level=None) as connection:
        connection.execute("PRAGMA journal_mode=WAL")
        connection.execute("PRAGMA synchronous=FULL")
        connection.execute("CREATE TABLE one (body TEXT)")
        for _ in range(number):
            began = time.perf_counter()
            connection.execute("INSERT INTO one VALUES (?)", ("x" * 1000,))
            took.append((time.perf_counter() - began) * 1000)
            time.sleep(0.005)
    return sorted(took)[int(number * 0.95)]
