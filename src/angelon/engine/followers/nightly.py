"""Each night what has come in and gone out is written as files of rows, by a process of its own."""

from __future__ import annotations

import datetime as dt
import subprocess
import sys
import time
from dataclasses import dataclass

import structlog

from angelon.engine.clock import Clock

log = structlog.get_logger()
AGAIN = 3600.0
"""Seconds after which one that failed is tried again."""


@dataclass(frozen=True)
class Wanted:
    """Where to (a folder, or an object store), as what, from when on each day (UTC), and for how many days."""

    to: str
    form: str
    at: dt.time
    keep: int


class Nightly:
    """Starts the process once a day, and looks how it ended. What it writes to, which may be slow, is asked by that
    process alone.
    """

    def __init__(self, wanted: Wanted, clock: Clock) -> None:
        self._wanted, self._clock = wanted, clock
        self._day: dt.date | None = None
        """The day that was last begun."""
        self._next = 0.0
        self._running: subprocess.Popen[bytes] | None = None

    def look(self) -> None:
        if self._running is not None:
            code = self._running.poll()
            if code is None:
                return
            self._running = None
            if code:
                self._day, self._next = None, time.monotonic() + AGAIN
                log.error("the nightly export failed; trying again in an hour", to=self._said, code=code)
            else:
                log.info("the nightly export is written", to=self._said)
            return
        now = self._clock.now().astimezone(dt.UTC)
        if now.date() == self._day or now.time() < self._wanted.at or time.monotonic() < self._next:
            return
        options = ["--as", self._wanted.form, "--keep", str(self._wanted.keep), "--once"]
        command = [sys.executable, "-m", "angelon", "data", self._wanted.to, *options]
        try:
            self._running = subprocess.Popen(command, stdout=subprocess.DEVNULL)  # noqa: S603 - our own
        except OSError:
            self._next = time.monotonic() + AGAIN
            raise
        self._day = now.date()

    def stop(self) -> None:
        if self._running is not None:
            self._running.terminate()

    @property
    def _said(self) -> str:
        return self._wanted.to.partition("?")[0]
