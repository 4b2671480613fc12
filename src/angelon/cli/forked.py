"""A process of our own that goes on from here with one of our commands: what this one has imported is there at once,
and their memory is shared.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
import traceback
from collections.abc import Mapping


def can_fork() -> bool:
    """Whether this process may be copied: a copy has only the thread that makes it."""
    return hasattr(os, "fork") and threading.active_count() == 1


class Forked:
    """A child process that runs a command, with what `subprocess.Popen` has of it. Whoever makes one has no database
    open: a SQLite connection must not be carried into a copy.
    """

    def __init__(self, arguments: tuple[str, ...], environment: Mapping[str, str]) -> None:
        sys.stdout.flush()
        sys.stderr.flush()
        self.returncode: int | None = None
        self.pid = os.fork()
        if self.pid == 0:
            _become(arguments, environment)

    def poll(self) -> int | None:
        """Its exit code, negative where a signal ended it; None while it runs."""
        if self.returncode is None:
            try:
                pid, status = os.waitpid(self.pid, os.WNOHANG)
            except ChildProcessError:
                self.returncode = 1
            else:
                if pid:
                    self.returncode = os.waitstatus_to_exitcode(status)
        return self.returncode

    def wait(self, timeout: float) -> int:
        """Raises subprocess.TimeoutExpired."""
        until = time.monotonic() + timeout
        while self.poll() is None:
            if time.monotonic() > until:
                raise subprocess.TimeoutExpired(str(self.pid), timeout)
            time.sleep(0.02)
        return self.returncode or 0

    def terminate(self) -> None:
        self._send(signal.SIGTERM)

    def kill(self) -> None:
        self._send(signal.SIGKILL)

    def _send(self, number: int) -> None:
        if self.poll() is None:
            os.kill(self.pid, number)


def _become(arguments: tuple[str, ...], environment: Mapping[str, str]) -> None:
    code = 1
    try:
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, signal.SIG_DFL)
        os.environ.update(environment)
        sys.argv = ["angelon", *arguments]
        from angelon.cli.main import main

        main(list(arguments))
        code = 0
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)
