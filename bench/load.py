"""Requests over kept connections, as many at once as there are connections. Loopback only, bounded in number."""

from __future__ import annotations

import asyncio
import time


class _Client(asyncio.Protocol):
    def __init__(self, requests: list[bytes], done: asyncio.Future[None]) -> None:
        self._requests = requests
        self._done = done
        self._left = b""
        self.statuses: dict[int, int] = {}
        self.took: list[float] = []
        self._asked_at = 0.0

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport: asyncio.Transport = transport  # type: ignore[assignment]
        self._next()

    def _next(self) -> None:
        if self._requests:
            self._asked_at = time.perf_counter()
            self._transport.write(self._requests.pop())
        else:
            self._transport.close()
            if not self._done.done():
                self._done.set_result(None)

    def data_received(self, data: bytes) -> None:
        self._left += data
        head, found, body = self._left.partition(b"\r\n\r\n")
        if not found:
            return
        length = next(
            (int(line[15:]) for line in head.lower().split(b"\r\n") if line.startswith(b"content-length:")), 0
        )
        if len(body) < length:
            return
        self.took.append(time.perf_counter() - self._asked_at)
        status = int(head[9:12])
        self.statuses[status] = self.statuses.get(status, 0) + 1
        self._left = body[length:]
        self._next()

    def connection_lost(self, error: Exception | None) -> None:
        if not self._done.done():
            self._done.set_exception(ConnectionError(f"the server closed a connection: {error}"))


async def _run(port: int, requests: list[bytes], connections: int) -> tuple[float, dict[int, int], list[float]]:
    loop = asyncio.get_running_loop()
    waiting, clients = [], []
    began = time.perf_counter()
    for _ in range(connections):
        done: asyncio.Future[None] = loop.create_future()
        _, client = await loop.create_connection(lambda d=done: _Client(requests, d), "127.0.0.1", port)
        waiting.append(done)
        clients.append(client)
    await asyncio.gather(*waiting)
    took = time.perf_counter() - began
    statuses: dict[int, int] = {}
    for client in clients:
        for status, number in client.statuses.items():
            statuses[status] = statuses.get(status, 0) + number
    return took, statuses, sorted(each for client in clients for each in client.took)


def measure(port: int, requests: list[bytes], connections: int, status: int) -> tuple[float, float]:
    """Answers a second, and the time in ms within which 99 of 100 came; every one has to have the status."""
    number = len(requests)
    took, statuses, each = asyncio.run(_run(port, list(requests), connections))
    if statuses != {status: number}:
        raise RuntimeError(f"answers were {statuses}, not {number} × {status}")
    return number / took, each[int(number * 0.99)] * 1000


def rate(port: int, requests: list[bytes], connections: int, status: int) -> float:
    """Answers a second; every one has to have the status."""
    return measure(port, requests, connections, status)[0]
