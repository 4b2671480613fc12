"""The moment at which a send is due. Pure: the same arguments give the same moment.

Local times that a clock change skips are moved on by as much as it skipped; of those that come twice, the first is
meant (PEP 495, fold 0).
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass
from zoneinfo import ZoneInfo

from angelon.core.specs.timing import Timing, Window

FAR = 400
"""Days ahead that are looked at for a window that opens."""

IsHoliday = Callable[[dt.date], bool]


@dataclass(frozen=True, slots=True)
class Due:
    """When (aware, UTC), and why then; or never, with the reason."""

    at: dt.datetime | None
    why: str


def moment(day: dt.date, time: dt.time, zone: ZoneInfo) -> dt.datetime:
    """A local time as a moment in UTC; one that the clocks skip comes out as much later as they skip."""
    return dt.datetime.combine(day, time, zone).astimezone(dt.UTC)


def due(timing: Timing, anchor: dt.datetime | dt.date, now: dt.datetime, zone: ZoneInfo, holiday: IsHoliday) -> Due:
    """When a send is due. `anchor` is an aware moment, or a day. Never before `now`."""
    raw = _shifted(timing, anchor, zone, holiday)
    reasons = [timing.label]
    at = raw
    if at < now:
        if timing.late == "skip" and (timing.anchor != "event" or timing.amount or timing.at):
            return Due(None, f"Its time, {_shown(raw, zone)}, has passed.")
        at = now
        if timing.amount or timing.at:
            reasons.append("its time has passed, so at once")
    if timing.not_before and not timing.yearly:
        opens = moment(timing.not_before, dt.time(), zone)
        if at < opens:
            at = opens
            reasons.append(f"not before {timing.not_before:%-d %B}")
    if timing.window:
        inside = next_inside(timing.window, at, zone, holiday)
        if inside is None:
            return Due(None, "The window never opens.")
        if inside > at:
            reasons.append(f"moved into the window {timing.window.start} to {timing.window.end}")
            at = inside
    if not timing.in_season(at.astimezone(zone).date()):
        return Due(None, f"It would go out on {_shown(at, zone)}, outside its season, {season(timing)}.")
    if timing.not_after and not timing.yearly and at.astimezone(zone).date() > timing.not_after:
        return Due(None, f"It would go out on {_shown(at, zone)}, after {timing.not_after:%-d %B %Y}, the last day.")
    return Due(at, ", ".join(reasons))


def _shifted(timing: Timing, anchor: dt.datetime | dt.date, zone: ZoneInfo, holiday: IsHoliday) -> dt.datetime:
    """The anchor plus the amount, at the time of day, before any bound."""
    by_clock = timing.unit in ("minutes", "hours")
    if isinstance(anchor, dt.datetime):
        exact = anchor.astimezone(dt.UTC)
        if by_clock:
            return exact + timing.span
        if timing.amount == 0 and not timing.at:
            return exact
        local = anchor.astimezone(zone)
        day, time = local.date(), local.time()
    else:
        day, time = anchor, dt.time(9)
        if by_clock:
            return moment(day, dt.time.fromisoformat(timing.at) if timing.at else time, zone) + timing.span
    if timing.unit == "days":
        day += dt.timedelta(days=timing.amount)
    else:
        step = 1 if timing.amount > 0 else -1
        for _ in range(abs(timing.amount)):
            day += dt.timedelta(days=step)
            while day.weekday() >= 5 or holiday(day):
                day += dt.timedelta(days=step)
    return moment(day, dt.time.fromisoformat(timing.at) if timing.at else time, zone)


def inside(window: Window, at: dt.datetime, zone: ZoneInfo, holiday: IsHoliday) -> bool:
    """Whether a window is open at a moment. A window over midnight belongs to the day on which it starts."""
    local = at.astimezone(zone)
    time = local.time()
    start, end = window.hours
    day = local.date()
    if start < end:
        return start <= time < end and _open(window, day, holiday)
    if time >= start:
        return _open(window, day, holiday)
    return time < end and _open(window, day - dt.timedelta(days=1), holiday)


def _open(window: Window, day: dt.date, holiday: IsHoliday) -> bool:
    return day.weekday() in window.weekdays and (window.holidays or not holiday(day))


def next_inside(window: Window, at: dt.datetime, zone: ZoneInfo, holiday: IsHoliday) -> dt.datetime | None:
    """The first moment from `at` on at which a window is open; None where it does not open for over a year."""
    if inside(window, at, zone, holiday):
        return at
    first = at.astimezone(zone).date() - dt.timedelta(days=1)
    start, _ = window.hours
    for ahead in range(FAR):
        day = first + dt.timedelta(days=ahead)
        if not _open(window, day, holiday):
            continue
        opens = _first_at(day, start, zone)
        if opens >= at and inside(window, opens, zone, holiday):
            return opens
    return None


def _first_at(day: dt.date, start: dt.time, zone: ZoneInfo) -> dt.datetime:
    """The first moment of a day whose local time is `start` or later: where the clocks skip it, when they do."""
    late = moment(day, start, zone)
    if late.astimezone(zone).time() == start:
        return late
    early = dt.datetime.combine(day, start, zone).replace(fold=1).astimezone(dt.UTC)
    while early < late:
        local = early.astimezone(zone)
        if (local.date(), local.time()) >= (day, start):
            return early
        early += dt.timedelta(minutes=1)
    return late


def season(timing: Timing) -> str:
    """The season that returns every year: `1 December to 24 December of every year`."""
    return f"{timing.not_before:%-d %B} to {timing.not_after:%-d %B} of every year"


def describe(timing: Timing) -> str:
    """A timing as people say it."""
    parts = [timing.label]
    if timing.window:
        names = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
        days = (
            "" if len(timing.window.weekdays) == 7 else " on " + ", ".join(names[day] for day in timing.window.weekdays)
        )
        parts.append(
            f"between {timing.window.start} and "
            f"{timing.window.end}{days}{'' if timing.window.holidays else ', not on holidays'} "
            f"{'there' if timing.zone == 'recipient' else 'here'}"
        )
    if timing.yearly:
        return ", ".join([*parts, f"only from {season(timing)}"])
    if timing.not_before:
        parts.append(f"not before {timing.not_before:%-d %B %Y}")
    if timing.not_after:
        parts.append(f"until {timing.not_after:%-d %B %Y}")
    return ", ".join(parts)


def _shown(at: dt.datetime, zone: ZoneInfo) -> str:
    return f"{at.astimezone(zone):%-d %B %Y %H:%M}"
