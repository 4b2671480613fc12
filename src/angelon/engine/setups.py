"""Stores' set-ups in memory, loaded anew when their version goes up."""

from __future__ import annotations

import threading
import time

from sqlmodel import select

from angelon.db import setup
from angelon.db.database import Database
from angelon.db.tables import SourceRow


class Setups:
    """A cache over `db.setup.load`. `fresh_for` is how long, in seconds, a version check is trusted."""

    def __init__(self, database: Database, fresh_for: float = 0.2) -> None:
        self._database = database
        self._fresh_for = fresh_for
        self._lock = threading.Lock()
        self._by_store: dict[int, setup.LiveSetup] = {}
        self._checked = float("-inf")
        self._store_of_source: dict[int, int] = {}
        self._by_key: dict[str, tuple[int, int]] = {}

    def get(self, store_id: int) -> setup.LiveSetup:
        """Raises LookupError where there is no such store."""
        self._refresh()
        return self._by_store[store_id]

    def of_source(self, source_id: int) -> setup.LiveSetup:
        self._refresh()
        return self._by_store[self._store_of_source[source_id]]

    def find_source(self, key: str) -> tuple[setup.LiveSetup, int] | None:
        """The set-up and source id of a source's key; None where there is none."""
        self._refresh()
        found = self._by_key.get(key)
        return (self._by_store[found[0]], found[1]) if found else None

    def forget(self) -> None:
        """Looks at the versions again at the next call."""
        self._checked = float("-inf")

    def _refresh(self) -> None:
        if time.monotonic() - self._checked < self._fresh_for:
            return
        with self._lock:
            if time.monotonic() - self._checked < self._fresh_for:
                return
            with self._database.reading() as session:
                versions = setup.versions(session)
                for store_id, version in versions.items():
                    held = self._by_store.get(store_id)
                    if held is None or held.version != version:
                        self._by_store[store_id] = setup.load(session, store_id)
                        rows = session.exec(select(SourceRow.id, SourceRow.key).where(SourceRow.store_id == store_id)).all()
                        self._by_key = {k: v for k, v in self._by_key.items() if v[0] != store_id} | {key: (store_id, id_) for id_, key in rows if id_ is not None}
                        self._store_of_source.update({id_: store_id for id_, _ in rows if id_ is not None})
            self._checked = time.monotonic()
