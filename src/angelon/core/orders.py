"""What the events say about one order so far, and which changes of status follow from a new one."""

from __future__ import annotations

import datetime as dt
from bisect import bisect_right
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from angelon.core.problems import Problem
from angelon.core.specs.source import Source

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


@dataclass(frozen=True, slots=True)
class Family:
    """Sources that tell of the same orders, and what an order is recognised by."""

    sources: frozenset[str]
    by: str

    def mark(self, number: str, email: str, reference: str) -> str:
        """What is alike in two orders that are the same; empty where nothing is known to compare."""
        if self.by == "reference":
            return reference
        alike = alike_number(number)
        if self.by == "number_and_email":
            return f"{alike} {email.strip().casefold()}" if alike and email.strip() else ""
        return alike


def alike_number(number: str) -> str:
    """An order's number without what people and shops write around it: `#BK-7 ` is `bk-7`."""
    return "".join(number.split()).lstrip("#").casefold()


def doubts_about_identity(said: Iterable[tuple[str, str, str]]) -> list[Problem]:
    """What speaks against a mapping that tells orders apart as these deliveries say: (reference, number, customer's
    email) of each.
    """
    of_number: dict[str, set[str]] = {}
    of_reference: dict[str, set[str]] = {}
    for reference, number, email in said:
        if reference and number:
            of_number.setdefault(number, set()).add(reference)
        if reference and email:
            of_reference.setdefault(reference, set()).add(email.casefold())
    found = []
    parted = [number for number, references in of_number.items() if len(references) > 1]
    if parted:
        what = f"Order {parted[0]} would be {len(of_number[parted[0]])} orders: its deliveries differ in the reference"
        others = f", and so do {len(parted) - 1} more" if len(parted) > 1 else ""
        hint = "Map a reference that stays the same over all deliveries of an order."
        found.append(Problem("reading.reference", f"{what} ({_some(of_number[parted[0]])}){others}.", hint))
    mixed = [reference for reference, emails in of_reference.items() if len(emails) > 1]
    if mixed:
        what = f"“{mixed[0]}” would be one order of {len(of_reference[mixed[0]])} customers"
        hint = "Map a reference that no two orders share."
        found.append(Problem("reading.reference", f"{what} ({_some(of_reference[mixed[0]])}).", hint))
    return found


def _some(values: set[str]) -> str:
    return ", ".join(sorted(values)[:3]) + (", …" if len(values) > 3 else "")


def forms_of_number(number: str) -> set[str]:
    """The forms in which a number that is alike may be kept."""
    alike = "".join(number.split()).lstrip("#")
    return {number, *(sign + form for sign in ("", "#") for form in (alike, alike.upper(), alike.lower()))} - {"", "#"}


def families(sources: Mapping[str, Source]) -> dict[str, Family]:
    """The family of each source that has one, by the source's key. Two that name the same third are one family; the
    strictest of what they are told apart by holds for all of it.
    """
    joined: dict[str, set[str]] = {}
    for key, source in sources.items():
        other = source.same_orders.source if source.same_orders else ""
        if other in sources and other != key:
            merged = joined.get(key, {key}) | joined.get(other, {other})
            joined |= dict.fromkeys(merged, merged)
    made = {}
    for key, members in joined.items():
        said = {same.by for member in members if (same := sources[member].same_orders) is not None}
        by = next(one for one in ("number_and_email", "reference", "number") if one in said)
        made[key] = Family(frozenset(members), by)
    return made
