"""Where a retry policy's tries stand on an axis of time."""

from __future__ import annotations

import math
from dataclasses import dataclass

from angelon.core.retries import RetryPolicy

WIDTH = 460
_LEFT, _RIGHT = 8, WIDTH - 16
_MARKS = (
    (1, "1 s"), (10, "10 s"), (60, "1 min"), (600, "10 min"), (3600, "1 h"), (6 * 3600, "6 h"),
    (86400, "1 day"), (7 * 86400, "7 days"), (30 * 86400, "30 days"),
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Drawn:
    """Places are in pixels from the left, of `WIDTH`."""

    tries: list[float]
    marks: list[tuple[float, str]]
    end: float
    count: int
    told: str
    """The first waits, in words."""
    last: str
    """When the last try is, on average."""


def draw(policy: RetryPolicy) -> Drawn:
    """The axis is logarithmic, from one second to when a send fails for good."""
    limit = policy.give_up_after_hours * 3600
    span = math.log10(max(limit, 10))

    def place(seconds: float) -> float:
        return round(_LEFT + (_RIGHT - _LEFT) * math.log10(max(seconds, 1)) / span, 1)

    times = policy.times()
    marks = [(place(at), said) for at, said in _MARKS if at <= limit]
    kept: list[tuple[float, str]] = []
    for mark in reversed(marks):
        if not kept or kept[-1][0] - mark[0] > 44:
            kept.append(mark)
    told = ", ".join(spoken(one.usual) for one in times[1:5])
    tries = [place(one.usual) for one in times]
    return Drawn(tries, kept[::-1], place(limit), len(times), told, spoken(times[-1].usual))


def spoken(seconds: float) -> str:
    """A length of time in its largest sensible unit."""
    if seconds == 86400:
        return "1 day"
    for unit, size in (("days", 86400), ("h", 3600), ("min", 60)):
        if seconds >= 2 * size or (seconds >= size and seconds % size == 0):
            return f"{seconds / size:.1f}".removesuffix(".0") + f" {unit}"
    return f"{seconds:.0f} s" if seconds >= 10 else f"{seconds:.1f}".removesuffix(".0") + " s"
