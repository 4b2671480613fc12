"""Stores' set-ups in memory, loaded anew when their version goes up."""

from __future__ import annotations

import threading
import time
from collections.abc import Collection
from dataclasses import replace

import structlog
from sqlmodel import Session, select

from angelon.core.planning.inputs import AskHandlers
from angelon.core.problems import Invalid
from angelon.core.specs import Gateway
from angelon.db.database import Database, is_database_failure
from angelon.db.setup import specs
from angelon.db.setup.live_setup import LiveSetup, load
from angelon.db.tables import SourceRow

log = structlog.get_logger()


NEW_AFTER = 0.005
"""How long, in seconds, it is trusted that there is no source of a key: unknown ones make no more than 200 looks a
second.
"""


class Setups:
    """A cache over `db.live_setup.load`. `fresh_for` is how long, in seconds, a version check is trusted."""

    def __init__(self, database: Database, fresh_for: float = 0.2, asks: AskHandlers | None = None) -> None:
        """`asks` is how handlers are asked in rehearsals and checks; a worker has none."""
        self._database = database
        self._asks = asks
        self._fresh_for = fresh_for
        self._lock = threading.Lock()
        self._by_store: dict[int, LiveSetup] = {}
        self._checked = float("-inf")
        self._store_of_source: dict[int, int] = {}
        self._by_key: dict[str, tuple[int, int]] = {}
        self._unreadable: dict[int, str] = {}

    def get(self, store_id: int) -> LiveSetup:
        """Raises LookupError where there is no such store."""
        self._refresh()
        return self._by_store[store_id]

    def gateway(self, gateway_id: int) -> tuple[LiveSetup, Gateway] | None:
        """A gateway with the set-up that it is in; None where there is none."""
        self._refresh()
        for live in self._by_store.values():
            key = live.gateway_key(gateway_id)
            if key in live.setup.gateways:
                return live, live.setup.gateways[key]
        return None

    def ids(self) -> list[int]:
        """Every store whose set-up was read."""
        self._refresh()
        return list(self._by_store)

    def read(self, session: Session, store_id: int) -> LiveSetup:
        """The set-up as it stands in a session's transaction."""
        made = load(session, store_id)
        return replace(made, setup=replace(made.setup, asks=self._asks)) if self._asks is not None else made

    def cached(self, store_id: int) -> LiveSetup | None:
        """What was read last, however old; None where nothing was."""
        return self._by_store.get(store_id)

    def of_source(self, source_id: int) -> LiveSetup:
        self._refresh()
        return self._by_store[self._store_of_source[source_id]]

    def find_source(self, key: str) -> tuple[LiveSetup, int] | None:
        """The set-up and source id of a source's key; None where there is none."""
        self._refresh()
        found = self._by_key.get(key)
        if found is None:  # it may be so new that it came after the last look, perhaps in another process
            self._refresh(NEW_AFTER)
            found = self._by_key.get(key)
        return (self._by_store[found[0]], found[1]) if found and found[0] in self._by_store else None

    def unreadable(self) -> dict[int, str]:
        """Why a store's set-up can't be read as it is stored, by store id; where one was read before, that
        still holds.
        """
        return dict(self._unreadable)

    def unreadable_sources(self) -> list[int]:
        """The sources of stores whose set-up was never read."""
        self._refresh()
        lost = self._unreadable.keys() - self._by_store.keys()
        return [id_ for id_, store_id in self._store_of_source.items() if store_id in lost]

    def sources_outside(self, store_ids: Collection[int]) -> list[int]:
        """The sources of all other stores."""
        self._refresh()
        return [id_ for id_, store_id in self._store_of_source.items() if store_id not in store_ids]

    def forget(self) -> None:
        """Looks at the versions again at the next call."""
        self._checked = float("-inf")

    def _refresh(self, fresh_for: float | None = None) -> None:
        fresh_for = self._fresh_for if fresh_for is None else min(fresh_for, self._fresh_for)
        if time.monotonic() - self._checked < fresh_for:
            return
        with self._lock:
            if time.monotonic() - self._checked < fresh_for:
                return
            with self._database.reading() as session:
                versions = specs.versions(session)
                for store_id, version in versions.items():
                    held = self._by_store.get(store_id)
                    if held is None or held.version != version:
                        try:
                            self._by_store[store_id] = self.read(session, store_id)
                            self._unreadable.pop(store_id, None)
                        except Exception as error:
                            if is_database_failure(error):
                                raise
                            if store_id not in self._unreadable:
                                log.exception(
                                    "a store's set-up can't be read; what was read last still holds", store=store_id
                                )
                            told = "" if isinstance(error, Invalid) else f"{type(error).__name__}: "
                            self._unreadable[store_id] = told + " ".join(str(error).split())[:300]
                        rows = session.exec(
                            select(SourceRow.id, SourceRow.key).where(SourceRow.store_id == store_id)
                        ).all()
                        self._by_key = {k: v for k, v in self._by_key.items() if v[0] != store_id} | {
                            key: (store_id, id_) for id_, key in rows if id_ is not None
                        }
                        self._store_of_source.update({id_: store_id for id_, _ in rows if id_ is not None})
            self._checked = time.monotonic()
