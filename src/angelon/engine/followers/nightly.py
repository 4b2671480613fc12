"""Each night what has come in and gone out is written as files of rows, by a process of its own."""

from __future__ import annotations

import datetime as dt
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from typing import IO

import structlog

from angelon.db.database import Database
from angelon.db.upkeep import nights
from angelon.engine.clock import Clock

log = structlog.get_logger()
HELD = dt.timedelta(minutes=10)
"""For how long a process has it, which goes on as long as it runs: where it dies, another begins after that."""
LOOK = 60.0
"""Seconds between two looks for whether it is done or has failed, once its time has come."""


@dataclass(frozen=True)
class Wanted:
    """Where to (a folder, or an object store), as what, from when on each day (UTC), and for how many days."""

    to: str
    form: str
    at: dt.time
    keep: int


class Nightly:
    """Starts the process once a day, and looks how it ended: one process of an installation does, others see that it
    has. What it writes to, which may be slow, is asked by that process alone.
    """

    def __init__(self, wanted: Wanted, database: Database, clock: Clock) -> None:
        self._wanted, self._database, self._clock = wanted, database, clock
        self._day: dt.date | None = None
        """The day that is done, or was begun here."""
        self._next = 0.0
        self._held = clock.now()
        self._running: subprocess.Popen[bytes] | None = None
        self._said: IO[bytes] | None = None

    def look(self) -> None:
        now = self._clock.now().astimezone(dt.UTC)
        if self._running is not None:
            self._look_at(self._running, now)
        elif now.date() != self._day and now.time() >= self._wanted.at and time.monotonic() >= self._next:
            self._next = time.monotonic() + LOOK
            with self._database.reading() as session:
                if nights.is_done(session.connection(), nights.EXPORT, str(now.date())):
                    self._day = now.date()
                    return
            with self._database.connection(purpose="nightly export") as connection:
                taken = nights.take(connection, nights.EXPORT, str(now.date()), now, now + HELD)
            if taken:
                self._begin(now)

    def _begin(self, now: dt.datetime) -> None:
        options = ["--as", self._wanted.form, "--keep", str(self._wanted.keep), "--once"]
        command = [sys.executable, "-m", "angelon", "data", self._wanted.to, *options]
        self._said, self._held = tempfile.TemporaryFile(), now + HELD  # noqa: SIM115 - read when the process has ended
        self._running = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=self._said)  # noqa: S603 - our own
        self._day = now.date()

    def _look_at(self, running: subprocess.Popen[bytes], now: dt.datetime) -> None:
        code = running.poll()
        if code is None:
            if self._held - now < HELD / 2:
                self._held = now + HELD
                with self._database.connection(purpose="nightly export") as connection:
                    nights.hold(connection, nights.EXPORT, self._held)
            return
        said = self._last_lines() if code else []
        why = said[-1].removeprefix("Error: ") if said else f"its process ended with {code}"
        with self._database.connection(purpose="nightly export") as connection:
            if code:
                nights.failed(connection, nights.EXPORT, now, why)
            else:
                nights.done(connection, nights.EXPORT, str(self._day))
        self._running = None
        if code:
            self._day = None
            log.error("the nightly export failed; trying again in an hour", to=self._to, why=why, said=said)
        else:
            log.info("the nightly export is written", to=self._to)

    def _last_lines(self) -> list[str]:
        """The last that the process said; the very last is why it ended."""
        if self._said is None:
            return []
        self._said.seek(0)
        return self._said.read()[-4000:].decode(errors="replace").strip().splitlines()[-20:]

    def stop(self) -> None:
        if self._running is not None:
            self._running.terminate()

    @property
    def _to(self) -> str:
        return self._wanted.to.partition("?")[0]
