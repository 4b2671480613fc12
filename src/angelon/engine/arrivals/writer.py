"""Group commit: concurrent deliveries share one transaction, and each is answered only when it is on disk."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Callable
from queue import Empty, SimpleQueue
from typing import Any

import structlog

from angelon.db.database import Database, is_database_failure
from angelon.db.log import events
from angelon.db.records import NewDelivery

GATHER = 0.008
"""Seconds that a commit waits for as many deliveries as the last one had."""

LOOK = 0.001
"""Seconds between two looks at what has come meanwhile: to be woken by each delivery would cost its thread a turn."""

log = structlog.get_logger()


class Busy(RuntimeError):
    """More waits to be stored than is sensible; come back in a moment."""


class _Job:
    """One delivery, the place where its answer is left, and whom to tell that it is there."""

    __slots__ = ("delivery", "error", "ids", "tell")

    def __init__(self, delivery: NewDelivery, tell: Callable[[], None]) -> None:
        self.delivery = delivery
        self.tell = tell
        self.ids: dict[str, str] = {}
        self.error: BaseException | None = None


class GroupCommit:
    """One thread that writes for all. `after` is called after each commit that stored events."""

    def __init__(self, database: Database, after: Callable[[], None], most: int = 256, waiting: int = 5000) -> None:
        self._database = database
        self._after = after
        self._most = most
        self._waiting = waiting
        self._queue: SimpleQueue[_Job | dict[str, Any] | None] = SimpleQueue()
        self._thread: threading.Thread | None = None
        self._start = threading.Lock()
        self.commits = 0
        self._failing = ""
        self._last = 1

    def store(self, delivery: NewDelivery, timeout: float = 30) -> dict[str, str]:
        """Stores a delivery durably; gives for each event's proposed id the id under which it stands. Raises Busy."""
        done = threading.Lock()
        done.acquire()
        job = self.submit(delivery, done.release)
        if not done.acquire(timeout=timeout):
            raise Busy
        if job.error is not None:
            raise job.error
        return job.ids

    def submit(self, delivery: NewDelivery, tell: Callable[[], None]) -> _Job:
        """Has a delivery stored; `tell` is called by the writing thread when it is, or can't be. Raises Busy."""
        self._running()
        if self._queue.qsize() > self._waiting:
            raise Busy
        job = _Job(delivery, tell)
        self._queue.put(job)
        return job

    def keep_refused(self, refused: dict[str, Any]) -> None:
        """Keeps a refused delivery soon; nobody waits for it, and under pressure it is dropped."""
        self._running()
        if self._queue.qsize() < self._most:
            self._queue.put(refused)

    @property
    def trouble(self) -> str:
        """Why no more deliveries can be taken just now; empty where they can."""
        if self._queue.qsize() > self._waiting:
            return "more waits to be stored than is sensible"
        return self._failing

    def close(self) -> None:
        if self._thread is not None:
            self._queue.put(None)
            self._thread.join(10)
            self._thread = None

    def _running(self) -> None:
        if self._thread is None:
            with self._start:
                if self._thread is None:
                    self._thread = threading.Thread(target=self._run, name="group-commit", daemon=True)
                    self._thread.start()

    def _gather(self) -> list[_Job | dict[str, Any] | None]:
        """What waits, and what comes in the next moment where the last commit was shared.

        Deliveries answered together tend to be followed by others together: waiting for as many as last time, for
        GATHER seconds at the most, saves more commits than it costs time. A lone delivery is committed at once.
        """
        batch = [self._queue.get()]
        until = time.monotonic() + GATHER
        while self._queue.qsize() + 1 < self._last and time.monotonic() < until:
            time.sleep(LOOK)
        with contextlib.suppress(Empty):
            while len(batch) < self._most:
                batch.append(self._queue.get_nowait())
        self._last = min(len(batch), self._most)
        return batch

    def _run(self) -> None:
        while True:
            batch = self._gather()
            jobs = [item for item in batch if isinstance(item, _Job)]
            refused = [item for item in batch if isinstance(item, dict)]
            try:
                self._commit(jobs, refused)
            except BaseException as error:
                if len(jobs) > 1 and isinstance(error, Exception) and not is_database_failure(error):
                    log.exception("group commit failed; storing its deliveries one by one", jobs=len(jobs))
                    self._one_by_one(jobs)
                else:
                    self._failing = f"the last deliveries could not be stored: {type(error).__name__}"
                    log.exception("group commit failed", jobs=len(jobs))
                    for job in jobs:
                        job.error = error
            for job in jobs:
                job.tell()
            if jobs:
                self._after()
            if None in batch:
                return

    def _commit(self, jobs: list[_Job], refused: list[dict[str, Any]]) -> None:
        with self._database.connection(purpose="intake", first=True) as connection:
            ids = events.add(connection, [job.delivery for job in jobs]) if jobs else {}
            if refused:
                events.refuse(connection, refused)
        self.commits += 1
        self._failing = ""
        for job in jobs:
            job.ids = {event.id: ids[event.id] for event in job.delivery.events}

    def _one_by_one(self, jobs: list[_Job]) -> None:
        """A delivery that the database refuses keeps no other from being stored."""
        for job in jobs:
            try:
                self._commit([job], [])
            except Exception as error:
                log.exception("a delivery could not be stored", delivery=job.delivery.id)
                job.error = error
