"""Keeps what a store has said to be kept, and no longer."""

from __future__ import annotations

import datetime as dt
import time

import structlog

from angelon.db import housekeeping, locks, partitions, sent_files
from angelon.db.database import Database, is_database_failure
from angelon.engine.clock import Clock
from angelon.engine.setups import Setups

log = structlog.get_logger()
EVERY = 3600.0
"""Seconds between two rounds."""
LONGEST = 20.0
"""Seconds that one look takes at most; the rest waits for the next."""


class Housekeeper:
    """Goes through the stores now and then, a little at a time."""

    def __init__(self, database: Database, setups: Setups, clock: Clock) -> None:
        self._database, self._setups, self._clock = database, setups, clock
        self._next = 0.0

    def look(self) -> dict[str, int]:
        """Takes what is due, for a while; says how much of each kind went."""
        if time.monotonic() < self._next:
            return {}
        began, gone = time.monotonic(), dict[str, int]()
        for store_id in self._setups.ids():
            while True:
                done = self._sweep(store_id)
                gone |= {what: gone.get(what, 0) + number for what, number in done.items()}
                if not any(done.values()):
                    break
                if time.monotonic() - began > LONGEST:
                    return gone
        gone["months"] = self._months()
        gone["files"] = self._files()
        self._next = time.monotonic() + EVERY
        if any(gone.values()):
            log.info("what was older than it is kept is gone", **gone)
        return gone

    def _sweep(self, store_id: int) -> dict[str, int]:
        """One part of what a store keeps no longer; a fault in it leaves that store's for the next round."""
        keep = self._setups.get(store_id).setup.store.keep
        try:
            with self._database.connection(locks.SWEEPING) as connection:
                return housekeeping.sweep(connection, store_id, keep, self._clock.now())
        except Exception as error:
            if is_database_failure(error):
                raise
            log.exception("what a store keeps no longer could not be taken away", store_id=store_id)
            return {}

    def _months(self) -> int:
        """Months of contents that no store keeps any more, where each has its own partition; says how many contents."""
        if self._database.sqlite:
            return 0
        now = self._clock.now()
        days = [self._setups.get(store_id).setup.store.keep.contents_days for store_id in self._setups.ids()]
        with self._database.connection(locks.SWEEPING) as connection:
            partitions.ahead(connection, now)
            kept = bool(days) and all(days)
            return partitions.drop(connection, now - dt.timedelta(days=max(days))) if kept else 0

    def _files(self) -> int:
        """Files that went out with what is no longer kept; says how many."""
        since = self._clock.now() - dt.timedelta(hours=1)  # what goes out while they are looked for names them again
        with self._database.reading() as session:
            found = sent_files.unused(session.connection())
        if not found:
            return 0
        with self._database.connection(locks.SWEEPING) as connection:
            return sent_files.drop(connection, found, since)
