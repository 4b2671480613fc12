"""The time and the dice, as one thing that a test or the demo can replace."""

from __future__ import annotations

import datetime as dt
import os
import random
import struct
from collections.abc import Callable
from dataclasses import dataclass, field

from angelon.core.ids import make_id


def utc_now() -> dt.datetime:
    return dt.datetime.now(dt.UTC)


class Dice(random.SystemRandom):
    """The system's random numbers, fetched many at a time: each fetch lets go of the interpreter, and an id is made for
    every delivery.
    """

    def __init__(self) -> None:
        super().__init__()
        self._left: list[int] = []
        self._process = os.getpid()

    def getrandbits(self, k: int) -> int:
        if not 0 < k <= 64:
            return super().getrandbits(k)
        if self._process != os.getpid():  # a copy of the process that fetched them
            self._left, self._process = [], os.getpid()
        try:
            return self._left.pop() >> (64 - k)
        except IndexError:  # threads that find none at the same moment each fetch some
            self._left.extend(struct.unpack("512Q", os.urandom(4096)))
            return self.getrandbits(k)


@dataclass
class Clock:
    """`now` gives an aware moment; `rng` decides jitter and the random part of ids."""

    now: Callable[[], dt.datetime] = utc_now
    rng: random.Random = field(default_factory=Dice)

    def new_id(self, prefix: str, at: dt.datetime | None = None) -> str:
        return make_id(prefix, at or self.now(), self.rng.getrandbits(50))
