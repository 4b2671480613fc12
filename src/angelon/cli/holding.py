"""A data folder and the processes that work on it: each holds its file shared, whoever changes it under them needs it
alone. The kernel lets go of it when a process ends, however it does (flock).
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import click

COUNTED = "PROMETHEUS_MULTIPROC_DIR"
"""Where the library for metrics keeps what several processes have counted."""
MEMORY = Path("/dev/shm")  # noqa: S108 - a folder of our own in it
FILE = "in-use"
_HELD: list[int] = []
"""Kept open until the process ends."""


def hold(home: Path) -> None:
    """From here on, this process works on the folder. Raises ClickException where somebody changes it just now."""
    handle = os.open(home / FILE, os.O_RDWR | os.O_CREAT, 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except BlockingIOError:
        os.close(handle)
        raise click.ClickException(f"{home} is being restored or given a new key. Start again in a moment.") from None
    _HELD.append(handle)


@contextmanager
def alone(home: Path, what: str) -> Iterator[None]:
    """While no other process works on the folder. Raises ClickException where one does, with `what` can't be done."""
    handle = os.open(home / FILE, os.O_RDWR | os.O_CREAT, 0o600)
    try:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise click.ClickException(
                f"Processes of Angelon work on {home}, and {what} before they are stopped: the web process, and every "
                "worker."
            ) from None
        yield
    finally:
        os.close(handle)


def _shared_folder(home: Path) -> Path | None:
    """Where counts are kept: in memory where there is such a folder, as a full disk would end who writes them there.
    None where there is no folder that is ours alone.
    """
    name = f"angelon-{hashlib.sha256(str(home.resolve()).encode()).hexdigest()[:16]}"
    for folder in (MEMORY / name, home / "metrics"):
        with suppress(OSError):
            folder.mkdir(mode=0o700, parents=folder.parent == home, exist_ok=True)
            found = folder.lstat()
            if stat.S_ISDIR(found.st_mode) and found.st_uid == os.getuid() and not found.st_mode & 0o077:
                return folder
    return None


def count_together(home: Path) -> None:
    """Has this process, and those that it starts, count what happens together with the others of the folder (see
    `engine/counters.py`, which is imported after this); from nothing where there are no others. Where no folder can be
    shared, each counts for itself.
    """
    if COUNTED in os.environ:
        with suppress(OSError):  # taken away while others run: those who start can't do without
            Path(os.environ[COUNTED]).mkdir(mode=0o700, exist_ok=True)
        return
    folder = _shared_folder(home)
    if folder is None:
        return
    with suppress(click.ClickException), alone(home, "nothing is counted anew"):
        for file in folder.glob("*.db"):
            file.unlink(missing_ok=True)
    os.environ[COUNTED] = str(folder)
