"""The worker process: one thread plans, several deliver, one keeps the house."""

from __future__ import annotations

import os
import signal
import sys
import threading
import time
from pathlib import Path

import structlog

from angelon.db import sends
from angelon.db.database import Database
from angelon.db.secrets import Vault
from angelon.engine.clock import Clock
from angelon.engine.dispatcher import Dispatcher, recover
from angelon.engine.enriching import Enriching
from angelon.engine.following import Following
from angelon.engine.planner import Planner
from angelon.engine.reviewing import Reviewing
from angelon.engine.setups import Setups
from angelon.engine.wake import Bell, Ear

log = structlog.get_logger()

BATCH = 8
"""How many sends a thread takes at first; then as many as the gateway's speed allows."""
POLL = 2.0
"""Seconds between looks at the database where nobody rings."""
BEAT = 5.0
"""Seconds between signs of life."""


class Worker:
    def __init__(self, database: Database, home: Path, vault: Vault, clock: Clock | None = None, threads: int = 4, base_url: str = "") -> None:
        self._database = database
        self._home = home
        self._vault = vault
        self._clock = clock or Clock()
        self._setups = Setups(database)
        self._stop = threading.Event()
        self._due = threading.Condition()
        self._work = 0
        self._threads = threads
        self._base_url = base_url
        self._follow = threading.Event()
        self.name = f"{os.uname().nodename}-{os.getpid()}"

    def run(self) -> None:
        """Works until `stop`, or until the process is asked to end."""
        sys.setswitchinterval(0.001)  # a thread whose gateway has answered goes on before another's rendering is done
        ear = Ear(self._home)
        if threading.current_thread() is threading.main_thread():
            for number in (signal.SIGTERM, signal.SIGINT):
                signal.signal(number, lambda *_: self.stop())
        workers = [threading.Thread(target=self._deliver, args=(number,), name=f"deliver-{number}") for number in range(self._threads)]
        keeper = threading.Thread(target=self._keep_house, name="keep-house")
        asker = threading.Thread(target=self._ask, name="ask")
        self._recover_dead()
        for thread in (*workers, keeper, asker):
            thread.start()
        planner = Planner(self._database, self._setups, self._clock, self._base_url)
        following = Following(self._database, self._setups, self._clock, self._base_url)
        try:
            while not self._stop.is_set():
                try:
                    planned, made = planner.run_batch()
                    if not planned or self._follow.is_set():
                        self._follow.clear()
                        made += following.look()
                except Exception:
                    log.exception("planning failed; trying again")
                    planned, made = 0, 0
                    self._stop.wait(1)
                if made:
                    self._ring(made)
                if not planned:
                    self._ring(1)
                    ear.wait(POLL)
                    self._setups.forget()
        finally:
            self.stop()
            for thread in (*workers, keeper, asker):
                thread.join(30)
            ear.close()

    def stop(self) -> None:
        """Ends after the sends in hand."""
        self._stop.set()
        with self._due:
            self._due.notify_all()

    def _ring(self, sends_made: int) -> None:
        with self._due:
            self._due.notify(1 if sends_made < 4 else self._threads)

    def _deliver(self, number: int) -> None:
        dispatcher = Dispatcher(f"{self.name}-{number}", self._database, self._setups, self._vault, self._clock)
        bell = Bell(self._home)
        idle_since = time.monotonic()
        while not self._stop.is_set():
            try:
                done = dispatcher.run(BATCH, lambda: self._ring(1), self._stop.is_set)
            except Exception:
                log.exception("delivering failed; trying again")
                done = 0
                self._stop.wait(1)
            if dispatcher.followed:
                dispatcher.followed = False
                self._follow.set()
                bell.ring()
            if done:
                idle_since = time.monotonic()
            if time.monotonic() - idle_since > 30:
                dispatcher.close()
            wait = POLL
            if number == 0:
                with self._database.reading() as session:
                    due = sends.next_due(session.connection())
                if due is not None:
                    wait = min(POLL, max(0.005, (due - self._clock.now()).total_seconds()))
            with self._due:
                if not self._stop.is_set():
                    self._due.wait(wait)
        dispatcher.close()

    def _ask(self) -> None:
        """Asks elsewhere about events that wait for it; the planner is rung for when they need nothing more."""
        enriching, bell, ear = Enriching(self._database, self._setups, self._clock), Bell(self._home), Ear(self._home)
        while not self._stop.is_set():
            try:
                ready = enriching.look()
            except Exception:
                log.exception("asking elsewhere failed; trying again")
                ready = 0
                self._stop.wait(1)
            if ready:
                bell.ring()
            else:
                ear.wait(0.5)
        ear.close()

    def _keep_house(self) -> None:
        reviewing = Reviewing(self._database, self._setups, self._vault, self._clock)
        while not self._stop.is_set():
            try:
                now = self._clock.now()
                with self._database.connection() as connection:
                    sends.beat(connection, self.name, now)
                recover(self._database, self._clock, [])
                reviewing.look()
            except Exception:
                log.exception("housekeeping failed; trying again")
            self._stop.wait(BEAT)

    def _recover_dead(self) -> None:
        """At the start: sends that workers of this machine held when they were killed."""
        with self._database.reading() as session:
            rows = sends.held_by(session)
        dead = [worker for worker in rows if _gone(worker)]
        if dead:
            given_back = recover(self._database, self._clock, dead)
            log.info("took over from workers that are gone", sends=given_back)


def _gone(worker: str) -> bool:
    """Whether a worker of this machine no longer runs; false for other machines' workers, whose leases run out instead."""
    node, _, rest = worker.rpartition("-")[0].rpartition("-")
    if node != os.uname().nodename:
        return False
    try:
        os.kill(int(rest), 0)
    except ProcessLookupError:
        return True
    except (PermissionError, ValueError):
        return False
    return int(rest) == os.getpid()
