"""Keeps what a store has said to be kept, and no longer."""

from __future__ import annotations

import datetime as dt
import time
from collections import Counter
from typing import Any

import structlog

from angelon.db import locks
from angelon.db.access import allowances
from angelon.db.database import Database, is_database_failure
from angelon.db.log import fetches, imports, page_patterns, partitions, sent_files
from angelon.db.setup import shop_tables
from angelon.db.upkeep import alerts, housekeeping
from angelon.engine.clock import Clock
from angelon.engine.setups import Setups

log = structlog.get_logger()
EVERY = 3600.0
"""Seconds between two rounds."""
LONGEST = 20.0
"""Seconds that one look takes at most; the rest waits for the next."""

LOOKED_AT_FOR = dt.timedelta(days=1)
"""How long a file is kept that was looked at and not taken."""
ALLOWANCES_FOR = dt.timedelta(days=1)
"""How long ago the last try was, after which there is all of an allowance again."""
PATTERNS_FOR = dt.timedelta(days=30)
"""How long after its last use, or the last such look, a pattern is looked at whether a page still needs it."""
UNSEEN = dt.timedelta(days=400)
"""How long is kept what an order said that does not come again."""


class Housekeeper:
    """Goes through the stores now and then, a little at a time."""

    def __init__(self, database: Database, setups: Setups, clock: Clock) -> None:
        self._database, self._setups, self._clock = database, setups, clock
        self._next = 0.0
        self._reached: dict[tuple[int, str], Any] = {}
        """How far this round has come, by store and kind; None where it is at its end."""

    def look(self) -> dict[str, int]:
        """Takes what is due, for a while; says how much of each kind went."""
        if time.monotonic() < self._next:
            return {}
        until, gone = time.monotonic() + LONGEST, Counter[str]()
        for store_id in self._setups.ids():
            try:
                self._sweep(store_id, gone, until)
            except Exception as error:  # that store's is left for the next round
                if is_database_failure(error):
                    raise
                log.exception("what a store keeps no longer could not be taken away", store_id=store_id)
            if time.monotonic() > until:
                return dict(gone)
        self._reached = {}
        gone["months"] += self._months()
        gone["files"] += self._files()
        gone["known_orders"] += self._unseen()
        self._give_back()
        self._allowances()
        self._alerts()
        self._patterns()
        self._next = time.monotonic() + EVERY
        if any(gone.values()):
            log.info("what was older than it is kept is gone", **gone)
        return dict(gone)

    def _sweep(self, store_id: int, gone: Counter[str], until: float) -> None:
        """Goes through one store, from where it was left."""
        keep, now = self._setups.get(store_id).setup.store.keep, self._clock.now()
        if keep.orders_days:  # first: what goes with them needs not go before them
            self._orders(store_id, now - dt.timedelta(days=keep.orders_days), gone, until)
        self._imports(store_id, keep.bodies_days, now, gone)
        for kind in housekeeping.KINDS:
            if days := kind.days(keep):
                self._kind(kind, store_id, now - dt.timedelta(days=days), gone, until)

    def _orders(self, store_id: int, before: dt.datetime, gone: Counter[str], until: float) -> None:
        while time.monotonic() < until:
            with self._database.reading() as session:
                if not housekeeping.any_orders(session.connection(), store_id, before):
                    return
            with self._database.connection(locks.SWEEPING) as connection:
                done = housekeeping.take_orders(connection, store_id, before)
            gone.update(done)
            if not any(done.values()):
                return

    def _kind(
        self, kind: housekeeping.Kind, store_id: int, before: dt.datetime, gone: Counter[str], until: float
    ) -> None:
        after = self._reached.get((store_id, kind.name), kind.start)
        while after is not None and time.monotonic() < until:
            with self._database.reading() as session:
                found, following = housekeeping.find(session.connection(), kind, store_id, before, after)
            for start in range(0, len(found), housekeeping.AT_ONCE):
                part = found[start : start + housekeeping.AT_ONCE]
                with self._database.connection(locks.SWEEPING) as connection:
                    gone[kind.name] += housekeeping.take(connection, kind, part, before)
            self._reached[store_id, kind.name] = after = following

    def _imports(self, store_id: int, days: int, now: dt.datetime, gone: Counter[str]) -> None:
        """The bytes of files that were taken, as long as deliveries are kept; files that were only looked at."""
        with self._database.reading() as session:
            old = imports.with_content(session.connection(), store_id, now - dt.timedelta(days=days)) if days else []
            left = imports.looked_at(session.connection(), now - LOOKED_AT_FOR)
        for id_ in {*old, *left}:
            with self._database.connection(locks.SWEEPING) as connection:
                imports.drop(connection, id_) if id_ in left else imports.drop_content(connection, [id_])
                gone["imports"] += 1

    def _unseen(self) -> int:
        """What orders said that were fetched or imported, and did not come again for a long time."""
        gone = 0
        while True:
            with self._database.reading() as session:
                found = fetches.unseen(session.connection(), self._clock.now() - UNSEEN, housekeeping.AT_ONCE)
            if not found:
                return gone
            with self._database.connection(locks.SWEEPING) as connection:
                fetches.forget(connection, found)
            gone += len(found)

    def _give_back(self) -> None:
        """Rows of tables that were taken for sends which then went to nobody."""
        while True:
            with self._database.reading() as session:
                found = shop_tables.to_give_back(session.connection(), housekeeping.AT_ONCE)
            if not found:
                return
            with self._database.connection(locks.SWEEPING) as connection:
                shop_tables.give_back(connection, found)

    def _allowances(self) -> None:
        """What is left of tries, where there is all of it again."""
        before = self._clock.now() - ALLOWANCES_FOR
        while True:
            with self._database.reading() as session:
                found = allowances.unused(session, before, housekeeping.AT_ONCE)
            if not found:
                return
            with self._database.writing(locks.SWEEPING) as session:
                allowances.forget(session, found, before)

    def _patterns(self) -> None:
        """What pages were filled from, where none of them is kept any more."""
        now = self._clock.now()
        with self._database.reading() as session:
            gone, needed = page_patterns.unused(session, now - PATTERNS_FOR)
        if gone or needed:
            with self._database.connection(locks.SWEEPING) as connection:
                page_patterns.forget(connection, gone, now - PATTERNS_FOR)
                page_patterns.seen(connection, needed, now)

    def _alerts(self) -> None:
        """Alerts of long ago."""
        before = self._clock.now() - alerts.KEPT_FOR
        with self._database.reading() as session:
            old = alerts.any_before(session, before)
        if old:
            with self._database.writing(locks.SWEEPING) as session:
                alerts.forget(session, before)

    def _months(self) -> int:
        """Months of contents that no store keeps any more, where each has its own partition; says how many contents."""
        if self._database.sqlite:
            return 0
        now = self._clock.now()
        days = [self._setups.get(store_id).setup.store.keep.contents_days for store_id in self._setups.ids()]
        with self._database.connection(locks.SWEEPING) as connection:
            partitions.ahead(connection, now)
            kept = bool(days) and all(days)
            return partitions.drop(connection, now - dt.timedelta(days=max(days))) if kept else 0

    def _files(self) -> int:
        """Files that went out with what is no longer kept; says how many."""
        since = self._clock.now() - dt.timedelta(hours=1)  # what goes out while they are looked for names them again
        with self._database.reading() as session:
            found = sent_files.unused(session.connection())
        if not found:
            return 0
        with self._database.connection(locks.SWEEPING) as connection:
            return sent_files.drop(connection, found, since)
