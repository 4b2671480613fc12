"""Processes that handlers run in, apart from everything else: kept warm, cut off when they take too long or too much,
replaced when they end or their files change.
"""

from __future__ import annotations

import contextlib
import json
import os
import queue
import secrets
import select
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from angelon.core.outside import refuse_inside

LOADING = 10.0
"""Seconds that a folder's files may take to be imported."""
LONGEST_LINE = 4_000_000
"""Bytes of one answer of a process."""


@dataclass(frozen=True, slots=True)
class Result:
    """What one call came to: what it asks for, or in `problem` why not; what it printed; the seconds it took."""

    asked: dict[str, Any] | None
    problem: str
    output: str
    took: float
    values: dict[int, list[str]] = field(default_factory=dict)
    """By line of the author's file, where the call was watched: what its names were."""
    ran: frozenset[int] = frozenset()
    """The lines that ran, where the call was watched."""


@dataclass(frozen=True, slots=True)
class Loaded:
    """What a process found in its folder."""

    handlers: list[dict[str, Any]] = field(default_factory=list)
    problems: list[dict[str, str]] = field(default_factory=list)
    output: str = ""

    def plain(self) -> dict[str, Any]:
        return {"handlers": self.handlers, "problems": self.problems, "output": self.output}


SEEN = ("PATH", "HOME", "USER", "LANG", "LANGUAGE", "TZ", "VIRTUAL_ENV", "PYTHONPATH", "PYTHONHOME", "LD_LIBRARY_PATH")
"""Variables of the environment that every program needs; with them those that begin with `LC_`."""
MARK = "ANGELON_HANDLER_PROCESS"
"""The variable by which what a handler has started is known, whatever it made of itself."""
ENDING = 5.0
"""Seconds that are given to the end of what a handler has started: what can't be ended holds nobody up."""
MOST_KEPT = 200_000_000
"""Bytes that a handler may leave in its folder for temporary files."""


def environment(mark: str, temporary: str) -> dict[str, str]:
    """What handlers see of this process's environment: what every program needs, and what the settings name."""
    named = {name.strip() for name in os.environ.get("ANGELON_HANDLER_VARIABLES", "").split(",")}
    seen = {name: value for name, value in os.environ.items() if name in SEEN or name in named or name[:3] == "LC_"}
    network = "" if os.environ.get("ANGELON_HANDLER_NETWORK", "").lower() in ("0", "no", "off", "false") else "yes"
    return seen | {MARK: mark, "TMPDIR": temporary, "PYTHONDONTWRITEBYTECODE": "1", "ANGELON_NETWORK": network}


def _marked(mark: str) -> list[int]:
    """The processes that run with a mark in their environment (Linux); none where that can't be seen."""
    found, wanted = [], f"{MARK}={mark}".encode()
    for name in os.listdir("/proc") if os.path.isdir("/proc") else ():
        if name.isdigit():
            with contextlib.suppress(OSError):
                if wanted in Path(f"/proc/{name}/environ").read_bytes().split(b"\0"):
                    found.append(int(name))
    return found


def _size(folder: str) -> int:
    with contextlib.suppress(OSError):
        if not os.listdir(folder):  # as after most calls
            return 0
    return sum(file.lstat().st_size for file in Path(folder).rglob("*") if not file.is_dir())


class Gone(RuntimeError):
    """The process has ended, or was ended; says why."""


class HandlerProcess:
    """One process that has loaded a folder. For use by one thread at a time."""

    def __init__(self, folder: Path) -> None:
        there, reading = os.pipe()
        self._writing = reading
        self._reading, writing = os.pipe()
        self._buffer = b""
        self._mark, self._temporary = secrets.token_hex(8), tempfile.mkdtemp(prefix="angelon-handler-")
        try:
            self._process = subprocess.Popen(  # noqa: S603 - our own module
                [sys.executable, "-m", "angelon.handlers.process", str(folder), str(there), str(writing)],
                pass_fds=(there, writing),
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                start_new_session=True,
                env=environment(self._mark, self._temporary),
            )
        finally:
            os.close(there)
            os.close(writing)
        try:
            told = self._answer(LOADING)
        except Gone as gone:
            self.end()
            told = {"handlers": [], "problems": [{"file": "the folder", "problem": f"While it was loaded: {gone}"}]}
        self.loaded = Loaded(told["handlers"], told["problems"], told.get("output", ""))

    def call(self, handler: str, event: dict[str, Any], timeout: float, watch: bool = False) -> Result:
        """Runs a handler on an event. Where it takes longer, or the process ends, the process is gone after it."""
        began = time.monotonic()
        try:
            self._send({"handler": handler, "event": event, "watch": watch})
            told = self._answer(timeout + 0.05)
        except Gone as gone:
            self.end()
            return Result(None, str(gone), "", time.monotonic() - began)
        asked, problem, output = told.get("asked"), told.get("problem", ""), told.get("output", "")
        if (kept := _size(self._temporary)) > MOST_KEPT:
            self.end()
            asked, problem = None, f"It has left {kept:,} bytes of temporary files, and may leave {MOST_KEPT:,}."
        values = {int(line): said for line, said in told.get("values", {}).items()}
        return Result(asked, problem, output, told.get("took", 0.0), values, frozenset(told.get("ran", [])))

    @property
    def runs(self) -> bool:
        return self._process.poll() is None

    def end(self) -> None:
        """Ends it, with everything that it has started, also what has left its group."""
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(self._process.pid, signal.SIGKILL)
        until = time.monotonic() + ENDING
        while (left := _marked(self._mark)) and time.monotonic() < until:  # one may start another
            for process in left:
                with contextlib.suppress(ProcessLookupError, PermissionError):
                    os.kill(process, signal.SIGKILL)
            time.sleep(0.02)
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._process.wait(5)
        for handle in (self._reading, self._writing):
            with contextlib.suppress(OSError):
                os.close(handle)
        self._reading = self._writing = -1
        shutil.rmtree(self._temporary, ignore_errors=True)

    def _send(self, asked: dict[str, Any]) -> None:
        data = json.dumps(asked).encode() + b"\n"
        try:
            if len(data) <= select.PIPE_BUF:  # which fits into a pipe that was emptied
                os.write(self._writing, data)
                return
            while data:
                _, ready, _ = select.select([], [self._writing], [], 5)
                if not ready:
                    raise Gone("The process takes no more.")
                data = data[os.write(self._writing, data[:65536]) :]
        except (OSError, ValueError):
            raise Gone(self._why()) from None

    def _answer(self, seconds: float) -> dict[str, Any]:
        until = time.monotonic() + seconds
        while b"\n" not in self._buffer:
            left = until - time.monotonic()
            ready = select.select([self._reading], [], [], max(left, 0))[0] if left > 0 else []
            if not ready:
                raise Gone(f"It took longer than {seconds:.1f} s and was stopped. Raise timeout= in @on, or do less.")
            chunk = os.read(self._reading, 65536)
            if not chunk:
                raise Gone(self._why())
            self._buffer += chunk
            if len(self._buffer) > LONGEST_LINE:
                raise Gone(f"It answered with more than {LONGEST_LINE:,} bytes.")
        line, _, self._buffer = self._buffer.partition(b"\n")
        try:
            told = json.loads(line)
        except ValueError:
            raise Gone("It answered with what is no JSON.") from None
        if not isinstance(told, dict):
            raise Gone("It answered with what is no JSON object.")
        return told

    def _why(self) -> str:
        with contextlib.suppress(subprocess.TimeoutExpired):
            code = self._process.wait(2)
            if code < 0:
                name = signal.Signals(-code).name
                return f"Its process was ended by {name}: it may have taken too much memory, or called exit in C code."
            return f"Its process ended with exit code {code}: a handler must return, not exit."
        return "Its process has closed its pipes."


class Pool:
    """Processes of one folder, so many for each handler, started when first needed: one that hangs holds up its own
    calls alone. For use by several threads. A folder that is the pool's `own` is removed at its end.
    """

    def __init__(self, folder: Path, size: int = 2, own: bool = False) -> None:
        self._folder, self._own, self._size = folder, own, size
        self._free: dict[str, queue.LifoQueue[HandlerProcess | None]] = {}
        """By handler: those that run are taken before one is started."""
        self._spare: HandlerProcess | None = None
        self._lock = threading.Lock()
        self._loaded: Loaded | None = None
        self._ended = False

    def loaded(self) -> Loaded:
        """What the folder holds, as the processes of this pool have it."""
        with self._lock:
            known = self._loaded
        if known is not None:
            return known
        process = self._started()
        with self._lock:
            spare = self._spare is None and not self._ended
            if spare:
                self._spare = process
        if not spare:
            process.end()
        return self._loaded or Loaded()

    def call(self, handler: str, event: dict[str, Any], timeout: float, watch: bool = False) -> Result:
        """Runs a handler on an event in one of the processes, once one is free."""
        refuse_inside("calling a handler")
        free = self._of(handler)
        process = self._taken(free)
        result: Result | None = None
        try:
            result = process.call(handler, event, timeout, watch)
            return result
        finally:
            if self._ended:
                process.end()
            free.put(process if process.runs and result is not None else None)

    def own(self) -> None:
        """Makes the folder the pool's own."""
        self._own = True

    def end(self) -> None:
        """Ends the processes; those at work once they are done."""
        with self._lock:
            self._ended = True
            spare, self._spare = self._spare, None
            waiting = list(self._free.values())
        if spare is not None:
            spare.end()
        for free in waiting:
            with contextlib.suppress(queue.Empty):
                while True:
                    process = free.get_nowait()
                    if process is not None:
                        process.end()
        if self._own:
            shutil.rmtree(self._folder, ignore_errors=True)

    def _of(self, handler: str) -> queue.LifoQueue[HandlerProcess | None]:
        with self._lock:
            free = self._free.get(handler)
            if free is None:
                free = self._free[handler] = queue.LifoQueue()
                for _ in range(self._size):
                    free.put(None)
            return free

    def _taken(self, free: queue.LifoQueue[HandlerProcess | None]) -> HandlerProcess:
        process = free.get()
        if process is not None and process.runs:
            return process
        try:
            return self._started()
        except BaseException:
            free.put(None)
            raise

    def _started(self) -> HandlerProcess:
        with self._lock:
            spare, self._spare = self._spare, None
        if spare is not None and spare.runs:
            return spare
        process = HandlerProcess(self._folder)
        with self._lock:
            self._loaded = process.loaded
        return process
