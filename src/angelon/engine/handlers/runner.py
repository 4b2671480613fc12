"""The folder of handlers: loaded as it changes, its functions called, what it registers kept."""

from __future__ import annotations

import shutil
import threading
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import structlog

from angelon.core.problems import Invalid
from angelon.core.retries import RetryPolicy
from angelon.core.specs.asked import Asked
from angelon.core.specs.base import read_spec
from angelon.db.database import Database
from angelon.db.setup import handlers
from angelon.engine.clock import Clock
from angelon.engine.handlers import snapshot
from angelon.engine.handlers.pool import Loaded, Pool, Result
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
        self._good: dict[str, bytes] = {}
        """The contents of the files that work now."""
        self._untold = False
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
            self._untold = True
        if old is not None and old is not self._pool:
            old.end()
        return True

    def news(self) -> bool:
        """Whether the folder was loaded since `told`, by whichever thread."""
        self.look()
        return self._untold

    def told(self) -> None:
        self._untold = False

    def missing(self, handler: str) -> str:
        """Why a handler can't be called however often that is tried; empty where it can."""
        self.look()
        pool = self._pool
        if pool is None:
            return "The folder of handlers is not loaded."
        if any(one["name"] == handler for one in pool.loaded().handlers):
            return ""
        return f"There is no handler {handler} in {self._folder.name} any more."

    def timeout(self, handler: str) -> float:
        """Seconds that a call may take."""
        known = self._pool.loaded().handlers if self._pool is not None else []
        return next((float(one["timeout"]) for one in known if one["name"] == handler), 2.0)

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
        pool = Pool(copy)
        found = pool.loaded()
        if found.problems:
            pool.end()
            pool = Pool(self._mended(copy, found), own=True)
        else:
            pool.own()
        now = pool.loaded()
        if now.problems and self._pool is not None:  # files that are good by themselves, and not together
            pool.end()
            now = self._pool.loaded()
        else:
            self._pool = pool
            self._good = _contents(copy)
        self.seen = {**now.plain(), "problems": found.problems, "output": found.output}
        return True

    def _mended(self, copy: Path, found: Loaded) -> Path:
        """The copy with each file that can't be imported as it was when it could be, or without it: the others load as
        they are.
        """
        for problem in found.problems:
            file = (copy / problem["file"]).resolve()
            if not file.is_relative_to(copy) or not file.is_file():
                continue
            good = self._good.get(problem["file"])
            if good is None:
                file.unlink()
            else:
                file.write_bytes(good)
        return copy

    def _told_of(self, problem: str) -> bool:
        """Keeps what is wrong with the folder as a whole; false where it was known."""
        before = self.seen
        known = self._pool.loaded().handlers if self._pool is not None else []
        self.seen = {"handlers": known, "problems": [{"file": str(self._folder), "problem": problem}], "output": ""}
        return self.seen != before

    def call(self, handler: str, event: dict[str, Any], watch: bool = False) -> tuple[Asked, Result]:
        """Calls a handler; gives what it asks for, or the problem, with what was printed and how long it took."""
        problem, pool = self.missing(handler), self._pool
        if problem or pool is None:
            return Asked(problem=problem), Result(None, problem, "", 0.0)
        known = next(one for one in pool.loaded().handlers if one["name"] == handler)
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


def _contents(folder: Path) -> dict[str, bytes]:
    files = (file for file in folder.rglob("*.py") if file.is_file())
    return {str(file.relative_to(folder)): file.read_bytes() for file in files}


class HandlerRunner:
    """Keeps what is registered as the folder has it."""

    def __init__(self, database: Database, clock: Clock, folder: Path | None) -> None:
        self._database, self._clock = database, clock
        self.handlers = Handlers(folder) if folder is not None else None

    def look(self) -> bool:
        """Loads what has changed in the folder, and registers it; says whether anything had."""
        if self.handlers is None or not self.handlers.news():
            return False
        told = self.handlers.seen or {"handlers": [], "problems": []}
        with self._database.writing() as session:
            refused = register(session, told["handlers"], self._clock.now())
            told = {**told, "problems": [*told["problems"], *refused]}
            handlers.keep_folder(session, str(self.handlers.folder), self.handlers.digest, told, self._clock.now())
        self.handlers.told()
        log.info("handlers loaded", handlers=len(told["handlers"]), problems=len(told["problems"]))
        return True
