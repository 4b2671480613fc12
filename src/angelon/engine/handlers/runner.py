"""Calls handlers about events that wait for them, and keeps what they ask for. What goes wrong with one call harms that
call alone: it is made again a few times, then stands as the event's problem.
"""

from __future__ import annotations

import datetime as dt
import shutil
import threading
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import structlog

from angelon.core.payload.body import NotReadable
from angelon.core.planning.plan import work_out
from angelon.core.problems import Invalid
from angelon.core.retries import RetryPolicy
from angelon.core.specs.asked import Asked
from angelon.core.specs.base import read_spec
from angelon.core.specs.route import Route
from angelon.db import answers, contact_tags, handlers, orders
from angelon.db.database import Database
from angelon.db.live_setup import LiveSetup
from angelon.engine.clock import Clock
from angelon.engine.event_reader import Payloads, event_of, identity_of
from angelon.engine.handlers import snapshot
from angelon.engine.handlers.about import as_plain
from angelon.engine.handlers.pool import Pool, Result
from angelon.engine.handlers.registry import register

log = structlog.get_logger()

RETRY = RetryPolicy(base_seconds=2, cap_seconds=60, max_tries=4, give_up_after_hours=720)
"""When a call that failed is made again: by the number of tries, however late the first one was."""
LOOK_EVERY = 1.0
"""Seconds between two looks at whether the files have changed."""


class Handlers:
    """The folder's handlers as they work now. For use by several threads."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder.resolve()
        self._lock = threading.Lock()
        self._pool: Pool | None = None
        self._digest = ""
        self._files: snapshot.Stamp | None = None
        self._looked = float("-inf")
        self.seen: dict[str, Any] | None = None
        """What the newest load of the folder told, good or not; None where it is as it was told of before."""

    @property
    def folder(self) -> Path:
        return self._folder

    @property
    def digest(self) -> str:
        return self._digest

    def look(self) -> bool:
        """Loads the folder where its contents have changed; says whether they had. A folder in which a file can't be
        imported leaves the processes of the last good one at work.
        """
        with self._lock:
            if time.monotonic() - self._looked < LOOK_EVERY:
                return False
            self._looked = time.monotonic()
            old = self._pool
            if not self._load():
                return False
        if old is not None and old is not self._pool:
            old.end()
        return True

    def _load(self) -> bool:
        """Takes what is in the folder now in the place of what was; false where that is the same."""
        try:
            files = snapshot.stamp(self._folder)
            if files == self._files and self.seen is not None:
                return False
            digest = snapshot.digest(self._folder, files)
            self._files = files
            if digest == self._digest and self.seen is not None:
                return False
            copy = snapshot.take(self._folder, files)
        except (OSError, snapshot.TooLarge) as error:  # a file that went away meanwhile is looked at again
            return self._told_of(f"The folder can’t be read: {error}")
        self._digest = digest
        if not files:
            shutil.rmtree(copy, ignore_errors=True)
            return self._told_of(
                "There is no handler in the folder, or no such folder. Write one, or set ANGELON_HANDLERS."
            )
        pool = Pool(copy, own=True)
        self.seen = pool.loaded().plain()
        if self._pool is not None and self.seen["problems"]:
            self.seen["handlers"] = self._pool.loaded().handlers
            pool.end()
        else:
            self._pool = pool
        return True

    def _told_of(self, problem: str) -> bool:
        """Keeps what is wrong with the folder as a whole; false where it was known."""
        before = self.seen
        known = self._pool.loaded().handlers if self._pool is not None else []
        self.seen = {"handlers": known, "problems": [{"file": str(self._folder), "problem": problem}], "output": ""}
        return self.seen != before

    def call(self, handler: str, event: dict[str, Any], watch: bool = False) -> tuple[Asked, Result]:
        """Calls a handler; gives what it asks for, or the problem, with what was printed and how long it took."""
        self.look()
        pool = self._pool
        if pool is None:
            nothing = Result(None, "The folder of handlers is not loaded.", "", 0.0)
            return Asked(problem=nothing.problem), nothing
        known = next((one for one in pool.loaded().handlers if one["name"] == handler), None)
        if known is None:
            problem = f"There is no handler {handler} in {self._folder.name} any more."
            return Asked(problem=problem), Result(None, problem, "", 0.0)
        result = pool.call(handler, event, known["timeout"], watch)
        if result.asked is None:
            return Asked(file=known["file"], problem=result.problem[:8000]), result
        try:
            return read_spec(Asked, {**result.asked, "file": known["file"]}), result
        except Invalid as error:
            problem = f"It asks for what can't be done: {error.problems[0]}"
            return Asked(file=known["file"], problem=problem), replace(result, asked=None, problem=problem)

    def end(self) -> None:
        with self._lock:
            if self._pool is not None:
                self._pool.end()
                self._pool = None


class HandlerRunner:
    """Calls what the live handlers of a store have to say about an event that waits."""

    def __init__(self, database: Database, clock: Clock, folder: Path | None) -> None:
        self._database, self._clock = database, clock
        self.handlers = Handlers(folder) if folder is not None else None

    def look(self) -> bool:
        """Loads what has changed in the folder, and registers it; says whether anything had."""
        if self.handlers is None or not self.handlers.look():
            return False
        told = self.handlers.seen or {"handlers": [], "problems": []}
        with self._database.writing() as session:
            refused = register(session, told["handlers"], self._clock.now())
            told = {**told, "problems": [*told["problems"], *refused]}
            handlers.keep_folder(session, str(self.handlers.folder), self.handlers.digest, told, self._clock.now())
        log.info("handlers loaded", handlers=len(told["handlers"]), problems=len(told["problems"]))
        return True

    def run(self, live: LiveSetup, row: Any, payloads: Payloads) -> dt.datetime | None:
        """Calls every handler that waits for an event and has not been called about it; gives when to call again, None
        where nothing is left to be called.
        """
        wanted = live.handlers_for(row.type, live.source_key(row.source_id), row.received_at)
        if not wanted:
            return None
        with self._database.reading() as session:
            connection = session.connection()
            done = {run.handler: run for run in handlers.of_event(connection, row.id)}
            wanted = [route for route in wanted if (run := done.get(route.handler)) is None or run.problem]
            if not wanted:
                return None
            event = self._plain(connection, live, row, payloads)
        again: list[dt.datetime] = []
        for route in wanted:
            tries = (done[route.handler].tries if route.handler in done else 0) + 1
            asked, result = self._call(route, event)
            now = self._clock.now()
            with self._database.connection() as connection:
                handlers.keep_run(
                    connection,
                    row.id,
                    route.handler,
                    at=now,
                    tries=tries,
                    took_ms=round(result.took * 1000),
                    asked=asked.plain(),
                    output=result.output,
                    problem=asked.problem,
                    digest=self.handlers.digest if self.handlers else "",
                )
            if asked.problem:
                log.warning("a handler failed", event_id=row.id, handler=route.handler, tries=tries)
                at = RETRY.next_try(tries, row.received_at, now, self._clock.rng.random)
                if at is not None:
                    again.append(at)
        return min(again) if again else None

    def _call(self, route: Route, event: dict[str, Any] | str) -> tuple[Asked, Result]:
        if isinstance(event, str) or self.handlers is None:
            why = event if isinstance(event, str) else "No folder of handlers is set: ANGELON_HANDLERS names it."
            return Asked(problem=why), Result(None, why, "", 0.0)
        return self.handlers.call(route.handler, event)

    def _plain(self, connection: Any, live: LiveSetup, row: Any, payloads: Payloads) -> dict[str, Any] | str:
        """The event as handlers have it; or why it can't be read."""
        source = live.setup.sources[live.source_key(row.source_id)]
        root = row.parent_id or row.id
        payloads.load(connection, live, [row])
        answered = answers.of(connection, [root]).get(root) if source.enrichments else None
        try:
            payload = payloads.of(row, answered)
        except NotReadable as error:
            return str(error)
        reading, variables = work_out(source, live.setup, payload)
        so_far = orders.orders_of_person(
            connection, live.store_id, identity_of(row, reading), row.source_id, reading.reference[:200]
        )
        tags = contact_tags.of_identity(connection, live.store_id, identity_of(row, reading))
        return as_plain(event_of(row, source, payload), reading, variables, so_far, tags)
