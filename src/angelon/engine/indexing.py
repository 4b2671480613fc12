"""Takes what has changed into the search's index, a little at a time, so that nobody who writes waits for it."""

from __future__ import annotations

import threading
import time

from angelon.db import searching
from angelon.db.database import Database

LONGEST = 4.0
"""Seconds that one look takes at most; the rest waits for the next."""


def follow(database: Database, stop: threading.Event | None = None, longest: float = LONGEST) -> int:
    """Takes what has changed into the index, for a while; says how many things that were. Where somebody was erased and
    nothing is left to take, their words leave the file.
    """
    until, taken = time.monotonic() + longest, 0
    while time.monotonic() < until and not (stop is not None and stop.is_set()):
        with database.reading() as session:
            due = searching.any_due(session.connection())
            wanted = not due and searching.tidy_wanted(session.connection())
        if due:
            with database.connection() as connection:
                taken += searching.follow(connection)
        elif wanted:
            with database.connection() as connection:
                if not searching.tidy(connection):
                    searching.tidied(connection)
        else:
            break
    return taken
