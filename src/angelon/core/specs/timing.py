"""When a route's send goes out."""

from __future__ import annotations

import datetime as dt
from functools import cached_property
from typing import Literal

from pydantic import Field, field_validator, model_validator

from angelon.core.specs.base import Spec


def _time(text: str) -> str:
    if text:
        try:
            dt.time.fromisoformat(text)
        except ValueError:
            raise ValueError(f"“{text}” is no time of day: write it like 08:30") from None
        if len(text) != 5:
            raise ValueError(f"“{text}” is no time of day: write it like 08:30")
    return text


class Window(Spec):
    """Local hours in which messages may go out, from `start` up to `end`; over midnight where `end` is the earlier.
    Weekdays count from Monday, 0.
    """

    start: str = "08:00"
    end: str = "20:00"
    weekdays: list[int] = Field(default_factory=lambda: list(range(7)), max_length=7)
    holidays: bool = True
    """Whether public holidays of the reader's country are days like others."""

    @cached_property
    def hours(self) -> tuple[dt.time, dt.time]:
        """When it opens and closes, as times of day."""
        return dt.time.fromisoformat(self.start), dt.time.fromisoformat(self.end)

    @field_validator("start", "end")
    @classmethod
    def _times(cls, text: str) -> str:
        if not text:
            raise ValueError("has to be a time of day, like 08:30")
        return _time(text)

    @field_validator("weekdays")
    @classmethod
    def _days(cls, days: list[int]) -> list[int]:
        if any(day not in range(7) for day in days):
            raise ValueError("holds a weekday that is none: they go from 0 (Monday) to 6")
        return sorted(set(days))

    @model_validator(mode="after")
    def _opens(self) -> Window:
        if not self.weekdays:
            raise ValueError("never opens: choose at least one weekday")
        if self.start == self.end:
            raise ValueError("never opens: it ends when it starts. For the whole day take the window out")
        return self


def _of_year(day: dt.date) -> tuple[int, int]:
    """Month and day; the 29th of February comes after the 28th in every year."""
    return day.month, day.day


_UNITS = {"minutes": "minute", "hours": "hour", "days": "day", "business_days": "business day"}


class Timing(Spec):
    """At an anchor, plus or minus an amount, at a time of day, inside a window, between two dates.

    Anchors: `event` (when the event came), `placed` (when the order was placed), `expected` (the day on which it should
    arrive: the day of `variable`), `previous` (when the customer was last told something about the order). Minutes and
    hours are exact; days and business days keep the local time of day.
    `zone` says whose clock it is: the reader's (from country and phone number), else the store's. What falls into the
    past goes out at once, or not at all (`late`).
    """

    anchor: Literal["event", "placed", "expected", "previous"] = "event"
    variable: str = Field("", max_length=60)
    amount: int = Field(0, ge=-10_000, le=100_000)
    unit: Literal["minutes", "hours", "days", "business_days"] = "minutes"
    at: str = ""
    zone: Literal["recipient", "store"] = "recipient"
    window: Window | None = None
    not_before: dt.date | None = None
    not_after: dt.date | None = None
    yearly: bool = False
    """Whether the two dates are a season that returns every year: month and day alone count, it may reach over New
    Year, and what would go out outside it does not.
    """
    late: Literal["now", "skip"] = "now"

    _at = field_validator("at")(_time)

    @cached_property
    def span(self) -> dt.timedelta:
        """The minutes or hours that it waits, as an exact span."""
        return dt.timedelta(**{self.unit: self.amount})

    @cached_property
    def label(self) -> str:
        """What it waits for, as people say it; without its bounds."""
        anchor = {
            "event": "the event",
            "placed": "the order was placed",
            "expected": self.variable.replace("_", " "),
            "previous": "the last message about the order",
        }[self.anchor]
        at = f" at {self.at}" if self.at else ""
        if self.amount == 0:
            return (
                "at once"
                if self.anchor == "event" and not self.at
                else f"on the day of {anchor}{at}"
                if self.at
                else f"when {anchor}"
            )
        number = abs(self.amount)
        return (
            f"{number} {_UNITS[self.unit]}{'s' if number > 1 else ''} {'after' if self.amount > 0 else 'before'} "
            f"{anchor}{at}"
        )

    def in_season(self, day: dt.date) -> bool:
        """Whether a day is in the season that returns every year; every day is where there is none."""
        if not self.yearly or self.not_before is None or self.not_after is None:
            return True
        first, last, here = (_of_year(one) for one in (self.not_before, self.not_after, day))
        return first <= here <= last if first <= last else here >= first or here <= last

    @property
    def at_once(self) -> bool:
        """Whether it asks for nothing at all."""
        return self.anchor == "event" and not (
            self.amount or self.at or self.window or self.not_before or self.not_after
        )

    @model_validator(mode="after")
    def _sound(self) -> Timing:
        if self.anchor == "expected" and not self.variable:
            raise ValueError("needs the variable that holds the expected day")
        if self.yearly and not (self.not_before and self.not_after):
            raise ValueError("returns every year, and for that needs its first day and its last: give both dates")
        if not self.yearly and self.not_before and self.not_after and self.not_after < self.not_before:
            raise ValueError("ends before it begins: the last day is earlier than the first")
        if self.anchor == "previous" and self.amount < 0:
            raise ValueError("would be before the send that it counts from: wait after it")
        if self.anchor == "event" and self.amount < 0:
            raise ValueError("would be before the event itself: choose another anchor, or wait after it")
        return self
