"""When a gateway is left alone: after so many failures of its own in a row, but for one try now and then."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, replace
from typing import Literal

FAILURES = 5
"""Failures in a row after which a gateway is taken to be unreachable."""
FIRST_WAIT = 15.0
LONGEST_WAIT = 300.0
"""Seconds until it is tried again: doubled at each try in vain, up to the longest."""


@dataclass(frozen=True, slots=True)
class Health:
    """How the last tries at a gateway went. Times are aware."""

    failures: int = 0
    opened_at: dt.datetime | None = None
    """Since when it is unreachable; None where it is not."""
    probe_at: dt.datetime | None = None
    """When it is tried again."""
    reason: str = ""

    def admits(self, now: dt.datetime) -> Literal["all", "one", "none"]:
        """What may be tried now: everything, one send to see whether it works again, or nothing."""
        if self.opened_at is None:
            return "all"
        return "one" if self.probe_at is None or now >= self.probe_at else "none"


HEALTHY = Health()


def after_try(health: Health, worked: bool, reason: str, now: dt.datetime) -> Health:
    """The health after one more try. `worked` is false where the fault is the gateway's and not the message's."""
    if worked:
        return HEALTHY
    failures = health.failures + 1
    if failures < FAILURES:
        return replace(health, failures=failures, reason=reason)
    wait = min(LONGEST_WAIT, FIRST_WAIT * 2.0 ** min(failures - FAILURES, 10))
    return Health(failures, health.opened_at or now, now + dt.timedelta(seconds=wait), reason)
