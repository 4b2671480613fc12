"""What is done once a night, or once an hour, for the whole installation: which was done last, who is at it, why it
failed.
"""

from __future__ import annotations

import datetime as dt

from sqlalchemy import Connection, or_, select, update
from sqlalchemy.dialects import postgresql, sqlite

from angelon.db.tables import NightlyRow, table_of

NIGHT = table_of(NightlyRow)
EXPORT, ARCHIVE = "export", "archive"
AGAIN = dt.timedelta(hours=1)
"""After which what failed is tried again, by whichever process looks first."""

GIVEN_UP = dt.timedelta(minutes=15)
"""How long after its time has come what failed is not tried again by anybody who still does it."""


def take(connection: Connection, name: str, day: str, now: dt.datetime, until: dt.datetime) -> bool:
    """Takes a day's work for oneself until a moment; False where it is done, somebody is at it, or it failed lately."""
    dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
    connection.execute(dialect.insert(NIGHT).values(name=name).on_conflict_do_nothing())
    free = or_(NIGHT.c.held_until.is_(None), NIGHT.c.held_until <= now)
    taken = update(NIGHT).where(NIGHT.c.name == name, NIGHT.c.day != day, free).values(held_until=until)
    return connection.execute(taken).rowcount == 1


def hold(connection: Connection, name: str, until: dt.datetime) -> None:
    """Goes on with it until a moment."""
    connection.execute(update(NIGHT).where(NIGHT.c.name == name).values(held_until=until))


def done(connection: Connection, name: str, day: str) -> None:
    connection.execute(update(NIGHT).where(NIGHT.c.name == name).values(day=day, held_until=None, problem=""))


def failed(connection: Connection, name: str, now: dt.datetime, why: str) -> None:
    values = {"held_until": now + AGAIN, "problem": why[:500]}
    connection.execute(update(NIGHT).where(NIGHT.c.name == name).values(**values))


def is_done(connection: Connection, name: str, day: str) -> bool:
    return connection.execute(select(NIGHT.c.day).where(NIGHT.c.name == name)).scalar() == day


def problems(connection: Connection, now: dt.datetime) -> dict[str, str]:
    """Why each failed last, by name; without those that did not, and that nobody tries any more: they are not set up
    now.
    """
    tried = (NIGHT.c.problem != "", NIGHT.c.held_until >= now - GIVEN_UP)
    return {name: why for name, why in connection.execute(select(NIGHT.c.name, NIGHT.c.problem).where(*tried))}
