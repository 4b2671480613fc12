"""A time by which a whole try is over. Timeouts of sockets are for one read each: whoever sends a byte now and then
outlasts them.
"""

from __future__ import annotations

import contextlib
import os
import socket
import threading
import time
from types import TracebackType

TIMES_TIMEOUT = 3
"""A try may take so many times the gateway's timeout, which is for one answer."""


def whole_try(timeout_seconds: float) -> float:
    """The longest that one try may take, in seconds."""
    return timeout_seconds * TIMES_TIMEOUT


class _Watch:
    """One thread that cuts connections whose time is over."""

    def __init__(self) -> None:
        self._lock = threading.Condition()
        self._open: dict[int, tuple[float, Deadline]] = {}
        self._thread: threading.Thread | None = None

    def add(self, deadline: Deadline, at: float) -> None:
        with self._lock:
            self._open[id(deadline)] = (at, deadline)
            if self._thread is None or not self._thread.is_alive():
                self._thread = threading.Thread(target=self._run, name="deadlines", daemon=True)
                self._thread.start()

    def remove(self, deadline: Deadline) -> None:
        with self._lock:
            self._open.pop(id(deadline), None)

    def _run(self) -> None:
        while True:
            with self._lock:
                now = time.monotonic()
                over = [deadline for at, deadline in self._open.values() if at <= now]
                for deadline in over:
                    self._open.pop(id(deadline), None)
            for deadline in over:
                deadline.cut()
            time.sleep(0.1)


_WATCH = _Watch()


class Line:
    """A connection that can be cut from outside while somebody waits for it, whatever is wrapped around it
    meanwhile.
    """

    def __init__(self) -> None:
        self._held: socket.socket | None = None

    def hold(self, connected: socket.socket) -> None:
        """Remembers a connection; a second handle, since TLS takes the first one over."""
        self.drop()
        self._held = socket.socket(fileno=os.dup(connected.fileno()))

    def cut(self) -> None:
        if self._held is not None:
            with contextlib.suppress(OSError):
                self._held.shutdown(socket.SHUT_RDWR)

    def drop(self) -> None:
        if self._held is not None:
            with contextlib.suppress(OSError):
                self._held.close()
            self._held = None


class Deadline:
    """`with Deadline(line, 30):` cuts the line after 30 s; `over` says whether it did."""

    def __init__(self, line: Line, seconds: float) -> None:
        self._line = line
        self._seconds = seconds
        self.over = False

    def __enter__(self) -> Deadline:
        self._until = time.monotonic() + self._seconds
        _WATCH.add(self, self._until)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, where: TracebackType | None
    ) -> None:
        _WATCH.remove(self)

    def left(self) -> float:
        """Seconds that are left, a moment at the least."""
        return max(0.05, self._until - time.monotonic())

    def cut(self) -> None:
        self.over = True
        self._line.cut()
