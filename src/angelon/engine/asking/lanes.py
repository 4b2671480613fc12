"""One lane for each target: so many at a time, a breaker of its own. One that hangs holds up nobody but itself."""

from __future__ import annotations

import datetime as dt
import threading
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import structlog

from angelon.core.breaker import HEALTHY, Health, after_try
from angelon.db.rows import InquiryRecord

log = structlog.get_logger()

AT_ONCE = 8
"""Inquiries that are asked of one target at the same time."""
FEWEST, MOST = 4, 64
"""How many a lane takes at a time: as many as take some GOAL seconds."""
GOAL = 0.25


@dataclass(frozen=True, slots=True)
class Reply:
    """What one try came to, before it is known when it is made again."""

    value: Any = None
    problem: str = ""
    for_good: bool = False
    """Whether another try would come to the same."""
    url: str = ""
    output: str = ""
    took: float = 0.0
    """Seconds."""
    digest: str = ""


@dataclass(frozen=True, slots=True)
class Job:
    """One inquiry (a row of the inquiry table) that is being asked."""

    row: InquiryRecord
    work: Callable[[], Reply]
    timeout: float
    """Seconds that it may take."""
    next_try: Callable[[int, dt.datetime], dt.datetime | None]
    """When it is asked again after so many tries, at a moment; None where it has failed."""


class Lane:
    """The inquiries of one target. Threads are started when there is something to ask, and end when there is not."""

    def __init__(self, target: str, done: Callable[[Job, Reply], None]) -> None:
        self.target = target
        self.health = HEALTHY
        self._done = done
        self._jobs: deque[Job] = deque()
        self._changing = threading.Lock()
        self._busy = 0
        self._took = GOAL
        """What one takes, as seen last; seconds."""

    def room(self, now: dt.datetime) -> int:
        """How many may be claimed now: none while there is enough in hand or the breaker is open, one where it is
        tried whether the target works again.
        """
        admits = self.health.admits(now)
        with self._changing:
            in_hand = self._busy + len(self._jobs)
            if admits == "none" or (admits == "one" and in_hand):
                return 0
            if admits == "one":
                return 1
            batch = min(MOST, max(FEWEST, int(AT_ONCE * GOAL / max(self._took, 0.001))))
            if len(self._jobs) >= max(AT_ONCE, batch // 2):  # so that a lane never runs dry while others are claimed
                return 0
            return max(0, batch - in_hand)

    @property
    def idle(self) -> bool:
        with self._changing:
            return not self._busy and not self._jobs

    @property
    def waiting(self) -> bool:
        """Whether something is in hand that was not begun."""
        return bool(self._jobs)

    def put(self, jobs: Sequence[Job]) -> None:
        with self._changing:
            self._jobs.extend(jobs)
            for _ in range(min(AT_ONCE - self._busy, len(self._jobs))):
                self._busy += 1
                threading.Thread(target=self._run, name=f"ask-{self.target}"[:60], daemon=True).start()

    def _run(self) -> None:
        while True:
            with self._changing:
                if not self._jobs:
                    self._busy -= 1
                    return
                job = self._jobs.popleft()
            try:
                reply = job.work()
            except Exception as error:
                log.exception("an inquiry failed", target=self.target)
                reply = Reply(problem=f"It could not be asked: {type(error).__name__}.")
            self._took = 0.8 * self._took + 0.2 * reply.took if reply.took else self._took
            self._done(job, reply)

    def drop(self) -> list[Job]:
        """Lets go of what is in hand and not begun, at the end."""
        with self._changing:
            left = list(self._jobs)
            self._jobs.clear()
            return left

    def note(self, reply: Reply, now: dt.datetime) -> tuple[Health, Health]:
        """Takes in how a try went; gives the health before and after. What is wrong with one inquiry for good says
        nothing of the target.
        """
        before = self.health
        worked = not reply.problem or reply.for_good
        reason = reply.problem.strip().splitlines()[-1][:300] if reply.problem.strip() else ""
        self.health = after_try(before, worked, reason, now)
        return before, self.health
