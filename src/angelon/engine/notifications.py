"""Wakes workers at once: those of this machine by sockets in the data folder, those of others by the database's own
notices (PostgreSQL's LISTEN and NOTIFY). Polling is the net below both.
"""

from __future__ import annotations

import contextlib
import os
import socket
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from angelon.engine.postgresql_notices import NoticeSender

FOLDER = "wake"
LONGEST = 100
"""Bytes of a socket's address, less a few that differ between systems."""


def _folder(home: Path) -> Path:
    """Where the sockets stand: in the data folder, which is its owner's alone."""
    return home.resolve() / FOLDER


@contextlib.contextmanager
def _address(folder: Path, name: str) -> Iterator[str]:
    """A socket's address. One that would be too long goes by the folder's open handle."""
    path = str(folder / name)
    if len(path.encode()) <= LONGEST:
        yield path
        return
    handle = os.open(folder, os.O_PATH | os.O_DIRECTORY)
    try:
        yield f"/proc/self/fd/{handle}/{name}"
    finally:
        os.close(handle)


PLANNING, SENDING = "plan", "send"
"""What a listener waits for: events to be planned, or sends to be delivered."""


class Notifier:
    """Wakes the workers of a data folder, and with `notices` those of other machines."""

    def __init__(self, home: Path, notices: NoticeSender | None = None) -> None:
        self._notices = notices
        self._folder = _folder(home)
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        self._socket.setblocking(False)

    def notify(self, topic: str = "") -> None:
        """Wakes those who wait for `topic`, or all. Costs a few microseconds; does nothing where nobody listens."""
        if self._notices is not None:
            self._notices.send(topic)
        self.notify_here(topic)

    def notify_here(self, topic: str = "") -> None:
        """The same, on this machine alone."""
        try:
            names = os.listdir(self._folder)
        except OSError:
            return
        for name in names:
            if not name.startswith(topic):
                continue
            try:
                with _address(self._folder, name) as address:
                    self._socket.sendto(b".", address)
            except BlockingIOError:
                pass
            except OSError:
                self._sweep(name)

    def _sweep(self, name: str) -> None:
        """Takes away a socket that nobody listens on any more, and nothing but a socket."""
        with contextlib.suppress(OSError):
            if stat.S_ISSOCK((self._folder / name).lstat().st_mode):
                (self._folder / name).unlink()


class Silent(Notifier):
    """Wakes nobody: what is to be done is found by looking."""

    def __init__(self) -> None:
        self._notices = None

    def notify_here(self, topic: str = "") -> None:
        pass


class Listener:
    """A worker's end: waits to be notified of a topic, or for a time to pass."""

    def __init__(self, home: Path, topic: str = PLANNING) -> None:
        folder = _folder(home)
        folder.mkdir(mode=0o700, exist_ok=True)
        name = f"{topic}-{os.getpid()}-{id(self):x}"
        self._path = folder / name
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        with _address(folder, name) as address:
            self._socket.bind(address)

    def wait(self, seconds: float) -> bool:
        """True where it was notified; all notices so far count as one."""
        self._socket.settimeout(max(seconds, 0.001))
        try:
            self._socket.recv(16)
        except (TimeoutError, BlockingIOError):
            return False
        self._socket.setblocking(False)
        with contextlib.suppress(BlockingIOError):
            while True:
                self._socket.recv(16)
        return True

    def close(self) -> None:
        self._socket.close()
        with contextlib.suppress(OSError):
            self._path.unlink()
