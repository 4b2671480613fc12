"""Wakes workers on this machine at once; polling is the net below it."""

from __future__ import annotations

import contextlib
import hashlib
import os
import socket
import tempfile
from pathlib import Path


def _folder(home: Path) -> Path:
    """Where the sockets stand: a short path, since a socket's may not be longer than about 100 bytes."""
    mark = hashlib.sha256(str(home.resolve()).encode()).hexdigest()[:16]
    return Path(tempfile.gettempdir()) / f"angelon-{os.getuid()}-{mark}"


class Bell:
    """Rings every worker of a data folder."""

    def __init__(self, home: Path) -> None:
        self._folder = _folder(home)
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        self._socket.setblocking(False)

    def ring(self) -> None:
        """Costs a few microseconds; says nothing where nobody listens."""
        try:
            names = os.listdir(self._folder)
        except OSError:
            return
        for name in names:
            try:
                self._socket.sendto(b".", str(self._folder / name))
            except BlockingIOError:
                pass
            except OSError:
                with contextlib.suppress(OSError):
                    (self._folder / name).unlink()


class Ear:
    """A worker's end: waits for a ring or for a time to pass."""

    def __init__(self, home: Path) -> None:
        folder = _folder(home)
        folder.mkdir(mode=0o700, exist_ok=True)
        self._path = folder / f"{os.getpid()}-{id(self):x}"
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        self._socket.bind(str(self._path))

    def wait(self, seconds: float) -> bool:
        """True where somebody rang; all rings so far count as one."""
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
