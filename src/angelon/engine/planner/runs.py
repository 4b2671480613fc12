"""Takes events that wait, a batch at a time: each is planned exactly once, its sends, its order's new state and
`planned_at` in one transaction.
"""

from __future__ import annotations

import datetime as dt
import enum
import time
from collections import Counter
from collections.abc import Callable, Collection, Sequence

import structlog
from sqlalchemy import Connection

from angelon.core.planning.lanes import LANES
from angelon.db import locks
from angelon.db.database import Database, is_database_failure
from angelon.db.log import events as event_queries
from angelon.db.log.events import Rows
from angelon.db.rows import EventRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine import counters
from angelon.engine.arrivals.event_reader import Payloads, Readings, within_bytes
from angelon.engine.clock import Clock
from angelon.engine.planner.batch import Batch, Learned, ReadEvent, learn
from angelon.engine.planner.faults import describe_fault
from angelon.engine.planner.lanes import AT_ONCE, WORTH, Lanes
from angelon.engine.planner.texts import compile_texts
from angelon.engine.planner.turns import Turns
from angelon.engine.setups import Setups

log = structlog.get_logger()

BATCH_SECONDS = 0.05
"""How long planning a batch may keep others from writing: on SQLite, where one writes at a time."""
BATCH_SECONDS_OF_A_STORE = 0.25
"""The same on PostgreSQL, where it keeps only those who decide for the same store."""
FIRST_SECONDS = 2.0
"""How long what goes first waits for those who plan lanes of the same store: they end, and none begins."""
MOST_STORES = 5
"""Stores with events that wait which are looked at before those who plan for them are waited for."""
LEAST, MOST = 8, 200
"""Events in a batch."""
IN_LANE = 40
"""Events of a lane that are planned in one transaction."""
LEARNED_EVERY, MOST_UNLEARNED = 1.0, 300
"""Seconds between two times of learning what payloads look like, and payloads that wait for it at most."""
PIECE = 25
"""Events of a batch that are planned before the time is looked at: the rest of a slow batch is left for the next."""


class Round(enum.Enum):
    """Whose batch is next behind a backlog: in turn, that in the order of arrival, and that of what goes first."""

    NEXT = "the order of arrival"
    ANY = "what follows from that batch, then what goes first"
    FOLLOWERS = "what follows from what went first"


class Planner:
    """Plans what waits. An event that can't be planned is set aside with its problem; its neighbours are planned."""

    def __init__(
        self,
        database: Database,
        setups: Setups,
        clock: Clock,
        base_url: str = "",
        planned_at: Callable[[EventRecord], dt.datetime] | None = None,
        readings: Readings | None = None,
    ) -> None:
        """`planned_at` says for an event when it counts as planned; by the clock where it is not given. `readings` are
        shared with whoever calls handlers in the same process.
        """
        self._readings = readings or Readings()
        self._base_url = base_url
        self._database = database
        self._setups = setups
        self._clock = clock
        self._planned_at = planned_at or (lambda row: clock.now())
        self._payloads = Payloads()
        self._batch_size = 2 * LEAST
        self._ahead: dict[str, tuple[LiveSetup, ReadEvent]] = {}
        self._turns = Turns(database, setups, clock)
        self._lanes = Lanes(database, setups, clock)
        self._unlearned: list[Learned] = []
        self._learned_at = 0.0
        self._first = Round.NEXT
        self.has_backlog = False
        """Whether more waited than the last batch took."""
        self.asked = False
        """Whether inquiries were made; whoever looks at that sets it back."""
        self.rate = 0.0
        """Events that are planned in a second, while events wait."""
        self._passed: frozenset[int] = frozenset()
        """Sources that have had their turn and have more: the next batch is the others', as far as they have any."""

    def run_batch(self, limit: int | None = None) -> tuple[int, int]:
        """Plans up to `limit` events that wait; gives how many, and how many sends came of them.

        Without a limit it plans as many as are likely to take BATCH_SECONDS: while it plans, nobody else can write,
        and deliveries that come in wait for it.
        """
        began = time.monotonic()
        done = (self._run_first() if limit is None else None) or self._run_next(limit)
        if done[0]:
            counters.planned(*done, time.monotonic() - began)
            rate = done[0] / max(1e-6, time.monotonic() - began)
            self.rate += (rate - self.rate) * (0.05 if self.rate else 1)
        self._learn(bool(done[0]))
        return done

    def _learn(self, more: bool) -> None:
        """Takes what came in into the shapes of its sources, many payloads at a time: once no `more` waits, and now and
        then. It is no part of planning, and holds up nothing of it; what is not learned when a process ends is never
        learned.
        """
        late = time.monotonic() - self._learned_at > LEARNED_EVERY or len(self._unlearned) >= MOST_UNLEARNED
        if not self._unlearned or (more and not late):
            return
        self._learned_at = time.monotonic()
        came, self._unlearned = self._unlearned, []
        try:
            with self._database.connection(locks.SHAPES, "learning") as connection:
                learn(connection, came)
        except Exception:
            log.exception("what payloads look like could not be learned from these", payloads=len(came))

    def _run_first(self) -> tuple[int, int] | None:
        """Plans what goes first where more waits than a batch: after each batch in the order of arrival one of these,
        with what follows from either before it. None where that is nothing, or not its turn.
        """
        if self._first is Round.NEXT:
            return None
        with self._database.reading() as session:
            connection = session.connection()
            rows: Sequence[EventRecord] = event_queries.followers(connection, self._turns.roots, self._batch_size)
            following = bool(rows)
            if not following and self._first is Round.ANY:
                ids = self._turns.first(self._batch_size)
                rows = event_queries.still_waiting(connection, ids)
                self._turns.planned(set(ids) - {row.id for row in rows})  # others have planned them
            rows = within_bytes(event_queries.sizes(connection, {row.delivery_id for row in rows}), rows)
        if not rows:
            self._first = Round.NEXT
            return None
        store_id = self._store_of(rows[0])
        rows = [row for row in rows if self._store_of(row) == store_id]
        self._read_rows_ahead(rows)
        with self._database.connection(purpose="planning") as connection:
            if not self._database.sqlite:
                if not locks.hold_within(connection, locks.of_store(store_id), FIRST_SECONDS):
                    return None
                rows = event_queries.still_waiting(connection, [row.id for row in rows], held=True)
            until = time.monotonic() + (BATCH_SECONDS if self._database.sqlite else BATCH_SECONDS_OF_A_STORE)
            done, made = self._plan(connection, rows, until)
        self._turns.planned(row.id for row in done)
        if not following:
            self._turns.roots, self._first = {row.parent_id or row.id for row in done}, Round.FOLLOWERS
        return len(done), made

    def _run_next(self, limit: int | None) -> tuple[int, int]:
        """Plans the next events in the order of arrival, sources in turn."""
        beside = self._run_lane() if limit is None and self._lanes.are_of_use() else None
        if beside is not None:
            return beside
        unreadable = self._setups.unreadable_sources()
        without = [*unreadable, *(self._passed if limit is None else ())]
        wanted = BATCH_SECONDS if self._database.sqlite else BATCH_SECONDS_OF_A_STORE
        most = limit or self._batch_size
        if not self._read_ahead(most, without):
            if len(without) == len(unreadable) or not self._read_ahead(most, unreadable):
                self._passed = frozenset()
                self._look_behind((), False, nothing=True)
                return 0, 0
            without, self._passed = unreadable, frozenset()
        with self._database.connection(purpose="planning") as connection:
            rows = self._mine(connection, most, without)
            began = time.monotonic()
            full = len(rows) == most
            self._passed = self._that_had_their_turn(rows) if full else frozenset()
            unread = {row.delivery_id for row in rows if row.id not in self._ahead}
            rows = within_bytes(event_queries.sizes(connection, unread), rows)
            done, made = self._plan(connection, rows, None if limit else began + wanted)
            took = time.monotonic() - began
        if limit is None:
            self._look_behind(done, full)
        if took > wanted:
            self._batch_size = max(LEAST, int(len(done) * wanted / took))
        elif len(done) == most:
            self._batch_size = min(MOST, most + most // 4 + 1)
        return len(done), made

    def _run_lane(self) -> tuple[int, int] | None:
        """Plans a lane's next events beside other processes; None where there is no backlog."""
        rows: Sequence[EventRecord] = ()
        with self._database.reading() as session:
            waiting = self._lanes.waiting(session.connection())
        if len(waiting) <= LANES // 2:
            unreadable = self._setups.unreadable_sources()
            rows = self._lanes.sort(unreadable, 1 if waiting else WORTH)
            if len(rows) == AT_ONCE and (passed := self._that_had_their_turn(rows)):
                self._lanes.sort([*unreadable, *passed])  # others need not wait behind that backlog
        if not waiting and not rows:
            return None
        with self._database.connection(purpose="planning") as connection:
            waiting = self._lanes.waiting(connection)
            lane = self._lanes.take(connection, waiting, BATCH_SECONDS_OF_A_STORE) if waiting else None
            if lane is None:
                return None
            rows = self._lanes.events_of(connection, lane, IN_LANE, BATCH_SECONDS_OF_A_STORE)
            rows = within_bytes(event_queries.sizes(connection, {row.delivery_id for row in rows}), rows)
            if not rows:
                return None
            live = self._setups.get(self._store_of(rows[0]))
            made = self._plan_store(connection, live, list(rows), beside=True)
            self._payloads.trim()
        self._look_behind(rows, full=True)
        return len(rows), made

    def _look_behind(self, rows: Sequence[EventRecord], full: bool, nothing: bool = False) -> None:
        """After a batch: whether more waits, and what of it goes first. A batch that is not full may be one of few
        sources or stores: what is known to wait is kept until `nothing` waits.
        """
        self.has_backlog = full
        if not nothing and (full or self._turns.any_wait):
            self._first = Round.ANY if self._turns.behind(rows) else Round.NEXT
        else:
            self._turns.forget()
            self._first = Round.NEXT

    def _that_had_their_turn(self, rows: Sequence[EventRecord]) -> frozenset[int]:
        """The sources that are passed over next: who fills most of a whole batch has a backlog, and lets others go
        first, each of them once. Sources that tell of the same orders have one turn, so that nothing overtakes.
        """
        numbers = Counter(self._family_of(row.source_id) for row in rows)
        family, number = numbers.most_common(1)[0]
        return self._passed | family if number * 2 > len(rows) else frozenset()

    def _family_of(self, source_id: int) -> frozenset[int]:
        found = self._setups.of_source(source_id).families.get(source_id)
        return found[1] if found is not None else frozenset({source_id})

    def _mine(self, connection: Connection, most: int, without: Collection[int]) -> Sequence[EventRecord]:
        """Events that wait, of stores for which no other process plans or decides just now: what a route has said and
        what it may say is only known to one at a time.

        Where others plan for all of them, it is waited for one, the events that come next having been read: so that two
        processes plan for one store in turn, and each reads while the other plans.
        """
        if self._database.sqlite:
            return self._unplanned(connection, most, without)
        out, first = set(without), None
        for _ in range(MOST_STORES):
            rows: Sequence[EventRecord] = self._unplanned(connection, most, out, Rows.ALL)
            stores = list(dict.fromkeys(self._store_of(row) for row in rows))
            free = {one for one in stores if locks.try_hold(connection, locks.of_store(one))}
            if free:
                return self._of_stores(connection, most, out, free)
            if not rows:
                break
            first = first or stores[0]
            out |= {row.source_id for row in rows}
        if first is None or not locks.hold_within(connection, locks.of_store(first), BATCH_SECONDS_OF_A_STORE):
            return []
        return self._of_stores(connection, most, without, {first})

    def _of_stores(
        self, connection: Connection, most: int, without: Collection[int], stores: Collection[int]
    ) -> Sequence[EventRecord]:
        """The events that wait now, of stores that are held: what was planned until they were held is planned. Others'
        are not touched, so that they are planned beside.
        """
        return event_queries.unplanned(
            connection, self._clock.now(), most, {*without, *self._setups.sources_outside(stores)}
        )

    def _unplanned(
        self, connection: Connection, most: int, without: Collection[int], rows: Rows = Rows.HELD
    ) -> list[EventRecord]:
        return event_queries.unplanned(connection, self._clock.now(), most, without, rows)

    def _store_of(self, row: EventRecord) -> int:
        return self._setups.of_source(row.source_id).store_id

    def _read_ahead(self, most: int, without: Collection[int]) -> bool:
        """Reads the events that wait, as far as nothing but their deliveries and the set-up is needed for it, while
        others may write. Says whether any waits.

        What is read here is used for the same event under the same set-up only; the batch reads the others itself.
        """
        self._ahead = {}
        with self._database.reading() as session:  # what is held is let go at once, or who plans would have to wait
            rows: Sequence[EventRecord] = event_queries.unplanned(
                session.connection(), self._clock.now(), most, without, Rows.FREE
            )
        if not rows:
            return False
        self._read_rows_ahead(rows)
        return True

    def _read_rows_ahead(self, rows: Sequence[EventRecord]) -> None:
        self._ahead = {}
        with self._database.reading() as session:
            connection = session.connection()
            rows = within_bytes(event_queries.sizes(connection, {row.delivery_id for row in rows}), rows)
            by_store: dict[int, list[EventRecord]] = {}
            for row in rows:
                by_store.setdefault(self._store_of(row), []).append(row)
            for store_id, found in by_store.items():
                compile_texts(self._setups.get(store_id))
                try:
                    batch = self._batch(connection, self._setups.get(store_id))
                    self._ahead.update(batch.read_ahead(found))
                except Exception as error:  # the batch meets it again, and tells whom it harms
                    if is_database_failure(error):
                        raise
                    log.info("events could not be read ahead", store_id=store_id, why=type(error).__name__)

    def _plan(
        self, connection: Connection, rows: Sequence[EventRecord], until: float | None
    ) -> tuple[list[EventRecord], int]:
        """Plans a batch, which may hold several stores' events; each store's are planned together, in order. Once the
        time is up, it ends with the piece that it is at. Gives the events that were planned, and how many sends came.
        """
        by_store: dict[int, list[EventRecord]] = {}
        for row in rows:
            by_store.setdefault(self._store_of(row), []).append(row)
        done: list[EventRecord] = []
        made = 0
        for store_id, found in by_store.items():
            size = PIECE if until else len(found)
            for start in range(0, len(found), size):
                if until and done and time.monotonic() > until:
                    break
                piece = found[start : start + size]
                made += self._plan_store(connection, self._setups.get(store_id), piece)
                done += piece
        self._payloads.trim()
        return done, made

    def _plan_store(
        self, connection: Connection, live: LiveSetup, rows: list[EventRecord], beside: bool = False
    ) -> int:
        """Plans one store's events together, `beside` others who do; one by one where that fails, so that only what
        can't be planned is left out.
        """
        try:
            with connection.begin_nested():
                return self._planned(self._batch(connection, live, beside), rows)
        except Exception as error:
            if is_database_failure(error):
                raise
            log.exception("a batch could not be planned; planning its events one by one", events=len(rows))
        return sum(self._plan_alone(connection, live, row, beside) for row in rows)

    def _plan_alone(self, connection: Connection, live: LiveSetup, row: EventRecord, beside: bool) -> int:
        try:
            with connection.begin_nested():
                return self._planned(self._batch(connection, live, beside), [row])
        except Exception as error:
            if is_database_failure(error):
                raise
            log.exception("an event could not be planned", event_id=row.id)
            problem = f"It could not be planned: {describe_fault(error)}"
        set_aside = {
            "b_id": row.id,
            "planned_at": row.planned_at or self._planned_at(row),
            "order_id": row.order_id,
            "decisions": row.decisions or [],
            "problem": problem,
            "was": row.was,
            "now": row.now,
            "waits_for": "",
            "facts": None,
        }
        event_queries.mark_planned(connection, [set_aside])
        return 0

    def _planned(self, batch: Batch, rows: list[EventRecord]) -> int:
        made = batch.plan(rows)
        self._unlearned += batch.learned
        self.asked |= batch.asked
        return made

    def _batch(self, connection: Connection, live: LiveSetup, beside: bool = False) -> Batch:
        given = (self._clock, self._base_url, self._payloads, self._planned_at, {} if beside else self._ahead)
        return Batch(connection, live, *given, self._readings, beside)
