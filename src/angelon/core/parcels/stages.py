"""How far a parcel is, by everything that was told of it: in whichever order, however often, by whomever."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any, NamedTuple

MOST_TOLD = 60
"""What is kept of what was told of one parcel; repeats go first."""


class Stage(StrEnum):
    """How far a parcel is. The first six follow one another; the others happen on the way."""

    LABEL_PRINTED = "label_printed"
    PICKED_UP = "picked_up"
    IN_TRANSIT = "in_transit"
    OUT_FOR_DELIVERY = "out_for_delivery"
    READY_TO_COLLECT = "ready_to_collect"
    DELIVERED = "delivered"
    FAILED = "failed"
    """Somebody was to be handed it, and was not."""
    RETURNED = "returned"
    """It goes back to the shop."""
    NOT_DELIVERED = "not_delivered"
    """That it was delivered is taken back."""


LINE = (
    Stage.LABEL_PRINTED,
    Stage.PICKED_UP,
    Stage.IN_TRANSIT,
    Stage.OUT_FOR_DELIVERY,
    Stage.READY_TO_COLLECT,
    Stage.DELIVERED,
)
RANK = {stage: number for number, stage in enumerate(LINE)}
LABELS = {
    Stage.LABEL_PRINTED: "label printed",
    Stage.PICKED_UP: "picked up",
    Stage.IN_TRANSIT: "in transit",
    Stage.OUT_FOR_DELIVERY: "out for delivery",
    Stage.READY_TO_COLLECT: "ready to collect",
    Stage.DELIVERED: "delivered",
    Stage.FAILED: "delivery failed",
    Stage.RETURNED: "going back",
    Stage.NOT_DELIVERED: "not delivered after all",
}
ADDED, LATE, LOST = "parcel.added", "parcel.late", "parcel.lost"
SHIPPED, ALL_DELIVERED = "order.shipped", "order.delivered"
"""Events of an order by its parcels: the first was picked up, the last was delivered."""
EVENTS = frozenset({ADDED, LATE, LOST, SHIPPED, ALL_DELIVERED, *(f"parcel.{stage}" for stage in Stage)})
ESTIMATE = "estimate"
"""Who tells that a parcel is delivered where nobody does."""


class Told(NamedTuple):
    """One thing that was told of a parcel: a stage, and since when (aware). `by` is who told it."""

    at: dt.datetime
    stage: Stage
    by: str = ""
    place: str = ""
    words: str = ""
    """The carrier's own."""

    @property
    def estimated(self) -> bool:
        return self.by == ESTIMATE

    def stored(self) -> list[str]:
        return [self.at.isoformat(), self.stage.value, self.by, self.place, self.words]

    @classmethod
    def from_stored(cls, row: Sequence[str]) -> Told:
        return cls(dt.datetime.fromisoformat(row[0]), Stage(row[1]), *row[2:5])


@dataclass(frozen=True, slots=True)
class Progress:
    """How far a parcel is. What it says depends on what was told, and not on the order in which that came."""

    told: tuple[Told, ...] = ()
    """Oldest first."""

    @classmethod
    def from_stored(cls, rows: Iterable[Sequence[str]] | None) -> Progress:
        return cls(tuple(Told.from_stored(row) for row in rows or ()))

    def stored(self) -> list[list[str]]:
        return [one.stored() for one in self.told]

    def with_told(self, told: Told) -> Progress:
        """What is known once something more was told; the same stage at the same moment again changes nothing."""
        if any((one.at, one.stage, one.estimated) == (told.at, told.stage, told.estimated) for one in self.told):
            return self
        kept = sorted((*self.told, told), key=lambda one: (one.at, one.stage.value, one.by))
        while len(kept) > MOST_TOLD:
            seen: set[Stage] = set()
            again = [number for number, one in enumerate(kept) if one.stage in seen or seen.add(one.stage)]  # type: ignore[func-returns-value]
            kept.pop(again[0] if again else 0)
        return replace(self, told=tuple(kept))

    @property
    def delivered(self) -> Told | None:
        """What says that it is delivered, as far as that was not taken back: a carrier's word, else an estimate, which
        counts for nothing once the carrier has told of something later.
        """
        told = [one for one in self.told if not one.estimated]
        back = max((one.at for one in told if one.stage is Stage.NOT_DELIVERED), default=None)
        for one in told:
            if one.stage is Stage.DELIVERED and (back is None or one.at > back):
                return one
        last = told[-1].at if told else None
        guesses = [one for one in self.told if one.estimated and (last is None or one.at > last)]
        return guesses[0] if guesses else None

    @property
    def stage(self) -> Stage | None:
        """The farthest stage; None where nothing was told."""
        if self.delivered is not None:
            return Stage.DELIVERED
        on_way = [one.stage for one in self.told if one.stage in RANK and one.stage is not Stage.DELIVERED]
        return max(on_way, key=RANK.__getitem__, default=None)

    @property
    def rank(self) -> int:
        """How far that is on the line, from 0; -1 where nothing was told."""
        stage = self.stage
        return RANK[stage] if stage is not None else -1

    @property
    def now(self) -> Stage | None:
        """What people are told: the stage, or what has happened since, such as an attempt that failed."""
        if self.delivered is not None:
            return Stage.DELIVERED
        last = next((one for one in reversed(self.told) if not one.estimated), None)
        aside = last is not None and last.stage in (Stage.FAILED, Stage.RETURNED)
        return last.stage if aside and last is not None else self.stage

    @property
    def last(self) -> Told | None:
        """What was told of the latest moment."""
        return self.told[-1] if self.told else None

    def since(self, stage: Stage) -> Told | None:
        """What first told of a stage; of being delivered, what stands."""
        if stage is Stage.DELIVERED:
            return self.delivered
        return next((one for one in self.told if one.stage is stage), None)


def happened(before: Progress, after: Progress, told: Stage | None = None) -> list[Stage]:
    """What is news once something was told: a stage farther than before, that a delivery is taken back, an attempt that
    failed. A stage that is told late fills a gap in the past, and is no news.
    """
    was, now = before.delivered, after.delivered
    if was is not None and now is None:
        return [Stage.NOT_DELIVERED]
    if before == after:
        return []
    if told in (Stage.FAILED, Stage.RETURNED):
        return [told] if after.now is told else []
    if was is not None and now is not None and was.estimated and not now.estimated:
        return []  # as was thought
    stage = after.stage
    return [stage] if stage is not None and after.rank > before.rank else []


def of_order(before: Mapping[Any, Progress], after: Mapping[Any, Progress], all_packed: bool) -> list[str]:
    """The events of an order that its parcels make, by each parcel's progress before and after something was told.
    `all_packed` says whether all that was ordered is in a parcel.
    """

    def shipped(parcels: Mapping[Any, Progress]) -> bool:
        return any(one.rank >= RANK[Stage.PICKED_UP] for one in parcels.values())

    def done(parcels: Mapping[Any, Progress]) -> bool:
        return bool(parcels) and all(one.delivered is not None for one in parcels.values())

    made = [SHIPPED] if shipped(after) and not shipped(before) else []
    if all_packed and done(after) and not (done(before) and len(before) == len(after)):
        made.append(ALL_DELIVERED)
    return made
