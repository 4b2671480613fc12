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
SERVER = "_ANGELON_SERVER"
"""The environment's word for the web server's own process, which the ones that it starts end with."""
_PR_SET_PDEATHSIG = 1


def end_with_parent(parent: int) -> None:
    """Has this process asked to end (SIGTERM) when its parent is gone: by the kernel on Linux, and by looking now and
    then.

    `parent` comes from the parent itself: it may have gone before this process asks who it was.
    """
    if sys.platform == "linux":
        ctypes.CDLL(None, use_errno=True).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)

    def look() -> None:
        while os.getppid() == parent:
            time.sleep(1)
        os.kill(os.getpid(), signal.SIGTERM)
        time.sleep(10)
        os._exit(1)

    threading.Thread(target=look, name="parent", daemon=True).start()


def end_with_starter(name: str = PARENT) -> None:
    """As `end_with_parent`, where the process was started by one of ours (`serve`, `demo`, the web server)."""
    starter = os.environ.get(name, "")
    if not starter.isdigit():
        return
    end_with_parent(int(starter))
    if os.getppid() != int(starter):  # looked at after the kernel was told, so that it can't go unseen in between
        os._exit(1)
