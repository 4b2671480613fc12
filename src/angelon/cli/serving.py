"""Runs the web server, the workers and the stand-ins: each a process, all ended together."""

from __future__ import annotations

import contextlib
import errno
import gc
import json
import os
import secrets
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from types import FrameType

import httpx
from granian.http import HTTP1Settings

from angelon.cli.forked import Forked, can_fork
from angelon.cli.parents import PARENT, SERVER
from angelon.engine.long_lived import READY
from angelon.settings import LISTENS
from angelon.web.services import PROCESS

RUN_FILE = "run.json"
THREADS = 4
"""How many sends at once for each gateway, in a process that sends."""
READY_WITHIN = 60.0
"""Seconds within which a process has to be ready that takes over from another."""
QUICK_END, RESTART_AFTER = 10.0, 3.0
"""A worker that ends within so many seconds of its start is started again after so many."""


def free_port(host: str = "127.0.0.1") -> int:
    with socket.socket() as probe:
        probe.bind((host, 0))
        return int(probe.getsockname()[1])


class PortTaken(RuntimeError):
    """Somebody else listens there."""


def listen(host: str, port: int) -> socket.socket:
    """The socket that deliveries and pages come in by: one that the service manager has opened (`LISTEN_FDS`, as
    sd_listen_fds has it), else one of our own. It belongs to whoever starts web processes, so that what comes while one
    takes over from another waits in it. Raises PortTaken.
    """
    if os.environ.get("LISTEN_PID") == str(os.getpid()) and os.environ.get("LISTEN_FDS", "0") != "0":
        return socket.socket(fileno=3)
    made = socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)  # connections long closed are in nobody's way
    try:
        made.bind((host, port))
        made.listen(BACKLOG)
    except OSError as error:
        made.close()
        if error.errno == errno.EADDRINUSE:
            raise PortTaken(
                f"Port {port} is taken: another program, perhaps another Angelon, listens there. Stop it, or "
                "choose another port with --port."
            ) from None
        raise PortTaken(f"{host}:{port} can't be listened on: {error.strerror}.") from None
    return made


BACKLOG = 1024
"""Connections that wait to be taken."""


def run_web(host: str, port: int, home: Path, handle: int | None = None) -> None:
    """Serves pages and intake until told to end, by a socket that listens already (`handle`) or one of its own. Writes
    where it listens into the data folder, for `angelon emit`. Raises PortTaken.
    """
    from granian import Granian
    from granian.constants import Interfaces
    from granian.log import LogLevels
    from granian.net import SocketHolder  # type: ignore[attr-defined]

    own = socket.socket(fileno=handle) if handle is not None else listen(host, port)

    class Server(Granian):  # type: ignore[misc, valid-type]
        """Takes connections from a socket that it is given."""

        def _init_shared_socket(self) -> None:
            self._ssp, self._sfd, self._sso = None, own.fileno(), None
            self._shd = SocketHolder(own.fileno(), False, BACKLOG)  # type: ignore[call-arg]

    process = os.environ.setdefault(PROCESS, make_process())
    os.environ[LISTENS] = host
    os.environ[SERVER] = str(os.getpid())
    (home / RUN_FILE).write_text(json.dumps({"url": f"http://{host}:{port}", "pid": os.getpid(), "process": process}))
    server = Server(
        "angelon.cli.application:application",
        address=host,
        port=port,
        interface=Interfaces.RSGI,
        factory=True,
        workers=1,
        backlog=BACKLOG,
        backpressure=8192,
        log_level=LogLevels.error,
        log_access=False,
        respawn_failed_workers=True,
        workers_kill_timeout=3,
        http1_settings=HTTP1Settings(header_read_timeout=15_000),
    )
    server.serve()


def make_process() -> str:
    """A name for one start of the program."""
    return f"{os.getpid()}-{secrets.token_hex(4)}"


def running_at(home: Path) -> str:
    """The address of the web process of a data folder; empty where none runs."""
    try:
        found = json.loads((home / RUN_FILE).read_text())
        os.kill(int(found["pid"]), 0)
    except (OSError, ValueError, KeyError):
        return ""
    return str(found["url"])


def import_all() -> None:
    """Imports what the processes need, once for all that are started from here."""

    import angelon.cli.application
    import angelon.engine.worker
    import angelon.standins.serving  # noqa: F401

    gc.collect()
    gc.freeze()  # modules stay: neither this process nor a copy looks through them for garbage
    gc.set_threshold(50_000, 20, 50)


class ProcessGroup:
    """Child processes that live and die together. The socket that is listened on is theirs together: a new web process
    takes over from an old one without a gap.
    """

    def __init__(self, door: socket.socket | None = None) -> None:
        self._door = door
        self._renewing = threading.Event()
        self._children: dict[str, subprocess.Popen[bytes] | Forked] = {}
        self._asked: dict[str, tuple[tuple[str, ...], dict[str, str]]] = {}
        self._followed: set[str] = set()
        self._ending = threading.Event()
        self._started: dict[str, float] = {}
        self.process = make_process()

    def start(self, name: str, *arguments: str, **environment: str) -> None:
        self._asked[name] = (arguments, environment)
        self._started[name] = time.monotonic()
        around = {PROCESS: self.process, PARENT: str(os.getpid()), **environment}
        self._children[name] = Forked(arguments, around) if can_fork() else self._anew(arguments, around)

    def _anew(self, arguments: tuple[str, ...], around: dict[str, str]) -> subprocess.Popen[bytes]:
        """A process that imports everything itself: the code as it is on the disk by now."""
        return subprocess.Popen(  # noqa: S603 - our own commands
            [sys.executable, "-m", "angelon", *arguments],
            env={**os.environ, **around},
            pass_fds=(self._door.fileno(),) if self._door is not None else (),
        )

    def start_web(self, host: str, port: int, **environment: str) -> None:
        assert self._door is not None
        handle = str(self._door.fileno())
        self.start("web", "web", "--host", host, "--port", str(port), "--handle", handle, **environment)

    def renew(self) -> None:
        """Has every process followed by a new one, as the code is by now: each is ready before the old one goes. One
        that does not get ready is ended, and the old one stays.
        """
        for name in ("web", *sorted(self._followed)):
            old = self._children[name]
            arguments, environment = self._asked[name]
            with tempfile.TemporaryDirectory() as folder:
                ready = Path(folder) / "ready"
                around = {PROCESS: self.process, PARENT: str(os.getpid()), READY: str(ready), **environment}
                made = self._anew(arguments, around)
                until = time.monotonic() + READY_WITHIN
                while not ready.exists() and made.poll() is None and time.monotonic() < until:
                    time.sleep(0.05)
                if not ready.exists():
                    print(f"The new {name} process did not get ready; the old one stays.", file=sys.stderr)
                    _end(made, 5)
                    continue
            self._children[name], self._started[name] = made, time.monotonic()
            _end(old, 12)
        print("Every process was followed by a new one.", flush=True)

    def start_workers(self, senders: int, threads: int, **environment: str) -> None:
        """Starts one process that plans and some that send; one that ends is followed by another."""
        planner = ("planner", ("worker", "--role", "plan"))
        sending = ("worker", "--role", "send", "--threads", str(threads))
        for name, arguments in (planner, *((f"sender {number + 1}", sending) for number in range(senders))):
            self._followed.add(name)
            self.start(name, *arguments, **environment)

    def listen(self) -> None:
        """Ends everything at SIGINT or SIGTERM."""

        def end(number: int, frame: FrameType | None) -> None:
            self._ending.set()

        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, end)
        signal.signal(signal.SIGHUP, lambda *_: self._renewing.set())

    def wait_ready(self, url: str, seconds: float = 60) -> bool:
        """Whether our own pages are served and every process is alive, within so many seconds: not whether what waits
        is done. Raises PortTaken where others answer.
        """
        until = time.monotonic() + seconds
        while time.monotonic() < until and not self._ending.is_set():
            if any(child.poll() is not None for child in self._children.values()):
                return False
            with contextlib.suppress(httpx.HTTPError):
                answer = httpx.get(f"{url}/readyz", timeout=2)
                who = (
                    answer.json().get("process")
                    if answer.headers.get("content-type", "").startswith("application/json")
                    else None
                )
                if who != self.process:
                    raise PortTaken(f"Another program answers at {url}. Stop it, or choose another port with --port.")
                alive = httpx.get(f"{url}/readyz/work", timeout=2).json().get("workers", [])
                if answer.status_code == 200 and len(alive) == 2:
                    return True
            time.sleep(0.1)
        return False

    def run(self) -> int:
        """Waits for the end; 0 where it was asked for, 1 where a child ended by itself."""
        code = 0
        while not self._ending.wait(0.3):
            if self._renewing.is_set():
                self._renewing.clear()
                self.renew()
            for name, child in list(self._children.items()):
                if child.poll() is not None:
                    if name in self._followed:  # another takes its place; what it held is given back
                        if time.monotonic() - self._started[name] < QUICK_END:
                            self._ending.wait(RESTART_AFTER)
                        arguments, environment = self._asked[name]
                        self.start(name, *arguments, **environment)
                        continue
                    print(f"The {name} process ended with {child.returncode}; stopping.", file=sys.stderr)
                    self._ending.set()
                    code = 1
        self.end()
        return code

    def end(self) -> None:
        if self._door is not None:
            self._door.close()
        for child in self._children.values():
            with contextlib.suppress(ProcessLookupError):
                child.terminate()
        until = time.monotonic() + 12
        for child in self._children.values():
            try:
                child.wait(max(0.1, until - time.monotonic()))
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait(5)


def _end(child: subprocess.Popen[bytes] | Forked, seconds: float) -> None:
    """Asks a process to end, and ends it where it does not within so many seconds."""
    with contextlib.suppress(ProcessLookupError):
        child.terminate()
    try:
        child.wait(seconds)
    except subprocess.TimeoutExpired:
        child.kill()
        child.wait(5)
