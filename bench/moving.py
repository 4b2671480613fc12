"""Intake and sending: how fast events come in and mails go out."""

from __future__ import annotations

import datetime as dt
import os
import smtplib
import subprocess
import sys
import tempfile
import time
import uuid
from contextlib import ExitStack, contextmanager
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
from bench.rows import Row, in_turn, median
from bench.sink import taken
from tests import made

KEY = "a-key-for-benchmarks-only"
SECRET = "a-signing-secret"


class Home:
    """A data folder with a small store, whose source is signed."""

    def __init__(self, folder: str, mail_port: int = 25, url: str = "") -> None:
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


def intake(rounds: int = 5, number: int = 1500, connections: int = 32) -> list[Row]:
    """Accepted deliveries a second, and how long the slowest hundredth waits: against an empty page of bare Flask on
    the same server, and against a hand-written page that commits each delivery.
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
            slowest: dict[str, list[float]] = {"ours": [], "hand": []}

            def timed(which: str, port: int, requests: list[bytes]) -> float:
                speed, p99 = measure(port, requests, connections, 202)
                slowest[which].append(p99)
                return speed

            def ours() -> float:
                return timed("ours", ports[0], [home.raw_request(next(serial)) for _ in range(number)])

            def empty() -> float:
                return rate(ports[1], [b"GET /empty HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n"] * number, connections, 200)

            def hand_written() -> float:
                return timed("hand", ports[1], [to_hand(home, next(serial), "/keep") for _ in range(number)])

            in_turn(1, ours, empty, hand_written)  # warm
            slowest["ours"].clear()
            slowest["hand"].clear()
            a, b, c = in_turn(rounds, ours, empty, hand_written)
    detail = {"deliveries/s": median(a), "connections": connections}
    p99 = {"p99 ms": median(slowest["ours"]), "hand-written p99 ms": median(slowest["hand"])}
    return [
        Row(
            "accepted deliveries against an empty page of bare Flask",
            median(a) / median(b),
            "ratio",
            ">= 0.8",
            detail | {"empty pages/s": median(b)},
        ),
        Row(
            "p99 of a delivery against a hand-written page that commits each",
            p99["p99 ms"] / p99["hand-written p99 ms"],
            "ratio",
            "<= 1.0",
            p99 | {"hand-written/s": median(c)},
        ),
    ]


def pipeline(rounds: int = 3, number: int = 600, connections: int = 16) -> list[Row]:
    """Orders a second from the first delivery to the last mail handed over, all of it running, against the same by a
    hand-written program, and by its easier form with eight threads; all hand over to a server that only counts.
    """
    with ExitStack() as stack:
        folders = [stack.enter_context(tempfile.TemporaryDirectory()) for _ in range(3)]
        sink, counted = free_port(), Path(folders[1]) / "taken"
        home = Home(folders[0], sink)
        ports = free_port(), free_port(), free_port()
        stack.enter_context(process("-m", "bench.sink", str(sink), str(counted), env=dict(os.environ)))
        stack.enter_context(process("-m", "bench.app", env=home.environment(BENCH_PORT=str(ports[0]))))
        stack.enter_context(process("-m", "angelon", "worker", env=home.environment()))
        stack.enter_context(by_hand(folders[1], ports[1], sink))
        stack.enter_context(by_hand(folders[2], ports[2], sink, 8))
        wait_for(lambda: _answers(ports[0]) and _smtp(sink))
        serial = iter(range(10_000_000))

        def through(port: int, requests: list[bytes]) -> float:
            target, began = taken(counted)[0] + number, time.time()
            rate(port, requests, connections, 202)
            wait_for(lambda: taken(counted)[0] >= target, 120)
            return number / (taken(counted)[1] - began)

        def ours() -> float:
            return through(ports[0], [home.raw_request(next(serial)) for _ in range(number)])

        def hand_written() -> float:
            return through(ports[1], [to_hand(home, next(serial), "/hook") for _ in range(number)])

        def easier() -> float:
            return through(ports[2], [to_hand(home, next(serial), "/easy") for _ in range(number)])

        in_turn(1, ours, hand_written, easier)  # warm
        a, b, c = in_turn(rounds, ours, hand_written, easier)
    made = "orders from delivery to mail handed over against a hand-written program"
    return [
        Row(made, median(a) / median(b), "ratio", ">= 2.0", {"orders/s": median(a), "hand-written/s": median(b)}),
        Row(f"{made} in its easier form", median(a) / median(c), "ratio", ">= 2.2", {"hand-written/s": median(c)}),
    ]


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
    from angelon.core.deliveries import digest, read_delivery

    clock = Clock()
    rows = []
    for n in numbers:
        headers, body = home.request(n)
        low = {k.lower(): v for k, v in headers.items()} | headers_too
        (event,) = read_delivery(home.source, low, body)
        id_, now = clock.new_id("dv"), utc_now()
        new = NewEvent(clock.new_id("ev"), 1, id_, f"d:{event.delivery_id}", event.name, event.type, now)
        rows.append(NewDelivery(id_, 1, now, "application/json", low, body, digest(body), (new,)))
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
    """The time from the 202 to the mail accepted, one order at a time, nothing else to do."""
    from angelon.standins.box import Box

    with tempfile.TemporaryDirectory() as folder:
        mail_port, port = free_port(), free_port()
        home = Home(folder, mail_port)
        box = Box(home.path)
        with (
            process("-m", "angelon", "standins", "--mail-port", str(mail_port), env=home.environment()),
            process("-m", "angelon", "worker", env=home.environment()),
            process("-m", "bench.app", env=home.environment(BENCH_PORT=str(port))),
        ):
            wait_for(lambda: _answers(port) and _smtp(mail_port))
            time.sleep(1.5)
            took = []
            with httpx.Client(base_url=f"http://127.0.0.1:{port}") as client:
                for n in range(number):
                    headers, body = home.request(n)
                    answer = client.post("/in/shop", content=body, headers=headers)
                    acknowledged = utc_now()
                    assert answer.status_code == 202
                    wait_for(lambda n=n: box.count_mails() > n)
                    time.sleep(0.05)
                    took.append((box.mails(1)[0].received_at - acknowledged).total_seconds() * 1000)
    took.sort()
    return [
        Row(
            "from 202 to accepted mail, idle",
            median(took),
            "ms",
            "",
            {"p95 ms": took[int(len(took) * 0.95)], "orders": number},
        )
    ]
