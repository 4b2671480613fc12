"""Data folders and processes for proofs."""

from __future__ import annotations

import contextlib
import datetime as dt
import os
import random
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx

from angelon.cli.serving import free_port
from angelon.core.specs import Bundle, Gateway, Message, Route
from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.setup import bundles, live_setup, specs
from angelon.engine.clock import utc_now
from tests import made

KEY = "a-key-for-proofs-only"


class Place:
    """A data folder with a store that sends each order by email and by SMS, and the processes over it."""

    def __init__(
        self,
        folder: Path,
        url: str = "",
        change: Callable[[Bundle], Bundle] | None = None,
        ports: dict[str, int] | None = None,
        made_before: bool = False,
    ) -> None:
        """On the database at `url`, with what `change` makes of its set-up."""
        self.home = folder
        self.environment = {"ANGELON_HOME": str(folder), "ANGELON_SECRET_KEY": KEY, "ANGELON_DATABASE_URL": url}
        self.outside = Path(tempfile.mkdtemp(prefix="standins-"))
        """What the stand-ins keep: they are other parties, on other disks."""
        self.ports = ports or {name: free_port() for name in ("web", "mail", "providers")}
        self.url = f"http://127.0.0.1:{self.ports['web']}"
        self._children: dict[str, subprocess.Popen[bytes]] = {}
        self.database = Database(url or f"sqlite:///{folder / 'angelon.db'}")
        if not made_before:
            self._set_up(change)

    def go_on(self, url: str) -> None:
        """Is on another database from here on."""
        self.database.close()
        self.environment["ANGELON_DATABASE_URL"] = url
        self.database = Database(url)

    def _set_up(self, change: Callable[[Bundle], Bundle] | None) -> None:
        self.database.migrate()
        retry = {"base_seconds": 0.2, "cap_seconds": 1.0}
        gateways = [
            made.gateway(self.ports["mail"], timeout_seconds=5, retry=retry),
            Gateway.model_validate(made.provider("sms", self.ports["providers"]) | {"retry": retry}),
        ]
        message = Message.model_validate(
            made.message().model_dump(mode="json") | {"sms": {"en": {"text": "Hi {{ customer_name }}"}}}
        )
        source = made.source(reading=made.source().model_dump(mode="json")["reading"] | {"phone": "$.buyer.phone"})
        routes = [
            made.route(guards={"even_if_notified": True}),
            Route.model_validate(
                made.route().model_dump()
                | {
                    "key": "by-sms",
                    "name": "By SMS",
                    "channel": "sms",
                    "gateway": "sms",
                    "guards": {"even_if_notified": True},
                }
            ),
        ]
        bundle = Bundle(
            store=made.store(),
            sources=[source],
            variables=made.VARIABLES,
            gateways=gateways,
            messages=[message],
            routes=routes,
            live=["received", "by-sms"],
        )
        bundle = change(bundle) if change else bundle
        with self.database.writing() as session:
            bundles.apply(session, bundle, utc_now() - dt.timedelta(days=1))
            store_id = specs.stores(session)[0].id or 0
            Vault(KEY).put(
                session, "gateway", live_setup.load(session, store_id).gateway_ids["sms"], "token", utc_now()
            )

    def start(self, name: str) -> None:
        arguments = {
            "web": ["web", "--port", str(self.ports["web"])],
            "planner": ["worker", "--role", "plan"],
            "sender": ["worker", "--role", "send"],
            "stand-ins": [
                "standins",
                "--mail-port",
                str(self.ports["mail"]),
                "--provider-port",
                str(self.ports["providers"]),
            ],
        }[name]
        env = {**os.environ, **self.environment}
        if name == "stand-ins":
            env |= {"ANGELON_HOME": str(self.outside), "ANGELON_DATABASE_URL": ""}
        self._children[name] = subprocess.Popen(
            [sys.executable, "-m", "angelon", *arguments], env=env, stderr=subprocess.DEVNULL
        )

    def kill(self, name: str) -> None:
        self._children[name].kill()
        self._children[name].wait()

    def up(self, seconds: float = 30) -> bool:
        return until(lambda: _answers(f"{self.url}/healthz"), seconds)

    def post(self, client: httpx.Client, number: int) -> int:
        """The status of one order's delivery; 0 where there was no answer."""
        order = made.body(
            id=number,
            reference=f"BK-{number}",
            buyer={
                "name": "Jo",
                "email": f"p{number}@example.org",
                "phone": f"+4930{10_000_000 + number}",
                "country": "DE",
            },
        )
        try:
            return client.post(
                f"{self.url}/in/shop",
                content=order,
                headers={"Content-Type": "application/json", "Store-Event": "placed", "Store-Delivery": f"d{number}"},
            ).status_code
        except httpx.HTTPError:
            return 0

    def settled(self, seconds: float) -> bool:
        """Waits until all is planned, nothing waits for an answer, and each send has gone out or is not to."""
        left = (
            "SELECT (SELECT count(*) FROM event WHERE planned_at IS NULL OR waits_for != '') + "
            "(SELECT count(*) FROM send WHERE state NOT IN ('sent', 'delivered', 'skipped'))"
        )
        return until(lambda: self.rows(left)[0][0] == 0, seconds, 0.5)

    def keep_posting(self, stop: threading.Event, numbers: Iterator[int], accepted: set[int], every: float) -> None:
        """Delivers one order after the other until it is stopped, for a thread; `accepted` gets those acknowledged."""
        with httpx.Client(timeout=5) as client:
            while not stop.is_set():
                number = next(numbers)
                if self.post(client, number) == 202:
                    accepted.add(number)
                time.sleep(every)

    def kill_again_and_again(self, rounds: int, rng: random.Random, shortest: float, longest: float) -> list[str]:
        """Kills one process after the other and starts it anew, so many seconds apart; gives what did not come back."""
        broken = []
        for number in range(rounds):
            time.sleep(rng.uniform(shortest, longest))
            victim = rng.choice(("web", "planner", "sender"))
            self.kill(victim)
            self.start(victim)
            if number % 10 == 9 and not self.up(60):
                broken.append(f"the web process did not come back after round {number}")
        return broken

    def peaks(self) -> dict[str, int]:
        """The most memory that each process, with those that it has started, has held so far, in MiB."""
        found = {}
        for name, child in self._children.items():
            family, held = [child.pid], 0
            while family:
                pid = family.pop()
                with contextlib.suppress(OSError):
                    status = Path(f"/proc/{pid}/status").read_text()
                    held += int(status.partition("VmHWM:")[2].split()[0]) // 1024
                    family += map(int, Path(f"/proc/{pid}/task/{pid}/children").read_text().split())
            found[f"{name} at its peak, MiB"] = held
        return found

    def rows(self, sql: str) -> list[tuple]:
        with self.database.engine.connect() as connection:
            return [tuple(row) for row in connection.exec_driver_sql(sql)]

    def close(self) -> None:
        for child in self._children.values():
            child.terminate()
        for child in self._children.values():
            with contextlib.suppress(subprocess.TimeoutExpired):
                child.wait(15)
            child.kill()
        self.database.close()
        shutil.rmtree(self.outside, ignore_errors=True)


def lacking(*programs: str) -> list[str]:
    """Why a proof that is root's and runs these programs can't be run here; nothing where it can."""
    missing = [name for name in programs if not shutil.which(name, path=f"{os.environ['PATH']}:/usr/sbin")]
    if missing:
        return [f"not installed: {', '.join(missing)} (sh scripts/ensure-proof-tools.sh)"]
    return [] if os.getuid() == 0 else ["only root can run it"]


def mails_only(bundle: Bundle) -> Bundle:
    return bundle.model_copy(update={"live": ["received"]})


def _answers(url: str) -> bool:
    try:
        return httpx.get(url, timeout=1).status_code == 200
    except httpx.HTTPError:
        return False


def until(true: Callable[[], bool], seconds: float, every: float = 0.05) -> bool:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if true():
            return True
        time.sleep(every)
    return False


@contextlib.contextmanager
def place(
    folder: Path, *names: str, url: str = "", change: Callable[[Bundle], Bundle] | None = None
) -> Iterator[Place]:
    """With these processes; on the database at `url`, with what `change` makes of its set-up."""
    made_one = Place(folder, url, change)
    try:
        for name in names:
            made_one.start(name)
        yield made_one
    finally:
        made_one.close()
