"""Runs the web server, the worker and the stand-ins: each a process, all ended together."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path
from types import FrameType

import httpx

RUN_FILE = "run.json"


def free_port(host: str = "127.0.0.1") -> int:
    with socket.socket() as probe:
        probe.bind((host, 0))
        return int(probe.getsockname()[1])


def run_web(host: str, port: int, home: Path) -> None:
    """Serves pages and intake until told to end. Writes where it listens into the data folder, for `angelon emit`."""
    from granian import Granian
    from granian.constants import Interfaces
    from granian.log import LogLevels

    home.mkdir(parents=True, exist_ok=True)
    (home / RUN_FILE).write_text(json.dumps({"url": f"http://{host}:{port}", "pid": os.getpid()}))
    server = Granian(
        "angelon.cli.wsgi:application", address=host, port=port, interface=Interfaces.WSGI, factory=True, workers=1, blocking_threads=64, backlog=1024,
        log_level=LogLevels.warning, log_access=False, respawn_failed_workers=True, workers_kill_timeout=3,
    )  # fmt: skip
    server.serve()


def running_at(home: Path) -> str:
    """The address of the web process of a data folder; empty where none runs."""
    try:
        found = json.loads((home / RUN_FILE).read_text())
        os.kill(int(found["pid"]), 0)
    except (OSError, ValueError, KeyError):
        return ""
    return str(found["url"])


class Family:
    """Child processes that live and die together."""

    def __init__(self) -> None:
        self._children: dict[str, subprocess.Popen[bytes]] = {}
        self._asked: dict[str, tuple[tuple[str, ...], dict[str, str]]] = {}
        self._ending = threading.Event()

    def start(self, name: str, *arguments: str, **environment: str) -> None:
        self._asked[name] = (arguments, environment)
        self._children[name] = subprocess.Popen([sys.executable, "-m", "angelon", *arguments], env={**os.environ, **environment})  # noqa: S603 - our own commands

    def listen(self) -> None:
        """Ends everything at SIGINT or SIGTERM."""

        def end(number: int, frame: FrameType | None) -> None:
            self._ending.set()

        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, end)

    def wait_ready(self, url: str, seconds: float = 60) -> bool:
        """Whether pages are served and a worker has given a sign of life, within so many seconds."""
        until = time.monotonic() + seconds
        while time.monotonic() < until and not self._ending.is_set():
            if any(child.poll() is not None for child in self._children.values()):
                return False
            with contextlib.suppress(httpx.HTTPError):
                if httpx.get(f"{url}/readyz", timeout=2).status_code == 200:
                    return True
            time.sleep(0.1)
        return False

    def run(self) -> int:
        """Waits for the end; 0 where it was asked for, 1 where a child ended by itself."""
        code = 0
        while not self._ending.wait(0.3):
            for name, child in list(self._children.items()):
                if child.poll() is not None:
                    if name == "worker":  # a worker that died is followed by another; what it held is given back
                        arguments, environment = self._asked[name]
                        self.start(name, *arguments, **environment)
                        continue
                    print(f"The {name} process ended with {child.returncode}; stopping.", file=sys.stderr)
                    self._ending.set()
                    code = 1
        self.end()
        return code

    def end(self) -> None:
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
