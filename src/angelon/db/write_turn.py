"""Whose turn it is to write: one thread of one process at a time, so that nobody polls for SQLite's lock."""

from __future__ import annotations

import contextlib
import fcntl
import os
import threading
import time
from collections.abc import Iterator
from pathlib import Path

LONGEST_WAIT = 20.0
"""Seconds that another process is waited for; then SQLite's own lock decides, and says that the database is busy."""
LOOK = 0.0005
"""Seconds between looks. SQLite's own waiting sleeps up to 0.1 s, which lets whoever writes often keep the others out.
"""


class WriteTurn:
    """Taken around every write. The one who waits longest is next, as far as two locks can tell: a process that has
    just written can't write again before the one that waits for it.

    The locks are files beside the database (`flock`), released by the kernel when a process ends. They order writers
    and protect nothing: that is SQLite's own lock. Where they can't be had, writing goes on without them.
    """

    def __init__(self, database_file: Path | None) -> None:
        self._among_threads = threading.Lock()
        self._holder = 0
        self._file = database_file
        self._handles: tuple[int, int] | None = None
        self._opened_in = 0

    @contextlib.contextmanager
    def take(self) -> Iterator[None]:
        """Raises RuntimeError inside a write of the same thread, which it would wait for for ever."""
        if self._holder == threading.get_ident():
            raise RuntimeError("a write is begun inside a write of the same thread, and would wait for itself")
        with self._among_threads:
            self._holder = threading.get_ident()
            held = self._take_among_processes()
            try:
                yield
            finally:
                if held is not None:
                    fcntl.flock(held, fcntl.LOCK_UN)
                self._holder = 0

    def _take_among_processes(self) -> int | None:
        """The handle of the lock that is held; None where the wait was too long, or there is no such lock."""
        handles = self._open()
        if handles is None:
            return None
        following, turn = handles
        until = time.monotonic() + LONGEST_WAIT
        if not _lock(following, until):
            return None
        try:
            return turn if _lock(turn, until) else None
        finally:
            fcntl.flock(following, fcntl.LOCK_UN)

    def _open(self) -> tuple[int, int] | None:
        if self._file is None:
            return None
        if self._handles is None or self._opened_in != os.getpid():  # a handle that was inherited shares its lock
            try:
                first, second = (
                    os.open(self._file.with_name(f"{self._file.name}-{name}"), os.O_RDWR | os.O_CREAT, 0o600)
                    for name in ("next", "turn")
                )
            except OSError:
                return None
            self._handles, self._opened_in = (first, second), os.getpid()
        return self._handles

    def close(self) -> None:
        if self._handles is not None and self._opened_in == os.getpid():
            for handle in self._handles:
                os.close(handle)
        self._handles = None


def _lock(handle: int, until: float) -> bool:
    while True:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return True
        except BlockingIOError:
            if time.monotonic() > until:
                return False
            time.sleep(LOOK)
        except OSError:
            return False
