"""Whose turn it is to write, and how long each had it.

SQLite has one writer at a time, and its own waiting polls. So writers take turns by a lock in shared memory that they
are woken by: a mutex of the C library that works across processes, is handed on in the order of asking (priority
inheritance, `FUTEX_LOCK_PI`), and passes to the next where a process that has it is killed (a robust mutex:
POSIX.1-2008, pthread_mutexattr_setrobust). It orders writers and protects nothing: that is SQLite's own lock. Where
the C library has no such mutex, or the turn does not come in time, SQLite's lock decides.

Deliveries go first: others queue among themselves, and only the first of them competes with deliveries, which so wait
for one hold of another, or two, however many want to write.
"""

from __future__ import annotations

import contextlib
import ctypes
import fcntl
import hashlib
import mmap
import os
import struct
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import structlog

log = structlog.get_logger()

LONGEST_WAIT = 20.0
"""Seconds that the turn is waited for; then SQLite's own lock decides, and says that the database is busy."""
LONG_HOLD = 0.25
"""Seconds of a hold, from which on the log names who it was."""
_OWNER_DIED, _TIMED_OUT, _BUSY = 130, 110, 16
_MAGIC = b"angelon2"
_MUTEXES, _MUTEX = 128, 128
"""Where the mutexes begin, and the bytes that each has: more than any C library takes."""
_QUEUE, _GATE, _TURN = 0, 1, 2
"""Those who are not deliveries; whoever is next; whoever writes."""
_SLOTS, _SLOT, _NAME, _MOST_SLOTS = 1024, 96, 64, 160
_NUMBERS = struct.Struct("QQQQ")
"""Of each purpose: holds, microseconds in all, the longest, and those over LONG_HOLD."""
_SIZE = _SLOTS + _SLOT * _MOST_SLOTS


class _Moment(ctypes.Structure):
    _fields_ = (("seconds", ctypes.c_long), ("nanoseconds", ctypes.c_long))


@dataclass(frozen=True, slots=True)
class Held:
    """How long writes of one purpose have held the turn, by all processes, since the machine was started."""

    purpose: str
    holds: int
    seconds: float
    longest: float
    long: int
    """Holds over LONG_HOLD."""


class _Shared:
    """The memory that all processes of one database share."""

    def __init__(self, file: Path) -> None:
        self._libc = ctypes.CDLL(None, use_errno=True)
        self._at_once = ctypes.PyDLL(None)
        """The same, for what waits for nothing: other threads of the interpreter have no turn meanwhile."""
        handle = os.open(file, os.O_RDWR | os.O_CREAT, 0o600)
        try:
            fcntl.flock(handle, fcntl.LOCK_EX)
            mark = _MAGIC + hashlib.sha256(_boot() + repr(_identity(handle)).encode()).digest()
            fresh = os.fstat(handle).st_size != _SIZE or os.pread(handle, len(mark), 0) != mark
            if fresh:  # of before the machine was started, or a copy of another's: nobody holds anything in it
                os.ftruncate(handle, 0)
                os.ftruncate(handle, _SIZE)
            self._memory = mmap.mmap(handle, _SIZE)
            self._base = ctypes.addressof(ctypes.c_char.from_buffer(self._memory))
            if fresh:
                for number in (_QUEUE, _GATE, _TURN):
                    self._make(number)
                self._memory[: len(mark)] = mark
        finally:
            fcntl.flock(handle, fcntl.LOCK_UN)  # the memory keeps the file open, and with it the lock
            os.close(handle)
        self._places: dict[str, int] = {}
        self._mutexes = [self._mutex(number) for number in (_QUEUE, _GATE, _TURN)]

    def _make(self, number: int) -> None:
        attributes = ctypes.create_string_buffer(64)
        made = self._libc.pthread_mutexattr_init(attributes)
        for call in ("pthread_mutexattr_setpshared", "pthread_mutexattr_setrobust", "pthread_mutexattr_setprotocol"):
            made = made or getattr(self._libc, call)(attributes, 1)  # shared; robust; inherits priority
        made = made or self._libc.pthread_mutex_init(self._mutex(number), attributes)
        if made:
            raise OSError(made, "there is no such mutex here")

    def _mutex(self, number: int) -> ctypes.c_void_p:
        return ctypes.c_void_p(self._base + _MUTEXES + number * _MUTEX)

    def lock(self, number: int, until: float) -> bool:
        """Waits for a mutex until a moment of the clock (seconds since 1970); says whether it was had."""
        came = self._at_once.pthread_mutex_trylock(self._mutexes[number])
        if came == _BUSY:
            moment = _Moment(int(until), int(until % 1 * 1e9))
            came = self._libc.pthread_mutex_timedlock(self._mutexes[number], ctypes.byref(moment))
        if came == _OWNER_DIED:
            self._libc.pthread_mutex_consistent(self._mutexes[number])
            return True
        if came not in (0, _TIMED_OUT):
            log.error("the turn to write could not be waited for", code=came)
        return bool(came == 0)

    def unlock(self, number: int) -> None:
        self._at_once.pthread_mutex_unlock(self._mutexes[number])

    def note(self, purpose: str, seconds: float) -> None:
        """Adds up a hold; called by whoever has the turn, and so by one at a time."""
        at = self._place(purpose)
        if at is None:
            return
        holds, total, longest, long = _NUMBERS.unpack_from(self._memory, at + _NAME)
        micros = int(seconds * 1e6)
        numbers = (holds + 1, total + micros, max(longest, micros), long + (seconds > LONG_HOLD))
        _NUMBERS.pack_into(self._memory, at + _NAME, *numbers)

    def _place(self, purpose: str) -> int | None:
        known = self._places.get(purpose)
        if known is not None:
            return known
        name = purpose.encode()[:_NAME].ljust(_NAME, b"\0")
        for at in range(_SLOTS, _SIZE, _SLOT):
            there = self._memory[at : at + _NAME]
            if there == name or not there[0]:
                self._memory[at : at + _NAME] = name
                self._places[purpose] = at
                return at
        return None

    def held(self) -> list[Held]:
        found = []
        for at in range(_SLOTS, _SIZE, _SLOT):
            name = self._memory[at : at + _NAME].rstrip(b"\0").decode("utf-8", "replace")
            if not name:
                break
            holds, total, longest, long = _NUMBERS.unpack_from(self._memory, at + _NAME)
            found.append(Held(name, holds, total / 1e6, longest / 1e6, long))
        return found


def _boot() -> bytes:
    """What this start of the machine is told apart by."""
    with contextlib.suppress(OSError):
        return Path("/proc/sys/kernel/random/boot_id").read_bytes()
    return b""


def _identity(handle: int) -> tuple[int, int]:
    status = os.fstat(handle)
    return status.st_dev, status.st_ino


class WriteTurn:
    """Taken around every write. For use by several threads of several processes."""

    def __init__(self, file: Path | None) -> None:
        """`file` is where the shared memory stands; None where one process has the database to itself."""
        self.longest = LONG_HOLD
        """How long a write may take before the log is told, in seconds."""
        self._file = file
        self._shared: _Shared | None = None
        self._opened_in = 0
        self._opening = threading.Lock()
        self._alone = threading.Lock()
        self._alone_held: dict[str, list[float]] = {}
        self._writing = threading.local()

    @contextlib.contextmanager
    def take(self, purpose: str, first: bool = False) -> Iterator[None]:
        """`first` is for deliveries. Raises RuntimeError inside a write of the same thread, which it would wait for for
        ever.
        """
        if getattr(self._writing, "now", False):
            raise RuntimeError("a write is begun inside a write of the same thread, and would wait for itself")
        shared = self._open()
        self._writing.now = True
        try:
            with self._among_processes(shared, first) if shared is not None else self._alone:
                began = time.monotonic()
                try:
                    yield
                finally:
                    self._note(shared, purpose, time.monotonic() - began)
        finally:
            self._writing.now = False

    @contextlib.contextmanager
    def timed(self, purpose: str) -> Iterator[None]:
        """Takes the time of a write that is no turn: where several may write."""
        began = time.monotonic()
        try:
            yield
        finally:
            with self._alone:
                self._note(None, purpose, time.monotonic() - began)

    def _note(self, shared: _Shared | None, purpose: str, seconds: float) -> None:
        if seconds > self.longest:
            log.warning("a write kept others waiting", purpose=purpose, seconds=round(seconds, 3))
        if shared is not None:
            shared.note(purpose, seconds)
            return
        numbers = self._alone_held.setdefault(purpose, [0, 0.0, 0.0, 0])
        numbers[:] = [
            numbers[0] + 1,
            numbers[1] + seconds,
            max(numbers[2], seconds),
            numbers[3] + (seconds > LONG_HOLD),
        ]

    @contextlib.contextmanager
    def _among_processes(self, shared: _Shared, first: bool) -> Iterator[None]:
        until = time.time() + LONGEST_WAIT
        queued = not first and shared.lock(_QUEUE, until)
        at_gate = (first or queued) and shared.lock(_GATE, until)
        have = at_gate and shared.lock(_TURN, until)
        if at_gate:
            shared.unlock(_GATE)
        try:
            yield
        finally:
            if have:
                shared.unlock(_TURN)
            if queued:
                shared.unlock(_QUEUE)

    def _open(self) -> _Shared | None:
        if self._file is None:
            return None
        if self._opened_in != os.getpid():
            with self._opening:
                if self._opened_in != os.getpid():
                    try:
                        self._shared = _Shared(self._file)
                    except (OSError, AttributeError, ValueError) as error:
                        log.warning("writers can’t take turns here; SQLite’s own lock decides", why=str(error))
                        self._shared = None
                    self._opened_in = os.getpid()
        return self._shared

    def held(self) -> list[Held]:
        """How long each purpose has held the turn, the longest hold first."""
        shared = self._open()
        found: list[Any] = (
            shared.held()
            if shared is not None
            else [
                Held(name, int(holds), total, longest, int(long))
                for name, (holds, total, longest, long) in self._alone_held.items()
            ]
        )
        return sorted(found, key=lambda one: one.longest, reverse=True)
