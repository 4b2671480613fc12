"""What is left of a long list, as lines, made by a process of its own: whoever shows pages goes on meanwhile.

It is started by `beside`, and told by its standard input what to list; the lines come out of its standard output, as
fast as they are taken.
"""

from __future__ import annotations

import contextlib
import os
import pickle
import subprocess
import sys
from collections.abc import Iterator

from angelon.core.masking import masked
from angelon.db.database import Database
from angelon.engine.exports.lines import lines
from angelon.engine.exports.listed import Listed

PIECE = 64 * 1024
ENDS = 30.0
"""Seconds from the last line to its end."""


class Broke(RuntimeError):
    """The process ended before the list did."""


def beside(database: Database, listed: Listed, kind: str, hide: bool) -> Iterator[bytes]:
    """The lines of all that is left of a list, masked where `hide` says so. Raises Broke. Whoever stops listening ends
    the process.
    """
    job = pickle.dumps((database.url, listed, kind, hide))
    command = [sys.executable, "-m", __name__]
    running = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE)  # noqa: S603 - our own
    assert running.stdin is not None
    assert running.stdout is not None
    try:
        running.stdin.write(job)
        running.stdin.close()
        while piece := running.stdout.read1(PIECE):  # type: ignore[attr-defined]
            yield piece
        if running.wait(ENDS):
            raise Broke(f"the process that lists ended with {running.returncode}")
    finally:
        running.kill()
        running.wait()
        running.stdout.close()


def _main() -> None:
    with contextlib.suppress(OSError):
        os.nice(10)
    url, listed, kind, hide = pickle.load(sys.stdin.buffer)  # noqa: S301 - from our own parent
    database = Database(url)
    for rows in listed.parts(database):
        text = lines(kind, listed.columns, rows)
        sys.stdout.buffer.write((masked(text) if hide else text).encode())
        sys.stdout.buffer.flush()


if __name__ == "__main__":
    with contextlib.suppress(BrokenPipeError):
        _main()
