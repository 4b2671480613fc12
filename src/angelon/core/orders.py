"""What the events say about one order so far, and which changes of status follow from a new one."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

MAX_SEEN = 200


@dataclass(frozen=True, slots=True)
class StatusChange:
    """A status and since when, by the store's clock where it tells, else by ours. Aware."""

    status: str
    at: dt.datetime


@dataclass(frozen=True, slots=True)
class OrderState:
    """Every status seen with its time, oldest first; the history is what is left when repeats are taken out.

    All sightings are kept (the newest MAX_SEEN), since one that comes late may part two that looked like one.
    """

    seen: tuple[StatusChange, ...] = ()

    @property
    def history(self) -> tuple[StatusChange, ...]:
        made: list[StatusChange] = []
        for entry in self.seen:
            if not made or made[-1].status != entry.status:
                made.append(entry)
        return tuple(made)

    @property
    def status(self) -> str:
        return self.seen[-1].status if self.seen else ""

    @property
    def latest(self) -> dt.datetime | None:
        return self.seen[-1].at if self.seen else None


@dataclass(frozen=True, slots=True)
class Change:
    """What a new status means: the history after it, and the change it makes now, if it makes one."""

    state: OrderState
    was: str = ""
    now: str = ""

    @property
    def changed(self) -> bool:
        return bool(self.now)


def note_status(state: OrderState, status: str, at: dt.datetime) -> Change:
    """Takes a status into the history.

    A delivery that is older than what is known takes its place in the past and changes nothing now, so that the
    history is the same whatever order deliveries with times come in. A status that stays is no change. Two
    different statuses at the same moment are kept in the order of their names, for the same reason.
    """
    if not status:
        return Change(state)
    seen = tuple(sorted({*state.seen, StatusChange(status, at)}, key=lambda c: (c.at, c.status)))
    made = OrderState(seen[-MAX_SEEN:])
    if made.status != state.status:
        return Change(made, state.status, made.status)
    return Change(made)
