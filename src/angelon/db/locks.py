"""What must be done by one process at a time, whichever: PostgreSQL's advisory locks, held until the transaction ends.

SQLite has one writer at a time, and needs none of them.
"""

from __future__ import annotations

import zlib
from collections.abc import Collection, Iterable
from typing import NamedTuple

from sqlalchemy import Connection, text
from sqlalchemy.exc import OperationalError


class Lock(NamedTuple):
    """`kind` is what is done, `key` what it is done to (0 for the whole installation)."""

    kind: int
    key: int = 0


INSTALLATION = Lock(0x416E6701)
"""What people change: accounts, stores, tokens."""
MIGRATIONS = Lock(0x416E6702)
FOLLOWING = Lock(0x416E6704)
"""Looking after what follows sends."""
RECOVERING = Lock(0x416E6705)
"""Taking back what workers that are gone had in hand."""
SWEEPING = Lock(0x416E6706)
"""Taking away what is old."""
CLOCK = Lock(0x416E6709)
FOLDING = Lock(0x416E670A)
SORTING = Lock(0x416E670B)
"""Putting events that wait into lanes."""
SHAPES = Lock(0x416E670C)
"""Learning what payloads look like, where several plan side by side."""
_STORE, _GATEWAY, _BODIES = 0x416E6703, 0x416E6707, 0x416E6708
_LANE, _PARCELS, _KEY, _CONTACT = 0x416E670D, 0x416E670E, 0x416E670F, 0x416E6710


def of_store(store_id: int) -> Lock:
    """Deciding what is sent: planning, runs by hand, fallbacks, changes of the set-up."""
    return Lock(_STORE, store_id)


def of_lane(lane: int) -> Lock:
    """Planning a lane's events; whoever has it shares its store's lock with those who plan other lanes."""
    return Lock(_LANE, lane)


def of_parcels(store_id: int) -> Lock:
    """Taking in what is told of parcels, where several plan side by side."""
    return Lock(_PARCELS, store_id)


def of_receipts(gateway_id: int) -> Lock:
    return Lock(_GATEWAY, gateway_id)


def of_bodies(source_id: int) -> Lock:
    """Telling whether a delivery without an id has come before."""
    return Lock(_BODIES, source_id)


NOT_IN_TIME = "55P03"
"""What PostgreSQL says of a lock that was not free in time."""
_AS_BEFORE = text("SET LOCAL lock_timeout TO DEFAULT")
_NO_LONGER = text("SELECT set_config('lock_timeout', :most, true)")
_HOLD = text("SELECT pg_advisory_xact_lock(:kind, :key)")
_TRY = text("SELECT pg_try_advisory_xact_lock(:kind, :key)")
_SHARE = text("SELECT pg_advisory_xact_lock_shared(:kind, :key)")
_ALL = text("SELECT pg_advisory_xact_lock(:kind, key) FROM unnest(CAST(:keys AS int[])) AS given(key)")


def hold(connection: Connection, lock: Lock) -> None:
    """Waits until nobody else has the lock, and has it until the transaction ends."""
    if connection.dialect.name == "postgresql":
        connection.execute(_HOLD, lock._asdict())


def hold_keys(connection: Connection, keys: Iterable[str]) -> None:
    """Waits until nobody else has any of these, and has them until the transaction ends: what events of one order, or
    of one customer, have in common. In one order whoever asks, so that no two wait for each other.
    """
    _hold_all(connection, _KEY, {zlib.crc32(key.encode()) - 2**31 for key in keys})


def hold_contacts(connection: Connection, ids: Iterable[int]) -> None:
    """The same for customers; asked for after `hold_keys`."""
    _hold_all(connection, _CONTACT, {id_ % 2**31 for id_ in ids})


def _hold_all(connection: Connection, kind: int, keys: Collection[int]) -> None:
    if keys and connection.dialect.name == "postgresql":
        connection.execute(_ALL, {"kind": kind, "keys": sorted(keys)})


def hold_within(connection: Connection, lock: Lock, seconds: float, shared: bool = False) -> bool:
    """Waits so long at most until nobody else has the lock, or all who have it share it (`shared`); says whether it has
    it until the transaction ends.
    """
    if connection.dialect.name != "postgresql":
        return True
    try:
        with connection.begin_nested():
            connection.execute(_NO_LONGER, {"most": f"{int(seconds * 1000)}ms"})
            connection.execute(_SHARE if shared else _HOLD, lock._asdict())
            connection.execute(_AS_BEFORE)
    except OperationalError as error:
        if getattr(error.orig, "sqlstate", "") != NOT_IN_TIME:
            raise
        return False
    return True


def try_hold(connection: Connection, lock: Lock) -> bool:
    """Has the lock until the transaction ends, unless another has it; says whether it has."""
    if connection.dialect.name != "postgresql":
        return True
    return bool(connection.execute(_TRY, lock._asdict()).scalar_one())
