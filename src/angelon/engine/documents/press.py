"""Draws documents in a process of their own, so that drawing takes no other's time: one document after the other, each
within a time. `python -m angelon.engine.documents.press` is that process: a line of JSON in, a line out.
"""

from __future__ import annotations

import base64
import contextlib
import json
import os
import select
import subprocess
import sys
import threading
import time
from collections.abc import Mapping
from typing import Any

import structlog

from angelon.core.documents.document import Document
from angelon.core.outside import refuse_inside

log = structlog.get_logger()
SECONDS = 30.0
"""How long one document may take, the start of the process with it."""
DOCUMENTS = 500
"""After how many the process is replaced."""


class CantDraw(RuntimeError):
    """Why a document could not be drawn, as a sentence."""


class Press:
    """One process that draws; begun when it is first needed, begun anew where it ended or hung."""

    def __init__(self, command: list[str] | None = None, seconds: float = SECONDS) -> None:
        self._command = command or [sys.executable, "-m", "angelon.engine.documents.press"]
        self._seconds, self._lock, self._done = seconds, threading.Lock(), 0
        self._process: subprocess.Popen[bytes] | None = None

    def pdf(self, frozen: Mapping[str, Any], look: Mapping[str, Any]) -> bytes:
        """A document as a PDF. Waits for those that were asked before. Raises CantDraw."""
        refuse_inside("drawing a document")
        if not self._lock.acquire(timeout=self._seconds):
            raise CantDraw("Other documents are being drawn; this one is tried again.")
        try:
            if self._done >= DOCUMENTS:
                self.end()
            answer = json.loads(self._ask(json.dumps({"frozen": frozen, "look": look}).encode() + b"\n"))
            self._done += 1
        except (OSError, ValueError) as error:
            self.end()
            log.warning("a document could not be drawn", reason=str(error))
            raise CantDraw(f"The document could not be drawn: {error}.") from None
        finally:
            self._lock.release()
        if "problem" in answer:
            raise CantDraw(answer["problem"])
        return base64.b64decode(answer["pdf"])

    def _ask(self, line: bytes) -> bytes:
        if self._process is None or self._process.poll() is not None:
            self._done = 0
            self._process = subprocess.Popen(  # noqa: S603 - our own module
                self._command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                start_new_session=True, env=os.environ | {"SOURCE_DATE_EPOCH": "0"},
            )  # fmt: skip
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        self._process.stdin.write(line)
        self._process.stdin.flush()
        until, made, handle = time.monotonic() + self._seconds, bytearray(), self._process.stdout.fileno()
        while not made.endswith(b"\n"):
            left = until - time.monotonic()
            if left <= 0 or not select.select([handle], [], [], left)[0]:
                raise OSError(f"it took longer than {self._seconds:g} s")
            part = os.read(handle, 1 << 20)
            if not part:
                raise OSError("the process ended")
            made += part
        return bytes(made)

    def end(self) -> None:
        if self._process is not None:
            with contextlib.suppress(OSError):
                self._process.kill()
            self._process.wait()
            for pipe in (self._process.stdin, self._process.stdout):
                with contextlib.suppress(OSError):
                    pipe.close()  # type: ignore[union-attr]
            self._process = None


def main() -> None:
    """Draws what comes in, line by line, until there is no more."""
    from angelon.engine.documents.drawing import pdf

    out = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # whatever libraries print goes elsewhere
    for line in sys.stdin.buffer:
        asked = json.loads(line)
        try:
            data = pdf(Document.of(asked["frozen"]), asked["look"])
            answer = {"pdf": base64.b64encode(data).decode()}
        except OSError as error:
            answer = {"problem": f"A library for PDF is missing ({error}). Install Pango: libpango-1.0-0 in Debian."}
        except Exception as error:
            answer = {"problem": f"The document could not be drawn: {type(error).__name__}: {error}."}
        out.write(json.dumps(answer).encode() + b"\n")
        out.flush()


if __name__ == "__main__":
    main()
