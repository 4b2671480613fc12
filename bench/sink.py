"""A mail server that takes everything and counts it: as little work as can be, so that it is in nobody's way. It may
count those only whose recipient begins in a way.
"""

from __future__ import annotations

import asyncio
import os
import sys
import time
from pathlib import Path

import uvloop


class _Sink(asyncio.Protocol):
    def __init__(self, file: int, counts: bytes) -> None:
        self._file = file
        self._counts = counts
        self._told = False
        self._left = b""
        self._in_data = False

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport: asyncio.Transport = transport  # type: ignore[assignment]
        self._transport.write(b"220 sink\r\n")

    def data_received(self, data: bytes) -> None:
        self._left += data
        answers = []
        while True:
            end = b"\r\n.\r\n" if self._in_data else b"\r\n"
            part, found, rest = self._left.partition(end)
            if not found:
                break
            self._left = rest
            answers.append(self._answer(part))
        if answers:
            self._transport.write(b"".join(answers))  # what was asked together is answered together (RFC 2920, 3.2)

    def _answer(self, line: bytes) -> bytes:
        if self._in_data:
            self._in_data = False
            if self._told:
                _Counted.number += 1
                _Counted.at = time.time()
                os.pwrite(self._file, b"%d %.6f" % (_Counted.number, _Counted.at), 0)
            return b"250 taken\r\n"
        verb = line[:4].upper()
        if verb == b"RCPT":
            self._told = line.partition(b"<")[2].startswith(self._counts)
        if verb == b"DATA":
            self._in_data = True
            return b"354 go on\r\n"
        if verb == b"EHLO":
            return b"250-sink\r\n250-SIZE 50000000\r\n250-PIPELINING\r\n250-8BITMIME\r\n250 SMTPUTF8\r\n"
        return b"221 bye\r\n" if verb == b"QUIT" else b"250 ok\r\n"


class _Counted:
    number = 0
    at = 0.0


def taken(file: Path) -> tuple[int, float]:
    """How many mails there were, and when the last came (seconds since 1970)."""
    try:
        number, _, at = file.read_text().partition(" ")
        return int(number), float(at)
    except (OSError, ValueError):
        return 0, 0.0


async def _serve(port: int, file: Path, counts: str = "") -> None:
    kept = os.open(file, os.O_WRONLY | os.O_CREAT, 0o600)
    server = await asyncio.get_running_loop().create_server(lambda: _Sink(kept, counts.encode()), "127.0.0.1", port)
    await server.serve_forever()


if __name__ == "__main__":
    uvloop.run(_serve(int(sys.argv[1]), Path(sys.argv[2]), *sys.argv[3:]))
