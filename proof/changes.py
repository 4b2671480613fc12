"""What an operator does while orders come in: a start over a backlog, restarts, upgrades, and moves to the other
database and back. Nothing that was acknowledged is lost, each order is told once, and but for the cut of a move nothing
is refused.
"""

from __future__ import annotations

import contextlib
import itertools
import json
import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import httpx
import psycopg

from angelon.db.log import events
from angelon.db.records import NewDelivery, NewEvent
from angelon.db.setup import live_setup, specs
from angelon.engine.clock import Clock
from cluster.postgresql import temporary
from proof.places import Place, mails_only, until
from tests import made

SOURCE = Path(__file__).resolve().parent.parent
VERSIONS = SOURCE / "src/angelon/db/migrations/versions"
RATE = 50
"""Deliveries a second, meanwhile."""


class _Shop:
    """Delivers orders at an even rate, and again what was not taken, as a shop does."""

    def __init__(self, here: Place) -> None:
        self.here, self.taken = here, set[int]()
        self.answers: Counter[int] = Counter()
        self._numbers, self._lock = itertools.count(1_000_000), threading.Lock()
        self._stop, self._given_up = threading.Event(), threading.Event()
        self._threads = [threading.Thread(target=self._deliver) for _ in range(8)]
        self._next = time.monotonic()

    def _deliver(self) -> None:
        with httpx.Client(timeout=20) as client:
            while not self._stop.is_set():
                with self._lock:
                    number, at = next(self._numbers), self._next
                    self._next += 1 / RATE
                time.sleep(max(0.0, at - time.monotonic()))
                until_ = time.monotonic() + 300
                while time.monotonic() < until_ and not self._given_up.is_set():
                    status = self.here.post(client, number)
                    with self._lock:
                        self.answers[status] += 1
                    if status in (200, 202):
                        self.taken.add(number)
                        break
                    time.sleep(0.5)

    def refused(self) -> dict[int, int]:
        return {status: times for status, times in self.answers.items() if status not in (200, 202)}

    def __enter__(self) -> _Shop:
        self._next = time.monotonic()
        for thread in self._threads:
            thread.start()
        return self

    def __exit__(self, *error: object) -> None:
        """Ends; once more is as once."""
        self._stop.set()
        if any(error):
            self._given_up.set()
        for thread in self._threads:
            thread.join()


@contextlib.contextmanager
def _served(here: Place, **environment: str) -> Iterator[subprocess.Popen[bytes]]:
    """`angelon serve` over a place, ready."""
    env = {**os.environ, **here.environment, **environment}
    program = [sys.executable, "-m", "angelon", "serve", "--port", str(here.ports["web"])]
    with Path(here.home.parent / "serve.log").open("ab") as log:
        child = subprocess.Popen(program, env=env, stdout=log, stderr=log)
    try:
        if not here.up(60):
            raise TimeoutError("it does not start")
        yield child
    finally:
        child.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            child.wait(30)
        child.kill()


TAKEN = (
    "SELECT s.recipient, count(*) FROM attempt a JOIN send s ON s.id = a.send_id "
    "WHERE a.outcome = 'accepted' AND s.channel = 'email' GROUP BY s.recipient"
)
"""How often a mail server has taken one for somebody; the mailbox itself keeps the newest alone."""


def _told(here: Place, taken: set[int]) -> list[str]:
    """What is not as it should be once all is settled: each order that was taken has one mail, and nobody has two."""
    broken = (
        [] if here.settled(400) else [f"not all was sent: {here.rows('SELECT state, count(*) FROM send GROUP BY 1')}"]
    )
    mails = dict(here.rows(TAKEN))
    missing = [number for number in taken if not mails.get(f"p{number}@example.org")]
    twice = [to for to, times in mails.items() if times > 1]
    if missing:
        broken.append(f"{len(missing)} orders that were taken were not told: {missing[:4]}")
    if twice:
        broken.append(f"{len(twice)} got two mails: {twice[:4]}")
    return broken


def backlog(waiting: int = 20_000) -> tuple[dict[str, int], list[str]]:
    """A start over so many events that wait to be planned: it starts, and takes what comes in meanwhile."""
    with tempfile.TemporaryDirectory() as folder:
        (home := Path(folder) / "home").mkdir()
        here = Place(home, change=mails_only)
        try:
            here.start("stand-ins")
            _fill(here, waiting)
            began = time.monotonic()
            with _served(here):
                up = time.monotonic() - began
                with _Shop(here) as shop:
                    until(lambda: here.rows("SELECT count(*) FROM event WHERE planned_at IS NULL")[0][0] == 0, 400, 1)
                took = time.monotonic() - began
                broken = _told(here, shop.taken | set(range(1, waiting + 1)))
            if shop.refused():
                broken.append(f"refused: {shop.refused()}")
        finally:
            here.close()
    counts = {"waited": waiting, "ready after ms": int(up * 1000), "planned after s": int(took)}
    return counts | {"taken meanwhile": len(shop.taken)}, broken


def _fill(here: Place, number: int) -> None:
    """Stores deliveries as intake does, with nobody to plan them."""
    clock = Clock()
    with here.database.reading() as session:
        live = live_setup.load(session, specs.stores(session)[0].id or 0)
    rows = []
    for n in range(1, number + 1):
        now = clock.now()
        buyer = {"name": "Jo", "email": f"p{n}@example.org", "phone": f"+4930{10_000_000 + n}", "country": "DE"}
        body = made.body(id=n, reference=f"BK-{n}", buyer=buyer)
        id_ = clock.new_id("dv", now)
        event = NewEvent(
            clock.new_id("ev", now), live.source_ids["shop"], id_, f"d:{n}", "placed", "order.created", now
        )
        rows.append(NewDelivery(id_, event.source_id, now, "application/json", {}, body, (event,)))
    with here.database.connection() as connection:
        for begin in range(0, number, 500):
            events.add(connection, rows[begin : begin + 500])


def restarts(times: int = 4, seconds: float = 12) -> tuple[dict[str, int], list[str]]:
    """Restarts; and upgrades from the code that was there before each of the last migrations."""
    counts, broken = {"restarts": times, "upgrades": 0, "taken": 0, "refused": 0}, []
    codes: list[tuple[str, Path | None]] = [("restart", SOURCE)]
    codes += [(f"upgrade over {one.stem}", None) for one in sorted(VERSIONS.glob("0*.py"))[-3:]]
    for what, code in codes:
        with tempfile.TemporaryDirectory() as folder:
            if code is None and not _code_before(what[-4:], Path(folder)):
                broken.append(f"{what}: the code before it is not in this clone")
                continue
            taken, refused, wrong = _renewed(
                Path(folder), code or Path(folder) / "before", times if code else 1, seconds
            )
        counts["upgrades"] += code is None
        counts["taken"] += taken
        counts["refused"] += sum(refused.values())
        broken += [f"{what}: {one}" for one in wrong] + ([f"{what}: refused {refused}"] if refused else [])
    return counts, broken


def _code_before(version: str, folder: Path) -> bool:
    """Unpacks the code as it was before a migration, as `before`; says whether this clone has it."""
    git = ("git", "-C", str(SOURCE))
    path = f"src/angelon/db/migrations/versions/{version}.py"
    added = subprocess.run([*git, "log", "--diff-filter=A", "--format=%H", "--", path], capture_output=True, text=True)
    if not added.stdout.strip():
        return False
    packed = subprocess.run([*git, "archive", f"{added.stdout.split()[-1]}~1"], capture_output=True)
    (folder / "before").mkdir()
    done = subprocess.run(["tar", "-x", "-C", str(folder / "before")], input=packed.stdout, check=False)
    return packed.returncode == done.returncode == 0


MAKES = """
import json, pathlib, sys
from proof.places import Place
print(json.dumps(Place(pathlib.Path(sys.argv[1])).ports))
"""


def _renewed(folder: Path, code: Path, times: int, seconds: float) -> tuple[int, dict[int, int], list[str]]:
    """How many deliveries were taken, and how many answers were others, while this code is followed by today's, so many
    times; and what is wrong at the end.
    """
    home, installed = folder / "home", folder / "installed"
    home.mkdir()
    installed.symlink_to(code)
    env = {**os.environ, "PYTHONPATH": f"{installed}/src:{installed}"}
    made_by = [sys.executable, "-c", MAKES, str(home)]
    out = subprocess.run(made_by, env=env, cwd=installed, check=True, capture_output=True, text=True).stdout
    here = Place(home, ports=json.loads(out.splitlines()[-1]), made_before=True)
    try:
        here.start("stand-ins")
        with _served(here, PYTHONPATH=f"{installed}/src") as serving, _Shop(here) as shop:
            for _ in range(times):
                time.sleep(seconds / 2)
                installed.unlink()
                installed.symlink_to(SOURCE)  # as who installs a new version does
                migrate = [sys.executable, "-m", "angelon", "migrate"]
                done = subprocess.run(migrate, env=env | here.environment, capture_output=True, text=True)
                assert done.returncode == 0, done.stdout + done.stderr
                serving.send_signal(signal.SIGHUP)
                time.sleep(seconds)
            shop.__exit__()
            return len(shop.taken), shop.refused(), _told(here, shop.taken)
    finally:
        here.close()


LATE = (
    "INSERT INTO contact (store_id, identity, name, email, phone, country, language, first_seen) "
    "SELECT id, 'late', 'Late', '', '', '', '', 0 FROM store"
)


def moves() -> tuple[dict[str, int], list[str]]:
    """From SQLite to PostgreSQL and back while orders come in, with transactions that began before and commit late."""
    own = Path(tempfile.mkdtemp(prefix="angelon-postgresql-"))
    with tempfile.TemporaryDirectory() as folder, temporary(own, durable=True) as server:
        (home := Path(folder) / "home").mkdir()
        here = Place(home, change=mails_only)
        address = server.create("moved")
        back = f"sqlite:///{Path(folder) / 'back.db'}"
        try:
            here.start("stand-ins")
            with _Shop(here) as shop:
                broken = _moved(here, address)
                with psycopg.connect(address.replace("+psycopg", "")) as late, _served(here):
                    time.sleep(5)
                    late.execute(LATE)
                    threading.Timer(1.5, late.commit).start()
                    broken += _move(here, back)
                with _served(here):
                    time.sleep(5)
                    shop.__exit__()
                    broken += _told(here, shop.taken)
                    if here.rows("SELECT count(*) FROM contact WHERE identity = 'late'") != [(1,)]:
                        broken.append("what was committed during the move is lost")
        finally:
            here.close()
    if set(shop.refused()) - {0, 503}:
        broken.append(f"refused otherwise than for the moment: {shop.refused()}")
    return {"moves": 2, "taken": len(shop.taken), "asked to come again": sum(shop.refused().values())}, broken


def _moved(here: Place, to: str) -> list[str]:
    with _served(here):
        time.sleep(5)
        return _move(here, to)


def _move(here: Place, to: str) -> list[str]:
    """Moves what is in use; the place is on the new database from then on."""
    command = [sys.executable, "-m", "angelon", "move", to]
    done = subprocess.run(command, env={**os.environ, **here.environment}, capture_output=True, text=True)
    if done.returncode:
        return [f"the move failed: {done.stdout[-500:]}{done.stderr[-500:]}"]
    here.go_on(to)
    return []
