"""A clock that is put on or back: noticed by the machine's running time, and what waits is moved along."""

from __future__ import annotations

import datetime as dt
import time

import structlog

from angelon.db import locks
from angelon.db.database import Database
from angelon.db.upkeep import clock_jumps
from angelon.engine.clock import Clock

log = structlog.get_logger()

NOTICED = dt.timedelta(seconds=20)
"""A jump that matters: longer than a sign of life may be old."""


class ClockWatch:
    """Compares the clock with the machine's running time, from one look to the next."""

    def __init__(self, database: Database, clock: Clock) -> None:
        self._database = database
        self._clock = clock
        self._last: tuple[dt.datetime, float] | None = None

    def look(self) -> bool:
        """Says whether the clock was put back, and what waits moved along with it.

        A clock that was put back while no worker ran shows in signs of life from the future.
        """
        now, running = self._clock.now(), time.monotonic()
        first = self._last is None
        if self._last is None:
            with self._database.reading() as session:
                latest = clock_jumps.latest_beat(session.connection())
            back = latest - now if latest is not None else dt.timedelta()
        else:
            back = self._last[0] + dt.timedelta(seconds=running - self._last[1]) - now
        self._last = (now, running)
        if back < NOTICED:
            if back < -NOTICED and not first:
                log.warning("the clock was put on", seconds=-back.total_seconds())
            return False
        with self._database.connection(locks.CLOCK) as connection:
            moved = clock_jumps.put_back(connection, now, back)
        log.warning("the clock was put back; what waits was moved along", seconds=back.total_seconds(), moved=moved)
        return True
