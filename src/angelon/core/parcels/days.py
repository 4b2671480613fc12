"""When something is expected of a parcel, in working days of the country where it goes."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple
from zoneinfo import ZoneInfo

from angelon.core.parcels.stages import RANK, Progress, Stage
from angelon.core.specs.carrier import Carrier
from angelon.core.timing.places import is_holiday, zone_of

PLAIN = Carrier(key="unknown", name="Unknown")
"""What goes for a parcel whose carrier is not known."""


def is_working_day(day: dt.date, carrier: Carrier, country: str) -> bool:
    return day.weekday() in carrier.working_days and not is_holiday(country, day)


def working_days_after(day: dt.date, number: int, carrier: Carrier, country: str) -> dt.date:
    """The day so many working days after another; that itself for 0. Calendar days where it never works."""
    if not carrier.working_days:
        return day + dt.timedelta(days=number)
    for _ in range(number):
        day += dt.timedelta(days=1)
        while not is_working_day(day, carrier, country):
            day += dt.timedelta(days=1)
    return day


class Ahead(NamedTuple):
    """What is expected of a parcel: the day, and the moments (aware, UTC) at which it is late, counts as delivered,
    counts as lost. None where that is not known, or never comes.
    """

    expected: dt.date | None = None
    told: bool = False
    """Whether somebody has told the day; else it is reckoned by the carrier's usual days."""
    late: dt.datetime | None = None
    counts: dt.datetime | None = None
    lost: dt.datetime | None = None


def ahead(
    progress: Progress,
    carrier: Carrier,
    told_day: dt.date | None,
    country: str,
    shop_zone: str,
    heard: dt.datetime,
) -> Ahead:
    """What is expected of a parcel of which something was told last at `heard` (aware). Days end where it goes."""
    if progress.delivered is not None and not progress.delivered.estimated:
        return Ahead(told_day, told_day is not None)
    zone = zone_of(country, "", shop_zone)[0] if country else ZoneInfo(shop_zone)
    expected = told_day
    if expected is None and carrier.days:
        picked = next((one for one in progress.told if RANK.get(one.stage, -1) >= RANK[Stage.PICKED_UP]), None)
        if picked is not None:
            expected = working_days_after(picked.at.astimezone(zone).date(), carrier.days, carrier, country)
    known = Ahead(expected, told_day is not None)
    if progress.delivered is not None:
        return known
    waits = progress.now in (Stage.RETURNED, Stage.READY_TO_COLLECT)  # for the shop, or for the customer
    if expected is not None and not waits:
        known = known._replace(late=_end_of(expected, zone))
        if carrier.counts_after and progress.now is not Stage.FAILED:
            known = known._replace(
                counts=_end_of(working_days_after(expected, carrier.counts_after, carrier, country), zone)
            )
    if carrier.lost_after and not waits:
        last = working_days_after(heard.astimezone(zone).date(), carrier.lost_after, carrier, country)
        known = known._replace(lost=_end_of(last, zone))
    return known


def _end_of(day: dt.date, zone: ZoneInfo) -> dt.datetime:
    return dt.datetime.combine(day + dt.timedelta(days=1), dt.time(), zone).astimezone(dt.UTC)
