"""One event before a store's set-up at a moment, and what its routes ask alike."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, field
from typing import Any
from zoneinfo import ZoneInfo

from angelon.core.conditions.evaluate import Subject
from angelon.core.planning.inputs import Event, Facts, Setup
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.timing.places import zone_of


@dataclass(slots=True, eq=False)
class PlanningContext:
    """An event and all that routes are decided by, with what has been worked out for one of them and holds for all.

    What routes before are about to tell is no part of it: `facts` are those from before the event. `now` is aware.
    """

    event: Event
    reading: Reading
    variables: Variables
    setup: Setup
    facts: Facts
    now: dt.datetime
    zone: ZoneInfo = field(init=False)
    """The store's own."""
    today: dt.date = field(init=False)
    """The day in the store's zone."""
    country: str = field(init=False)
    """The reader's, else the store's."""
    reader: tuple[ZoneInfo, str] = field(init=False)
    """The reader's zone, and how it is known."""
    subjects: dict[str, Subject] = field(default_factory=dict)
    """What conditions have looked at, by name."""
    kept: dict[tuple[Any, ...], Any] = field(default_factory=dict)
    """Whatever else has been worked out; its first part says what it is."""

    def __post_init__(self) -> None:
        self.zone = ZoneInfo(self.setup.store.timezone)
        self.today = self.now.astimezone(self.zone).date()
        self.country = self.reading.context.country or self.setup.store.country
        self.reader = zone_of(self.country, self.reading.text("phone"), self.setup.store.timezone)
