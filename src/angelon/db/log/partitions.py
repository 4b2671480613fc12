"""What sends said, in a partition for each month, on PostgreSQL: made ahead, and dropped whole when nobody keeps it.

The month is that of the send's id, which begins with the time when it was made (`core/ids.py`), so the id alone says in
which partition a content is. What has another id is in the partition `content_rest`.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator

from sqlalchemy import Connection

from angelon.core.ids import first_of
from angelon.core.states import State

AHEAD = dt.timedelta(days=40)
"""How far ahead there are partitions: more than a month, so that the next one is always there."""
OPEN = (State.SCHEDULED, State.SENDING, State.RETRYING, State.HELD)
_NAME = "content_{0:%Y_%m}"


def months(first: dt.datetime, last: dt.datetime) -> Iterator[dt.datetime]:
    """The beginnings of the months (UTC) from that of one moment to that of another, both aware."""
    at = first.astimezone(dt.UTC).replace(day=1, hour=0, minute=0, second=0, microsecond=0)
    while at <= last:
        yield at
        at = _next(at)


def _next(month: dt.datetime) -> dt.datetime:
    return (month + dt.timedelta(days=32)).replace(day=1)


def cover(connection: Connection, first: dt.datetime, last: dt.datetime) -> int:
    """Makes the partitions that are missing between two moments (aware); says how many. A month of which something is
    in the rest already stays there.
    """
    if connection.dialect.name != "postgresql":
        return 0
    there, made = set(_there(connection)), 0
    for month in months(first, last):
        name, (low, high) = _NAME.format(month), _bounds(month)
        if name in there or _in_the_rest(connection, low, high):
            continue
        connection.exec_driver_sql(
            f"CREATE TABLE {name} PARTITION OF content FOR VALUES FROM ('{low}') TO ('{high}')"  # our own letters
        )
        made += 1
    return made


def ahead(connection: Connection, now: dt.datetime) -> int:
    """Makes this month's partition and the next; says how many were missing."""
    return cover(connection, now, now + AHEAD)


def drop(connection: Connection, before: dt.datetime) -> int:
    """Drops the partitions of months that ended before a moment (aware), but those with a send that is not settled;
    says how many contents that were, as the database reckons.
    """
    if connection.dialect.name != "postgresql":
        return 0
    gone = 0
    for name in _there(connection):
        month = dt.datetime.strptime(name, "content_%Y_%m").replace(tzinfo=dt.UTC)
        if _next(month) > before or _needed(connection, name):
            continue
        gone += _reckoned(connection, name)
        connection.exec_driver_sql(f"DROP TABLE {name}")
    return gone


def _bounds(month: dt.datetime) -> tuple[str, str]:
    return first_of("sd", month), first_of("sd", _next(month))


def _there(connection: Connection) -> list[str]:
    rows = connection.exec_driver_sql(
        "SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid "
        "WHERE i.inhparent = 'content'::regclass AND c.relname != 'content_rest' ORDER BY 1"
    )
    return [name for (name,) in rows]


def _in_the_rest(connection: Connection, low: str, high: str) -> bool:
    found = connection.exec_driver_sql(
        f"SELECT 1 FROM content_rest WHERE send_id >= '{low}' AND send_id < '{high}' LIMIT 1"  # noqa: S608 - our own
    )
    return found.first() is not None


def _needed(connection: Connection, name: str) -> bool:
    states = ", ".join(f"'{state.value}'" for state in OPEN)
    query = f"SELECT 1 FROM {name} c JOIN send s ON s.id = c.send_id WHERE s.state IN ({states}) LIMIT 1"  # noqa: S608
    return connection.exec_driver_sql(query).first() is not None


def _reckoned(connection: Connection, name: str) -> int:
    rows = connection.exec_driver_sql(f"SELECT reltuples FROM pg_class WHERE relname = '{name}'")  # noqa: S608
    return max(0, int(rows.scalar_one()))
