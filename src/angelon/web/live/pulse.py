"""Notices that the database has changed, whoever changed it: one look for all who wait."""

from __future__ import annotations

import threading
import time

import structlog

from angelon.db.database import Database

log = structlog.get_logger()
LOOKS_EVERY = 0.7
"""Seconds between two looks."""
ENDS_AFTER = 30.0
"""Seconds without anybody who waits, after which nobody looks any more."""


class Pulse:
    """A number that grows whenever another connection has committed something. For use by many threads."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._changed = threading.Condition()
        self._version = 0
        self._asked_at = 0.0
        self._looking = False

    @property
    def version(self) -> int:
        return self._version

    def wait(self, seen: int, seconds: float) -> int:
        """The number, as soon as it is another than `seen`; at the latest after so many seconds."""
        with self._changed:
            self._asked_at = time.monotonic()
            if not self._looking:
                self._looking = True
                threading.Thread(target=self._look, name="pulse", daemon=True).start()
            self._changed.wait_for(lambda: self._version != seen, seconds)
            self._asked_at = time.monotonic()
            return self._version

    def _look(self) -> None:
        try:
            with self._database.engine.connect() as connection:
                known: object = None
                while time.monotonic() - self._asked_at < ENDS_AFTER:
                    if self._database.sqlite:
                        found: object = connection.exec_driver_sql("PRAGMA data_version").scalar()
                        connection.rollback()
                    else:
                        found = int(time.monotonic() / 2)  # another database is looked at every two seconds
                    if known is not None and found != known:
                        with self._changed:
                            self._version += 1
                            self._changed.notify_all()
                    known = found
                    time.sleep(LOOKS_EVERY)
        except Exception as error:
            log.warning("nobody looks for changes just now", why=str(error)[:200])
        finally:
            self._looking = False
