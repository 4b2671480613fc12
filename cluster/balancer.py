"""A small balancer in front of several web processes: TCP, each connection to the next one that answers.

It reads nothing of HTTP, so streams pass through it; in use a proxy that ends TLS stands here.
"""

from __future__ import annotations

import asyncio
import contextlib
import itertools
from collections.abc import Sequence


class Balancer:
    """Passes connections on to `ports` of this machine in turn; one that does not answer is passed over."""

    def __init__(self, ports: Sequence[int]) -> None:
        self._ports = list(ports)
        self._turn = itertools.count()
        self.cut = False
        """While set, no byte goes through and no connection is taken: as where a network is cut."""

    async def serve(self, host: str, port: int) -> asyncio.Server:
        return await asyncio.start_server(self._taken, host, port)

    async def _taken(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        other = None if self.cut else await self._next()
        if other is None:
            writer.close()
            return
        far_reader, far_writer = other
        ways = [self._passed(reader, far_writer), self._passed(far_reader, writer)]
        await asyncio.gather(*ways, return_exceptions=True)
        for one in (writer, far_writer):
            one.close()
            with contextlib.suppress(OSError):
                await one.wait_closed()

    async def _next(self) -> tuple[asyncio.StreamReader, asyncio.StreamWriter] | None:
        first = next(self._turn)
        for offset in range(len(self._ports)):
            port = self._ports[(first + offset) % len(self._ports)]
            try:
                return await asyncio.wait_for(asyncio.open_connection("127.0.0.1", port), 2)
            except (OSError, TimeoutError):
                continue
        return None

    async def _passed(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        while data := await reader.read(65536):
            while self.cut:
                await asyncio.sleep(0.05)
            writer.write(data)
            await writer.drain()
        writer.close()
