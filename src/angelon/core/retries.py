"""When a failed try is tried again, and when to give up."""

from __future__ import annotations

import datetime as dt
import email.utils
from collections.abc import Callable
from typing import NamedTuple

from pydantic import BaseModel, ConfigDict, Field


class Try(NamedTuple):
    """Seconds since the first try."""

    usual: float
    latest: float


class RetryPolicy(BaseModel):
    """Exponential growth with full jitter: the wait before try n+1 is drawn evenly from 0 to min(cap, base·2ⁿ⁻¹).

    Times are in seconds. `give_up_after` counts from the first try. A gateway that names a time itself
    (`Retry-After`, RFC 9110, section 10.2.3) is taken at its word, within the cap.
    """

    model_config = ConfigDict(extra="forbid")

    base_seconds: float = Field(10, gt=0, le=3600)
    cap_seconds: float = Field(3600, gt=0, le=86400)
    max_tries: int = Field(60, ge=1, le=100)
    give_up_after_hours: float = Field(24, gt=0, le=720)

    def ceiling(self, tries: int) -> float:
        """The longest wait, in seconds, after `tries` failed tries."""
        return float(min(self.cap_seconds, self.base_seconds * 2.0 ** min(tries - 1, 40)))

    def times(self) -> list[Try]:
        """When a send that keeps failing is tried, on average and at the latest, until it fails for good."""
        limit = self.give_up_after_hours * 3600
        made = [Try(0, 0)]
        while len(made) < self.max_tries:
            ceiling = self.ceiling(len(made))
            last = made[-1]
            following = Try(last.usual + ceiling / 2, last.latest + ceiling)
            if following.usual > limit:
                break
            made.append(following)
        return made

    def next_try(
        self, tries: int, first: dt.datetime, now: dt.datetime, draw: Callable[[], float], asked: float | None = None
    ) -> dt.datetime | None:
        """When to try again after `tries` failed tries; None to give up.

        `draw` gives a number in [0, 1). `asked` is the wait that the gateway asked for, in seconds. A wait is at
        least one tenth of a second, so that a draw of nought does not spin.
        """
        if tries >= self.max_tries:
            return None
        wait = min(asked, self.cap_seconds) if asked is not None else self.ceiling(tries) * draw()
        at = now + dt.timedelta(seconds=max(wait, 0.1))
        return at if at - first <= dt.timedelta(hours=self.give_up_after_hours) else None


def retry_after(text: str, now: dt.datetime) -> float:
    """For how many seconds whoever answered wants to be left alone (RFC 9110, section 10.2.3: seconds, or a date); 0
    where it does not say so. `now` is aware.
    """
    text = text.strip()
    if text.isdigit() and len(text) < 10:
        return float(text)
    try:
        at = email.utils.parsedate_to_datetime(text)
    except ValueError:
        return 0.0
    return max(0.0, (at.replace(tzinfo=at.tzinfo or dt.UTC) - now).total_seconds())
