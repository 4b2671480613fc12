"""How many sends a gateway may take now: by its rate (a token bucket), its quotas a day and a month, and its credit.
Pure.
"""

from __future__ import annotations

import datetime as dt
import math
from dataclasses import dataclass, replace
from decimal import Decimal

from angelon.core.specs.gateway import Quota

MICRO = 1_000_000
"""Parts of a unit of money that a balance is counted in."""


@dataclass(frozen=True, slots=True)
class Used:
    """What a gateway has used so far. Times are aware; `day` is the shop's, as ISO 8601."""

    tokens: float = 0.0
    filled_at: dt.datetime | None = None
    day: str = ""
    day_used: int = 0
    month_used: int = 0
    balance: int | None = None
    """Credit left, in millionths of the store's currency; None where not counted."""


@dataclass(frozen=True, slots=True)
class Grant:
    """How many may go now; and, where it is not all that are wanted, until when and for what the rest waits."""

    number: int
    used: Used
    next_at: dt.datetime | None = None
    waits_for: str = ""


def burst(quota: Quota) -> float:
    """Tokens that a bucket holds at most: one second's worth, one at the least."""
    return max(1.0, quota.per_second)


def grant(quota: Quota, used: Used, wanted: int, price: Decimal, now: dt.datetime, zone: dt.tzinfo) -> Grant:
    """Takes up to `wanted` sends out of what is left. Over any window of T seconds never more than the burst and T
    times the rate, never more than a quota in its day or month (the shop's), and none that the credit does not pay for.
    """
    local = now.astimezone(zone)
    today = local.date()
    used = _on(used, today)
    number, next_at, waits_for = wanted, None, ""
    if quota.per_day and used.day_used + number > quota.per_day:
        number, next_at, waits_for = max(0, quota.per_day - used.day_used), _midnight(today, 1, zone), "day"
    if quota.per_month and used.month_used + number > quota.per_month:
        first = (today.replace(day=1) + dt.timedelta(days=32)).replace(day=1)
        number, next_at, waits_for = max(0, quota.per_month - used.month_used), _at(first, zone), "month"
    if used.balance is not None and price > 0:
        affordable = max(0, used.balance // int(price * MICRO))
        if affordable < number:
            number, next_at, waits_for = affordable, now + dt.timedelta(minutes=5), "credit"
    if quota.per_second:
        tokens = _filled(quota, used, now)
        granted = min(number, math.floor(tokens + 1e-9))
        used = replace(used, tokens=tokens - granted, filled_at=now)
        if granted < number:
            number = granted
            next_at, waits_for = now + dt.timedelta(seconds=max((1 - used.tokens) / quota.per_second, 0.001)), "rate"
    if number < wanted and next_at is None:
        next_at, waits_for = now + dt.timedelta(seconds=1), "rate"
    used = replace(used, day_used=used.day_used + number, month_used=used.month_used + number)
    return Grant(number, used, next_at if number < wanted else None, waits_for if number < wanted else "")


def give_back(quota: Quota, used: Used, number: int) -> Used:
    """What was granted and not begun."""
    return replace(
        used,
        tokens=min(burst(quota), used.tokens + number) if quota.per_second else used.tokens,
        day_used=max(0, used.day_used - number),
        month_used=max(0, used.month_used - number),
    )


def _filled(quota: Quota, used: Used, now: dt.datetime) -> float:
    if used.filled_at is None:
        return burst(quota)
    passed = max(0.0, (now - used.filled_at).total_seconds())  # a clock that was put back fills nothing
    return min(burst(quota), used.tokens + passed * quota.per_second)


def _on(used: Used, today: dt.date) -> Used:
    """What is used on a day: counts begin anew with the day and the month."""
    if used.day == today.isoformat():
        return used
    same_month = used.day[:7] == today.isoformat()[:7]
    return replace(used, day=today.isoformat(), day_used=0, month_used=used.month_used if same_month else 0)


def _midnight(today: dt.date, days: int, zone: dt.tzinfo) -> dt.datetime:
    return _at(today + dt.timedelta(days=days), zone)


def _at(day: dt.date, zone: dt.tzinfo) -> dt.datetime:
    return dt.datetime.combine(day, dt.time(), zone).astimezone(dt.UTC)
