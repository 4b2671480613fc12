"""The time and the dice, as one thing that a test or the demo can replace."""

from __future__ import annotations

import datetime as dt
import os
import random
import threading
from collections.abc import Callable
from dataclasses import dataclass, field

from angelon.core.ids import make_id


def utc_now() -> dt.datetime:
    return dt.datetime.now(dt.UTC)


class Dice(random.SystemRandom):
    """The system's random numbers, fetched many at a time: each fetch lets go of the interpreter, and an id is made for
    every delivery.
    """

    _FETCHED = 4096

    def __init__(self) -> None:
        super().__init__()
        self._lock = threading.Lock()
        self._left = b""

    def getrandbits(self, k: int) -> int:
        size = (k + 7) // 8
        if not 0 < size <= self._FETCHED:
            return super().getrandbits(k)
        with self._lock:
            if len(self._left) < size:
                self._left = os.urandom(self._FETCHED)
            taken, self._left = self._left[:size], self._left[size:]
        return int.from_bytes(taken) >> (size * 8 - k)


@dataclass
class Clock:
    """`now` gives an aware moment; `rng` decides jitter and the random part of ids."""

    now: Callable[[], dt.datetime] = utc_now
    rng: random.Random = field(default_factory=Dice)

    def new_id(self, prefix: str, at: dt.datetime | None = None) -> str:
        return make_id(prefix, at or self.now(), self.rng.getrandbits(50))
