"""What the events say about one order so far, and which changes of status follow from a new one."""

from __future__ import annotations

import datetime as dt
from bisect import bisect_right
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
    history is the same whatever order deliveries with different times come in. Of two statuses at the same moment,
    which is often all that a store's clock tells (it writes seconds), the one that arrived later is the later one. The
    same status at the same moment again is a repeat, and no news.
    """
    entry = StatusChange(status, at)
    if not status or entry in state.seen:
        return Change(state)
    place = bisect_right(state.seen, at, key=lambda known: known.at)
    made = OrderState((*state.seen[:place], entry, *state.seen[place:])[-MAX_SEEN:])
    if made.status != state.status:
        return Change(made, state.status, made.status)
    return Change(made)
