"""Behind a backlog, which events go first: those of urgent routes, and whatever is not imported or processed again.

Nothing overtakes its own: with an event goes what came earlier of the same order or customer. To know that, what waits
is read as far as its identity, between batches and while others may write; it is kept in memory until it is planned.
"""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import structlog

from angelon.core.event_types import CHANGES
from angelon.core.orders import alike_number
from angelon.core.payload.body import NotReadable
from angelon.core.planning.awaiting import identifying
from angelon.core.planning.turns import Turn, turn_of
from angelon.core.reading import Reading, read
from angelon.core.specs.source import Source
from angelon.db.database import Database, is_database_failure
from angelon.db.log import events as event_queries
from angelon.db.rows import DeliveryRecord, EventRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.event_reader import identity_of, parts_of, within_bytes
from angelon.engine.clock import Clock
from angelon.engine.setups import Setups

log = structlog.get_logger()

AT_ONCE, MOST_BYTES = 100, 4_000_000
"""Events, and bytes of their deliveries, that are read at a time."""
SECONDS = 0.25
"""How long reading on may take between two batches: planning waits for it, nobody else does."""
SETTLED = dt.timedelta(seconds=2)
"""How old an event is when it is read ahead: one that came before it is stored by then, whoever took it in."""
MOST = 100_000
"""Events that are kept in mind; what waits behind them is read once these are planned."""
_PARTS = ("reference", "number", "email", "phone", "customer_id", "country", *CHANGES)


@dataclass(frozen=True, slots=True)
class Waits:
    """An event that waits: when it came, and what it has in common with others of its order or customer."""

    place: tuple[dt.datetime, str]
    turn: Turn
    keys: tuple[str, ...]


class Turns:
    """What is known of the events that wait. For one thread."""

    def __init__(self, database: Database, setups: Setups, clock: Clock) -> None:
        self._database = database
        self._setups = setups
        self._clock = clock
        self._narrow: dict[int, tuple[Source, Source]] = {}
        self.forget()

    def forget(self) -> None:
        """Begins anew: nothing waits for long, or the set-up is another."""
        self._known: dict[str, Waits] = {}
        self._by_key: dict[str, dict[str, None]] = {}
        self._by_turn: dict[Turn, dict[str, None]] = {turn: {} for turn in Turn}
        self._until: tuple[dt.datetime, str] | None = None
        self._versions: tuple[tuple[int, int], ...] = ()
        self.roots: set[str] = set()
        """The events that were planned last: what follows from them goes before what comes next."""
        self._own = False

    @property
    def any_wait(self) -> bool:
        """Whether any is known to wait."""
        return bool(self._known)

    def behind(self, rows: Collection[EventRecord]) -> bool:
        """A batch was planned, and more waits; these were its events. Says whether any may have to go first."""
        self.planned(row.id for row in rows)
        self.roots = {row.parent_id or row.id for row in rows} or self.roots
        gives_way = any(turn_of(row.name, (), _again(row), frozenset()) is Turn.GIVES_WAY for row in rows)
        self._own = self._own or gives_way or any(live.urgent_types for live in self._lives())
        if self._own:
            self._read_on()
        return self._own

    def planned(self, ids: Iterable[str]) -> None:
        """These wait no longer."""
        for id_ in ids:
            known = self._known.pop(id_, None)
            if known is not None:
                self._by_turn[known.turn].pop(id_, None)
                for key in known.keys:
                    self._by_key[key].pop(id_, None)
                    if not self._by_key[key]:
                        del self._by_key[key]

    def first(self, most: int) -> list[str]:
        """The events that go first now, in the order in which they came, at most so many; none where the order of
        arrival is the right one.
        """
        turn = next((one for one in Turn if self._by_turn[one]), None)
        others = [next(iter(ids)) for other, ids in self._by_turn.items() if turn is not None and other > turn and ids]
        if turn is None or not others:
            return []
        oldest = min(self._known[id_].place for id_ in others)
        found: dict[str, None] = {}
        for id_ in self._by_turn[turn]:
            if self._known[id_].place < oldest:
                continue  # the order of arrival comes to it
            for one in self._with_earlier(id_):
                found[one] = None
            if len(found) >= most:
                break
        return sorted(found, key=lambda id_: self._known[id_].place)[:most]

    def _with_earlier(self, id_: str) -> list[str]:
        """An event with what waits and came before it of the same order or customer, and so on."""
        place, seen, left = self._known[id_].place, {id_}, [id_]
        while left:
            for key in self._known[left.pop()].keys:
                for other in self._by_key.get(key, ()):
                    if other not in seen and self._known[other].place < place:
                        seen.add(other)
                        left.append(other)
        return list(seen)

    def _lives(self) -> list[LiveSetup]:
        return [self._setups.get(store_id) for store_id in self._setups.ids()]

    def _read_on(self) -> None:
        """Reads what waits, from where it came to on, for a while."""
        versions = tuple((live.store_id, live.version) for live in self._lives())
        if versions != self._versions:
            roots = self.roots
            self.forget()
            self.roots, self._versions, self._own = roots, versions, True
        until, settled = time.monotonic() + SECONDS, self._clock.now() - SETTLED
        while len(self._known) < MOST and time.monotonic() < until:
            with self._database.reading() as session:
                connection = session.connection()
                rows: Sequence[EventRecord] = event_queries.waiting_after(connection, self._until, settled, AT_ONCE)
                if not rows:
                    return
                sizes = event_queries.sizes(connection, {row.delivery_id for row in rows})
                rows = within_bytes(sizes, rows, MOST_BYTES)
                deliveries = event_queries.deliveries(connection, {row.delivery_id for row in rows})
            for row in rows:
                self._note(row, deliveries.get(row.delivery_id))
            self._until = (rows[-1].received_at, rows[-1].id)

    def _note(self, row: EventRecord, delivery: DeliveryRecord | None) -> None:
        live = self._setups.of_source(row.source_id)
        keys: tuple[str, ...] = ()
        types = {row.type}
        try:
            source = live.setup.sources[live.source_key(row.source_id)]
            if delivery is not None:
                parts = parts_of(source, delivery.body, delivery.content_type, delivery.headers or {})
                reading = self._read(live, source, parts[row.item])
                keys = tuple(keys_of(live, row, reading))
                types |= {source.meanings(part).get(reading.text(part), "") for part in CHANGES}
        except (NotReadable, LookupError):
            pass  # whoever plans it says so
        except Exception as error:
            if is_database_failure(error):
                raise
            log.info("an event that waits could not be read ahead", event_id=row.id, why=type(error).__name__)
        turn = turn_of(row.name, types, _again(row), live.urgent_types)
        self._known[row.id] = Waits((row.received_at, row.id), turn, keys)
        if row.source_id not in live.asking or not identifying(live.setup.sources[live.source_key(row.source_id)]):
            self._by_turn[turn][row.id] = None  # else an answer may say what it is about: it waits in its order
        for key in keys:
            self._by_key.setdefault(key, {})[row.id] = None

    def _read(self, live: LiveSetup, source: Source, payload: Any) -> Reading:
        held = self._narrow.get(id(source))
        if held is None or held[0] is not source:
            only = {part: recipe for part, recipe in source.reading.items() if part in _PARTS}
            held = source, source.model_copy(update={"reading": only})
            self._narrow[id(source)] = held
        return read(held[1], live.setup.store, payload, live.setup.tables)


def _again(row: EventRecord) -> bool:
    """Whether an event was planned before, and is planned again."""
    return row.decisions is not None and row.planned_at is None


def keys_of(live: LiveSetup, row: EventRecord, reading: Reading, named: bool = True) -> list[str]:
    """What events of one order, and of one customer, have in common; `named` says that an order may be known by its
    number alone, as it is anyway where several sources tell of the same orders.
    """
    family = live.families.get(row.source_id)
    whose = min(family[1]) if family is not None else row.source_id
    numbers = {reading.number, alike_number(reading.number)} if named or family is not None else set()
    found = {reading.reference, *numbers} - {""}
    identity = identity_of(row, reading)
    return [f"{whose} {one}" for one in found] + ([f"{live.store_id}@{identity}"] if identity else [])
