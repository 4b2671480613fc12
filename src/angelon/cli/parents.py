"""Processes that end with the one that started them, however that ended."""

from __future__ import annotations

import ctypes
import os
import signal
import sys
import threading
import time

PARENT = "_ANGELON_PARENT"
"""The environment's word for the process that a process ends with: ours, not a setting."""
_PR_SET_PDEATHSIG = 1


def end_with_parent(parent: int | None = None) -> None:
    """Has this process asked to end (SIGTERM) when its parent is gone: by the kernel on Linux, and by looking now and then."""
    parent = parent or os.getppid()
    if sys.platform == "linux":
        ctypes.CDLL(None, use_errno=True).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)

    def look() -> None:
        while os.getppid() == parent:
            time.sleep(1)
        os.kill(os.getpid(), signal.SIGTERM)
        time.sleep(10)
        os._exit(1)

    threading.Thread(target=look, name="parent", daemon=True).start()


def end_with_starter() -> None:
    """As `end_with_parent`, where the process was started by `serve` or `demo`."""
    starter = os.environ.get(PARENT, "")
    if starter.isdigit() and int(starter) == os.getppid():
        end_with_parent(int(starter))
    elif starter.isdigit():
        sys.exit("The process that started this one is gone.")
