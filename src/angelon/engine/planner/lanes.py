"""Lanes: behind a backlog several processes plan one store's events side by side, on PostgreSQL.

What waits is put into lanes by the order that it is about; a lane is planned by one process at a time, and in the order
of arrival. That an order's events, or a customer's, never meet in two lanes is not left to that: whoever plans a lane
holds what its events have in common with others (`Batch`), and shares the store's lock, so that whoever decides for the
whole store waits for all lanes.
"""

from __future__ import annotations

import time
from collections.abc import Collection, Mapping, Sequence
from typing import Any

import structlog
from sqlalchemy import Connection

from angelon.core.payload.body import NotReadable
from angelon.core.planning.awaiting import identifying
from angelon.core.planning.lanes import LANES, lane_of
from angelon.core.reading import read
from angelon.core.specs.source import Source
from angelon.db import locks
from angelon.db.database import Database, is_database_failure
from angelon.db.log import events, sends
from angelon.db.log.events import Part, Rows
from angelon.db.log.orders import references
from angelon.db.rows import DeliveryRecord, EventRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.event_reader import parts_of, within_bytes
from angelon.engine.clock import Clock
from angelon.engine.setups import Setups

log = structlog.get_logger()

AT_ONCE = 640
"""Events that are put into lanes at a time."""
WORTH = 100
"""Events that have to wait for it: fewer are planned by one process as quickly."""
LOOKED_EVERY = 2.0
"""Seconds between looks at how many processes plan."""


class Lanes:
    """What one process does of it. For one thread."""

    def __init__(self, database: Database, setups: Setups, clock: Clock) -> None:
        self._database = database
        self._setups = setups
        self._clock = clock
        self._narrow: dict[int, tuple[Source, Source]] = {}
        self._next = 0
        self._looked = 0.0
        self._several = False

    def are_of_use(self) -> bool:
        """Whether several processes plan, on a database where several may write."""
        if not self._database.sqlite and time.monotonic() - self._looked > LOOKED_EVERY:
            self._looked = time.monotonic()
            with self._database.reading() as session:
                self._several = sends.at_work(session, sends.PLANS, self._clock.now()) > 1
        return self._several

    def waiting(self, connection: Connection) -> list[int]:
        """The lanes in which events wait, the one that comes next first."""
        found = events.lanes_waiting(connection, self._clock.now())
        return sorted(found, key=lambda lane: (lane - self._next) % LANES)

    def take(self, connection: Connection, waiting: Sequence[int], seconds: float) -> int | None:
        """One of these lanes that nobody else plans, the first such; where others plan all of them, the first is waited
        for, so long at most. Held until the transaction ends.
        """
        for lane in waiting:
            if locks.try_hold(connection, locks.of_lane(lane)):
                self._next = lane + 1
                return lane
        first = locks.of_lane(waiting[0])
        return waiting[0] if locks.hold_within(connection, first, seconds) else None

    def events_of(self, connection: Connection, lane: int, most: int, seconds: float) -> list[EventRecord]:
        """A lane's next events of one store, of which nobody decides as a whole just now; held."""
        without = self._setups.unreadable_sources()
        rows = events.unplanned(connection, self._clock.now(), most, without, Rows.ALL, Part.LANE, lane)
        if not rows:
            return []
        store_id = self._store_of(rows[0])
        if not locks.hold_within(connection, locks.of_store(store_id), seconds, shared=True):
            return []
        rows = events.unplanned(connection, self._clock.now(), most, without, Rows.HELD, Part.LANE, lane)
        return [row for row in rows if self._store_of(row) == store_id]

    def sort(self, without: Collection[int], worth: int = 1) -> list[EventRecord]:
        """Puts the oldest events that wait into their lanes, unless another does so just now, or they are fewer than
        it is worth.
        """
        with self._database.connection(purpose="sorting") as connection:
            if not locks.try_hold(connection, locks.SORTING):
                return []
            # what another holds is left out: so nobody waits here, and nobody for what waits here
            rows = events.unplanned(connection, self._clock.now(), AT_ONCE, without, Rows.FREE, Part.UNSORTED)
            if len(rows) < worth:
                return []
            rows = list(within_bytes(events.sizes(connection, {row.delivery_id for row in rows}), rows))
            deliveries = events.deliveries(connection, {row.delivery_id for row in rows if row.order_id is None})
            orders = references(connection, {row.order_id for row in rows if row.order_id is not None})
            events.sort(connection, {row.id: self._lane(row, deliveries, orders) for row in rows})
        return rows

    def _lane(
        self, row: EventRecord, deliveries: Mapping[str, DeliveryRecord], orders: Mapping[int, tuple[int, str]]
    ) -> int:
        live = self._setups.of_source(row.source_id)
        family = live.families.get(row.source_id)
        if family is not None:  # they may call one order differently
            return lane_of(f"{min(family[1])}")
        source = live.setup.sources.get(live.source_key(row.source_id))
        if source is None or identifying(source):  # only an answer says what it is about
            return lane_of(f"{row.source_id}")
        known = orders.get(row.order_id or 0)
        if known is not None:
            return lane_of(f"{known[0]} {known[1]}")
        delivery = deliveries.get(row.delivery_id)
        reference = self._reference(live, source, row, delivery) if delivery is not None else ""
        return lane_of(f"{row.source_id} {reference or row.parent_id or row.id}")

    def _reference(self, live: LiveSetup, source: Source, row: EventRecord, delivery: DeliveryRecord) -> str:
        """The reference of the order that an event is about; empty where it can't be read, which its planning says."""
        try:
            payload: Any = parts_of(source, delivery.body, delivery.content_type, delivery.headers or {})[row.item]
            return read(self._narrowed(source), live.setup.store, payload, live.setup.tables).reference[:200]
        except (NotReadable, LookupError):
            return ""
        except Exception as error:
            if is_database_failure(error):
                raise
            log.info("an event could not be put into its order’s lane", event_id=row.id, why=type(error).__name__)
            return ""

    def _narrowed(self, source: Source) -> Source:
        """A source that reads nothing but which order an event is about."""
        held = self._narrow.get(id(source))
        if held is None or held[0] is not source:
            only = {part: recipe for part, recipe in source.reading.items() if part == "reference"}
            held = self._narrow[id(source)] = source, source.model_copy(update={"reading": only})
        return held[1]

    def _store_of(self, row: EventRecord) -> int:
        return self._setups.of_source(row.source_id).store_id
