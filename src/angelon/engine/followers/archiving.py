"""Moves what sends said out of the database, some days after they are settled, and takes away packs that are empty."""

from __future__ import annotations

import datetime as dt
import threading
import time

import structlog

from angelon.core.problems import Invalid
from angelon.db import locks
from angelon.db.database import Database
from angelon.db.log import archive as stored
from angelon.db.upkeep import nights
from angelon.engine.archive import Archive, new_name
from angelon.engine.clock import Clock
from angelon.engine.setups import Setups

log = structlog.get_logger()

EVERY = 300.0
"""Seconds between looks whether it is time."""
HELD = dt.timedelta(minutes=10)
"""For how long a process has it, which goes on as long as there is something to move."""
IN_PACK = 500
"""Texts of one pack, of one month."""
LEFT_FOR = dt.timedelta(hours=1)
"""How long a pack that is empty stays: somebody may be reading in it."""


class Archiver:
    """One process of an installation does it at a time, once an hour, a pack after the other. Whatever is slow or away
    there keeps nothing but this waiting: what is not moved stays in the database.
    """

    def __init__(self, archive: Archive, database: Database, setups: Setups, clock: Clock) -> None:
        self._archive, self._database, self._setups, self._clock = archive, database, setups, clock
        self._next = 0.0

    def run(self, stopped: threading.Event) -> None:
        """Works until `stopped` is set."""
        while not stopped.wait(1.0):
            if time.monotonic() < self._next:
                continue
            self._next = time.monotonic() + EVERY
            try:
                self.look(stopped)
            except Exception:
                log.exception("what sends said could not be moved to the archive; trying again")

    def look(self, stopped: threading.Event | None = None) -> int:
        """Moves what is due, where this hour's turn is to be had; says how many texts."""
        now = self._clock.now()
        hour = f"{now:%Y-%m-%d %H}"
        with self._database.connection(purpose="archive") as connection:
            if not nights.take(connection, nights.ARCHIVE, hour, now, now + HELD):
                return 0
        number = 0
        try:
            for store_id in self._setups.ids():
                number += self._store(store_id, stopped)
            self._drop_empty()
        except (OSError, Invalid) as error:
            why = str(error.problems[0] if isinstance(error, Invalid) else error)
            log.warning("what sends said could not be moved to the archive; trying again in an hour", why=why[:200])
            with self._database.connection(purpose="archive") as connection:
                nights.failed(connection, nights.ARCHIVE, self._clock.now(), why)
            return number
        with self._database.connection(purpose="archive") as connection:
            nights.done(connection, nights.ARCHIVE, hour)
        if number:
            log.info("what sends said was moved to the archive", texts=number)
        return number

    def _store(self, store_id: int, stopped: threading.Event | None) -> int:
        live, number = self._setups.get(store_id), 0
        days = live.setup.store.keep.archive_days
        while days and not (stopped is not None and stopped.is_set()):
            now = self._clock.now()
            with self._database.reading() as session:
                found = stored.to_move(session.connection(), store_id, now - dt.timedelta(days=days), IN_PACK)
            if not found:
                break
            name = new_name(live.setup.store.key, found[0].send_id, f"{now:%Y-%m}")
            with self._database.connection(purpose="archive") as connection:
                pack_id = stored.begin(connection, name, now)
                nights.hold(connection, nights.ARCHIVE, now + HELD)
            places = self._archive.write(name, found)  # nobody waits for it
            with self._database.connection(locks.SWEEPING, "archive") as connection:
                moved = stored.moved(connection, pack_id, found, places)
            number += moved
            if len(found) < IN_PACK or not moved:
                break
        return number

    def _drop_empty(self) -> None:
        while True:
            with self._database.reading() as session:
                found = stored.unused(session.connection(), self._clock.now() - LEFT_FOR, IN_PACK)
            for pack_id, name in found:
                self._archive.target.drop(name)
                with self._database.connection(locks.SWEEPING, "archive") as connection:
                    stored.forget(connection, pack_id)
            if not found:
                return
