"""What the next days bring, by what the last ones have brought. Pure.

The days to come are taken to be like past ones of the same weekday, where there are two weeks of them, else like all.
How far the sum may be off comes from how far past days were off, and from how few they are.
"""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Mapping
from typing import NamedTuple

AHEAD = 30
"""Days that are looked ahead."""
FEWEST = 3
"""Complete days without which nothing is said of how far it may be off."""
_WITHIN = 1.2816
"""Of a normal distribution 80% lies within as many standard deviations."""


class ForecastDays(NamedTuple):
    """A sum over the days to come, and the range that it falls in four times of five; no range (None) where too few
    days are known.
    """

    usual: float
    low: float | None
    high: float | None
    days: list[float]
    """What each of the days is expected to bring."""

    def lasts(self, amount: float) -> int | None:
        """Within how many days an amount is used up; None where it lasts longer."""
        left = amount
        for number, day in enumerate(self.days, start=1):
            left -= day
            if left < 0:
                return number
        return None


def look_ahead(
    past: Mapping[dt.date, float], first: dt.date, today: dt.date, ahead: int = AHEAD, known: float = 0.0
) -> ForecastDays:
    """`past` has what each day brought, nothing where it has no entry; `first` is the first complete day that is
    known, and `today`, which is not over, counts for nothing. `known` is what one unit costs at least, as a floor of
    how far a day is off: counts vary at least as their square root (Poisson).
    """
    days = [first + dt.timedelta(days=n) for n in range((today - first).days)]
    if not days:
        return ForecastDays(0.0, None, None, [0.0] * ahead)
    weekly = len(days) >= 14
    groups: dict[int, list[float]] = {}
    for day in days:
        groups.setdefault(day.weekday() if weekly else 0, []).append(past.get(day, 0.0))
    means = {key: sum(values) / len(values) for key, values in groups.items()}
    coming = [(today + dt.timedelta(days=n)).weekday() if weekly else 0 for n in range(ahead)]
    expected = [means[key] for key in coming]
    usual = sum(expected)
    if len(days) < FEWEST:
        return ForecastDays(usual, None, None, expected)
    off = sum((value - means[key]) ** 2 for key, values in groups.items() for value in values)
    variance = max(off / max(len(days) - len(groups), 1), known * usual / ahead)
    of_means = sum((coming.count(key)) ** 2 / len(values) for key, values in groups.items())
    spread = _WITHIN * math.sqrt(variance * (ahead + of_means))
    return ForecastDays(usual, max(0.0, usual - spread), usual + spread, expected)
