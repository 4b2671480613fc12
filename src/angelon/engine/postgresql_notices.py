"""Wakes the workers of other machines by PostgreSQL's notices (its manual, NOTIFY)."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from collections.abc import Callable
from typing import Any

import structlog
from sqlalchemy import text

from angelon.db.database import Database

log = structlog.get_logger()

CHANNEL = "angelon"
APART = 0.02
"""Seconds between two notices of a process: one stands for all that came since. PostgreSQL has one queue for all, whose
lock every commit with a notice takes.
"""
AGAIN = 2.0
"""Seconds until a lost connection is tried again; polling serves meanwhile."""


def notice_sender(database: Database) -> NoticeSender | None:
    """What gives notice on a database that several machines share; None for SQLite."""
    return None if database.sqlite else NoticeSender(database)


class NoticeSender:
    """Gives notice from a thread of its own, so that nobody who has stored something waits for it."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self.me = f"{os.uname().nodename}-{os.getpid()}"
        self._wanted: set[str] = set()
        self._changed = threading.Condition()
        self._thread: threading.Thread | None = None

    def send(self, topic: str) -> None:
        """Wakes those who wait for a topic, or all (""), a moment later."""
        with self._changed:
            self._wanted.add(topic)
            if self._thread is None:
                self._thread = threading.Thread(target=self._give_notice, name="notices-out", daemon=True)
                self._thread.start()
            self._changed.notify()

    def _give_notice(self) -> None:
        while True:
            with self._changed:
                self._changed.wait_for(lambda: self._wanted)
                topics, self._wanted = self._wanted, set()
            try:
                with self._database.engine.connect() as connection:
                    for topic in topics:
                        notice = {"channel": CHANNEL, "said": f"{self.me} {topic}"}
                        connection.execute(text("SELECT pg_notify(:channel, :said)"), notice)
                    connection.commit()
            except Exception as error:
                log.warning("other machines could not be notified; they look by themselves", why=str(error)[:200])
                time.sleep(AGAIN)
            time.sleep(APART)


class NoticeReceiver:
    """Hears the notices of other processes, in a thread, and passes each topic on."""

    def __init__(self, database: Database, me: str, heard: Callable[[str], object]) -> None:
        self._database, self._me, self._heard = database, me, heard
        self._stop = threading.Event()
        self._connection: Any = None
        threading.Thread(target=self._listen, name="notices-in", daemon=True).start()

    def stop(self) -> None:
        self._stop.set()

    def _listen(self) -> None:
        while not self._stop.is_set():
            try:
                with contextlib.closing(self._connected()) as connection:
                    connection.execute(f"LISTEN {CHANNEL}")
                    self._heard("")  # whatever was said while nobody listened
                    while not self._stop.is_set():
                        for notice in connection.notifies(timeout=1.0):
                            sender, _, topic = notice.payload.partition(" ")
                            if sender != self._me:
                                self._heard(topic)
                            if self._stop.is_set():
                                break
            except Exception as error:
                if not self._stop.is_set():
                    log.warning("notices of other machines are not heard", why=str(error)[:200])
                    self._stop.wait(AGAIN)

    def _connected(self) -> Any:
        import psycopg  # only where the database is one that it speaks to

        assert self._database.listens_at is not None
        url = self._database.listens_at.set(drivername="postgresql")
        return psycopg.connect(url.render_as_string(hide_password=False), autocommit=True, connect_timeout=5)
