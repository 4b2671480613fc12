"""How long starting takes: importing the application, a command, the demo the first time and again."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.rows import Row, median
from tests.demos import running


def starts() -> list[Row]:
    """In seconds on this machine, and as multiples of what Python itself takes to start: the figure that compares."""
    bare = _timed("-c", "pass")
    imported = _timed("-c", "import angelon.cli.application")
    command = _timed("-m", "angelon", "segments", "Hello")
    with tempfile.TemporaryDirectory() as home:
        first, again = _demo(home), _demo(home)
    return [
        Row("importing the application", imported, "s", "<= 1", {"of starting Python": imported / bare}),
        Row("a small command, angelon segments", command, "s", "<= 0.5", {"of starting Python": command / bare}),
        Row("the demo is ready, the first time", first, "s", "<= 8", {"of starting Python": first / bare}),
        Row("the demo is ready, again", again, "s", "<= 4", {"of starting Python": again / bare}),
    ]


def _timed(*arguments: str, rounds: int = 5) -> float:
    took = []
    for _ in range(rounds):
        began = time.perf_counter()
        subprocess.run([sys.executable, *arguments], check=True, stdout=subprocess.DEVNULL)
        took.append(time.perf_counter() - began)
    return median(took)


def _demo(home: str) -> float:
    began = time.perf_counter()
    with running(Path(home)):
        return time.perf_counter() - began
