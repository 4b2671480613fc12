"""What strangers who guess at customers' links cost those who work."""

from __future__ import annotations

import asyncio
import random
import statistics
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from urllib.parse import urlsplit

from bench.rows import Row, in_turn, median
from tests.demos import running

GUESSES, ROUNDS, SECONDS = 500, 5, 6.0
"""Guesses a second; rounds; seconds each."""


def strangers() -> list[Row]:
    """The p95 of a page of the application beside 500 guesses a second, as a ratio to alone. Who guesses runs on the
    same processors.
    """
    with tempfile.TemporaryDirectory() as folder, running(Path(folder) / "home") as url:
        port = urlsplit(url).port or 0
        asyncio.run(_pages(port, 30.0))  # the demo has its last things to do
        seen: Counter[int] = Counter()
        alone, beside = in_turn(
            ROUNDS, lambda: asyncio.run(_pages(port, SECONDS)), lambda: asyncio.run(_beside(port, seen))
        )
    ratio = median([b / a for a, b in zip(alone, beside, strict=True)])
    return [
        Row(
            "a page beside 500 guesses a second, p95 against alone",
            ratio,
            "×",
            "<= 2",
            {
                "alone, ms": median(alone) * 1000,
                "beside, ms": median(beside) * 1000,
                "guesses a second": sum(seen.values()) / SECONDS / ROUNDS,
                "refused as too many": seen[429] / max(sum(seen.values()), 1),
            },
        )
    ]


async def _beside(port: int, seen: Counter[int]) -> float:
    async def guesses() -> None:
        await asyncio.gather(*(_asked(port, _guess, GUESSES / 20, SECONDS, seen) for _ in range(20)))

    return (await asyncio.gather(_pages(port, SECONDS), guesses()))[0]


def _guess() -> str:
    return f"/a/{random.getrandbits(90):019x}-{random.getrandbits(48):012x}"


async def _pages(port: int, seconds: float) -> float:
    """The p95 of a page that two people ask for, in seconds."""
    took = await asyncio.gather(*(_asked(port, lambda: "/orders", 5, seconds, Counter()) for _ in range(2)))
    return statistics.quantiles(took[0] + took[1], n=20)[-1]


async def _asked(port: int, path: Callable[[], str], rate: float, seconds: float, seen: Counter[int]) -> list[float]:
    """Asks `rate` times a second over one connection; how long each answer took, in seconds."""
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    end, due, took = time.monotonic() + seconds, time.monotonic() + random.random() / rate, []
    while time.monotonic() < end:
        await asyncio.sleep(max(0.0, due - time.monotonic()))
        due += 1 / rate
        began = time.monotonic()
        writer.write(f"GET {path()} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\n\r\n".encode())
        head = await reader.readuntil(b"\r\n\r\n")
        length = next(int(line[15:]) for line in head.lower().split(b"\r\n") if line.startswith(b"content-length:"))
        await reader.readexactly(length)
        took.append(time.monotonic() - began)
        seen[int(head[9:12])] += 1
    writer.close()
    return took
