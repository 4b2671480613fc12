"""A data folder and the processes that work on it: each holds its file shared, whoever changes it under them needs it
alone. The kernel lets go of it when a process ends, however it does (flock).
"""

from __future__ import annotations

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import click

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
