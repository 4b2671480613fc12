"""The time and the dice, as one thing that a test or the demo can replace."""

from __future__ import annotations

import datetime as dt
import random
from collections.abc import Callable
from dataclasses import dataclass, field

from angelon.core.ids import make_id


def utc_now() -> dt.datetime:
    return dt.datetime.now(dt.UTC)


@dataclass
class Clock:
    """`now` gives an aware moment; `rng` decides jitter and the random part of ids."""

    now: Callable[[], dt.datetime] = utc_now
    rng: random.Random = field(default_factory=random.SystemRandom)

    def new_id(self, prefix: str, at: dt.datetime | None = None) -> str:
        return make_id(prefix, at or self.now(), self.rng.getrandbits(50))
