"""Takes what has changed into the search's index, a little at a time, so that nobody who writes waits for it."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

import structlog

from angelon.db import locks
from angelon.db.database import Database, is_database_failure
from angelon.db.derived import counting, searching

log = structlog.get_logger()

LONGEST = 4.0
"""Seconds that one look takes at most; the rest waits for the next."""
LATEST = 30.0
"""Seconds after which it is looked again, whatever waits to be planned."""


class Follower:
    """Looks now and then; while events wait to be planned, no more often than it has to."""

    def __init__(self, database: Database, stop: threading.Event, busy: Callable[[], bool]) -> None:
        self._database = database
        self._stop = stop
        self._busy = busy
        self._looked = time.monotonic()

    def look(self) -> int:
        """Takes what has changed into the index; says how many things that were."""
        late = time.monotonic() - self._looked > LATEST
        if self._busy() and not late:
            return 0
        taken = follow(self._database, self._stop, busy=(lambda: False) if late else self._busy)
        self._looked = time.monotonic()
        return taken


def follow(
    database: Database,
    stop: threading.Event | None = None,
    longest: float = LONGEST,
    busy: Callable[[], bool] = lambda: False,
) -> int:
    """Takes what has changed into the index, for a while, or until something else is to be done; says how many things
    that were. Where somebody was erased and nothing is left to take, their words leave the file.
    """
    until, taken = time.monotonic() + longest, 0
    while time.monotonic() < until and not busy() and not (stop is not None and stop.is_set()):
        with database.reading() as session:
            due = searching.any_due(session.connection())
            wanted = not due and searching.tidy_wanted(session.connection())
        if due:
            part = _part(database)
            if not part:
                break  # what is left is being changed at this moment (PostgreSQL)
            taken += part
        elif wanted:
            with database.connection() as connection:
                if not searching.tidy(connection):
                    searching.tidied(connection)
        else:
            break
    return taken


def fold(database: Database) -> int:
    """Adds up what was counted, where it is appended (PostgreSQL); says how many rows that took away."""
    if database.sqlite:
        return 0
    with database.connection() as connection:
        return counting.fold(connection) if locks.try_hold(connection, locks.FOLDING) else 0


def _part(database: Database) -> int:
    """Takes the next part; where something in it can't be read, one by one, and passes over what can't."""
    try:
        with database.connection() as connection:
            return searching.follow(connection)
    except Exception as error:
        if is_database_failure(error):
            raise
    taken = 0
    for _ in range(searching.AT_ONCE):
        try:
            with database.connection() as connection:
                found = searching.follow(connection, 1)
        except Exception as error:
            if is_database_failure(error):
                raise
            with database.connection() as connection:
                kind, ref = searching.pass_over(connection)
            log.warning("a thing can't be taken into the search", kind=kind, ref=ref, why=str(error)[:200])
            found = 1
        if not found:
            break
        taken += found
    return taken
